"""ASGI: one request from the server's call of the application to its return."""

from functools import wraps

from .. import recorder
from .wsgi import guessed_route

_WARM_UP = b"x-ask-less-warm-up"


def open_request(scope):
    """Begin the request of an ASGI scope; None when nothing records, or an outer layer has begun it."""
    if not recorder.active or scope.get("type") not in ("http", "websocket"):
        return None
    around = recorder.current.get()
    if around is not None and around.kind != "block":
        return None
    path = scope.get("path") or "/"
    query = scope.get("query_string") or ""
    if isinstance(query, bytes):
        query = query.decode("latin-1")
    method = scope.get("method", "GET") if scope["type"] == "http" else "WEBSOCKET"
    warm_up = any(name.lower() == _WARM_UP and value for name, value in scope.get("headers") or ())
    return recorder.begin("http", guessed_route(method, path), path + ("?" + query if query else ""), warm_up)


async def run(application, scope, receive, send, opened):
    """Call the application inside an open request."""
    request = opened[0]

    async def send_seen(message):
        if message.get("type") == "http.response.start":
            try:
                request.status = int(message.get("status", 0))
            except (TypeError, ValueError):
                pass
        await send(message)

    try:
        await application(scope, receive, send_seen)
    except BaseException:
        recorder.end(*opened, status=request.status or 500)
        raise
    recorder.end(*opened)


def opened_safely(scope):
    """`open_request`, whatever the scope holds."""
    try:
        return open_request(scope)
    except Exception as error:
        recorder.stop("%s: %s" % (type(error).__name__, error))
        return None


def recorded(application):
    """The application, each call of it a request."""

    @wraps(application, updated=())
    async def call(scope, receive, send):
        opened = opened_safely(scope)
        if opened is None:
            await application(scope, receive, send)
        else:
            await run(application, scope, receive, send, opened)

    return call


def recorded_method(plain):
    """The same for an application's `__call__`."""

    @wraps(plain)
    async def call(self, scope, receive, send):
        opened = opened_safely(scope)
        if opened is None:
            await plain(self, scope, receive, send)
        else:
            await run(lambda *three: plain(self, *three), scope, receive, send, opened)

    return call


def install_uvicorn(module):
    """uvicorn, whatever application it serves."""
    plain = module.Config.load

    @wraps(plain)
    def load(self):
        plain(self)
        application = getattr(self, "loaded_app", None)
        if callable(application):
            self.loaded_app = recorded(application)

    module.Config.load = load
