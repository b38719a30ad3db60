"""Flask and Quart: requests under any server or test client, with the rule that matched as the
route.
"""

from .. import recorder
from . import asgi, routes, wsgi


def _name_route(request):
    try:
        current = recorder.current.get()
        if current is not None and current.kind == "http" and request.url_rule is not None:
            current.route = routes.named(
                request.method, routes.from_converters(request.url_rule.rule), request.path
            )
    except Exception as error:
        recorder.warn_once(
            "can't name the application's routes: %s: %s" % (type(error).__name__, error)
        )


def _name_flask(sender, **ignored):
    from flask import request

    _name_route(request)


async def _name_quart(sender, **ignored):
    from quart import request

    _name_route(request)


def install(module):
    """Wrap `Flask.__call__` and listen to its public signal `request_started`."""
    plain = module.Flask.__call__

    def call(self, environ, start_response):
        return wsgi.recorded(lambda *both: plain(self, *both))(environ, start_response)

    module.Flask.__call__ = call
    module.request_started.connect(_name_flask)


def install_quart(module):
    """The same for Quart."""
    module.Quart.__call__ = asgi.recorded_method(module.Quart.__call__)
    module.request_started.connect(_name_quart)
