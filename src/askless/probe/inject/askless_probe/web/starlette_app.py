"""Starlette and what is built on it (FastAPI): requests under any server or test client, with the
route's pattern.
"""

from functools import wraps

from .. import recorder
from . import asgi, routes


def install(module):
    """Wrap `Starlette.__call__`."""
    module.Starlette.__call__ = asgi.recorded_method(module.Starlette.__call__)


def install_routing(module):
    """Learn the pattern from the route that handles the request; mounts put their own path in
    front.
    """
    _before_handling(module.Mount, _mounted)
    _before_handling(module.Route, _named)


def install_fastapi(module):
    """FastAPI's routes, which may handle by themselves."""
    if "handle" in vars(module.APIRoute):
        _before_handling(module.APIRoute, _named)


def _before_handling(cls, note):
    plain = cls.handle

    @wraps(plain)
    async def handle(self, scope, receive, send):
        try:
            request = recorder.current.get()
            if request is not None and request.kind == "http":
                note(self, scope, request)
        except Exception as error:
            recorder.warn_once(
                "can't name Starlette's routes: %s: %s" % (type(error).__name__, error)
            )
        await plain(self, scope, receive, send)

    cls.handle = handle


def _mounted(mount, scope, request):
    request.prefix += mount.path.rstrip("/")


def _named(route, scope, request):
    pattern = request.prefix + routes.from_converters(route.path)
    request.route = routes.named(scope.get("method", "GET"), pattern or "/", scope.get("path", ""))
