"""aiohttp's server: one request from the call of its handler to the return."""

from functools import wraps

from .. import recorder
from . import routes, server_hooks


def _name(opened, request):
    resource = getattr(
        getattr(getattr(request, "match_info", None), "route", None), "resource", None
    )
    if resource is not None:
        opened[0].route = routes.named(
            request.method, routes.from_converters(resource.canonical) or "/", request.path
        )


def _recorded(handler):
    @wraps(handler)
    async def handle(request):
        opened = server_hooks.opened(
            "aiohttp", request.method, request.path, request.path_qs, request.headers
        )
        if opened is None:
            return await handler(request)
        status = 500
        try:
            response = await handler(request)
            status = getattr(response, "status", 0)
            return response
        except Exception as error:
            status = getattr(error, "status", 500)
            raise
        finally:
            try:
                _name(opened, request)
            except Exception:
                pass
            recorder.end(*opened, status=status)

    return handle


def install(module):
    """Wrap the handler that a `Server` is given: an application's, or one of the program's own."""
    server_hooks.replace_application(module.Server, "__init__", 1, "handler", _recorded)
