"""aiohttp's server: one request from the call of its handler to the return."""

from functools import wraps

from .. import recorder
from . import routes


def _open(request):
    try:
        if not recorder.active or recorder.around() is not None and recorder.around().kind not in ("block", "http"):
            return None
        warm_up = bool(request.headers.get("X-Ask-Less-Warm-Up"))
        return recorder.begin("http", routes.guessed(request.method, request.path), request.path_qs, warm_up)
    except Exception as error:
        recorder.complain("can't tell aiohttp's requests apart: %s: %s" % (type(error).__name__, error))
        return None


def _name(opened, request):
    resource = getattr(getattr(getattr(request, "match_info", None), "route", None), "resource", None)
    if resource is not None:
        opened[0].route = routes.named(request.method, routes.from_converters(resource.canonical) or "/", request.path)


def _recorded(handler):
    @wraps(handler)
    async def handle(request):
        opened = _open(request)
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
    plain = module.Server.__init__

    @wraps(plain)
    def init(self, handler, *args, **kwargs):
        plain(self, _recorded(handler), *args, **kwargs)

    module.Server.__init__ = init
