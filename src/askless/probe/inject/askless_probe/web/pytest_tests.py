"""pytest: each test is a request; what its fixtures set up stays outside."""

from functools import wraps

from .. import recorder


def install(module):
    """Register a plug-in with every run, once pytest reads the plug-ins that the environment
    names.
    """
    plain = module.PytestPluginManager.consider_env

    @wraps(plain)
    def consider_env(self):
        plain(self)
        try:
            if not self.has_plugin(_NAME):
                self.register(_plugin(), _NAME)
        except Exception as error:
            recorder.warn_once("can't tell tests apart: %s: %s" % (type(error).__name__, error))

    module.PytestPluginManager.consider_env = consider_env


_NAME = "askless-requests"


def _plugin():
    import pytest

    class Tests:
        @pytest.hookimpl(hookwrapper=True)
        def pytest_runtest_call(self, item):
            opened = None
            if recorder.active and recorder.around() is None:
                opened = recorder.begin("test", item.nodeid)
            yield
            if opened is not None:
                recorder.end(*opened)

    return Tests()
