"""Hooks that run once a module of interest has been imported; a module that is never imported costs nothing."""

import sys

# module of the program -> (module of the recorder, function to call with the imported module).
# A new driver, framework or ORM is one file and one line here.
HOOKS = {
    "sqlite3.dbapi2": ("askless_probe.drivers.sqlite", "install"),
    "wsgiref.handlers": ("askless_probe.web.wsgi", "install_wsgiref"),
    "werkzeug.serving": ("askless_probe.web.wsgi", "install_werkzeug"),
    "flask": ("askless_probe.web.flask_app", "install"),
    "sqlalchemy.orm": ("askless_probe.orm.sqlalchemy_orm", "install"),
}


def _run(name):
    from . import recorder

    module_name, function = HOOKS[name]
    try:
        hook_module = __import__(module_name, fromlist=[function])
        getattr(hook_module, function)(sys.modules[name])
    except Exception as error:
        recorder.complain("can't record %s: %s: %s" % (name, type(error).__name__, error))


class _Watcher:
    """A finder that finds nothing itself: it lets the others find a watched module and runs the hook after it."""

    def find_spec(self, name, path=None, target=None):
        if name not in HOOKS:
            return None
        for finder in sys.meta_path:
            if finder is self or not hasattr(finder, "find_spec"):
                continue
            spec = finder.find_spec(name, path, target)
            if spec is not None:
                _watch_loader(spec.loader, name)
                return spec
        return None


def _watch_loader(loader, name):
    """Make this one loader run the hook after the module's own code. The loader object stays what it was."""
    original = getattr(loader, "exec_module", None)
    if original is None:
        return

    def exec_module(module):
        try:
            del loader.exec_module
        except AttributeError:
            pass
        original(module)
        _run(name)

    try:
        loader.exec_module = exec_module
    except (AttributeError, TypeError):
        pass


def install():
    """Watch for the modules of HOOKS; hook at once those that are there already."""
    sys.meta_path.insert(0, _Watcher())
    for name in HOOKS:
        if name in sys.modules:
            _run(name)
