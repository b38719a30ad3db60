"""ASGI: one request from the server's call of the application to its return.

The request that a layer has opened is in the scope, which inner layers get. The context alone does
not tell: a server may start the task of a connection's next request inside that of the one before.
"""

import sys
from functools import wraps

from .. import recorder
from . import routes, wsgi
from .server_hooks import INSIDE, replace_application

_WARM_UP = b"x-ask-less-warm-up"
OPENED = "askless.request"  # the key in a scope


def _is_inner(scope):
    """Whether an outer layer has begun the request, or code that calls the application itself, in
    this very task.
    """
    if scope.get(OPENED) is not None or not recorder.is_outermost(INSIDE):
        return True
    request = recorder.around()
    return request is not None and request.kind == "http" and request.task is _task()


def _task():
    asyncio = sys.modules.get("asyncio")
    try:
        return asyncio.current_task()
    except (AttributeError, RuntimeError):  # no event loop of asyncio's
        return None


def open_request(scope):
    """Begin the request of an ASGI scope; None when nothing records, or an outer layer has begun
    it.
    """
    if not recorder.active or scope.get("type") not in ("http", "websocket"):
        return None
    if _is_inner(scope):
        return None
    path = scope.get("path") or "/"
    query = scope.get("query_string") or ""
    if isinstance(query, bytes):
        query = query.decode("latin-1")
    method = scope.get("method", "GET") if scope["type"] == "http" else "WEBSOCKET"
    headers = {name.lower(): value for name, value in scope.get("headers") or ()}
    warm_up, trace = bool(headers.get(_WARM_UP)), headers.get(b"traceparent", b"").decode("latin-1")
    opened = recorder.begin(
        "http", routes.guessed(method, path), path + ("?" + query if query else ""), warm_up, trace
    )
    opened[0].task = _task()
    scope[OPENED] = opened[0].ident
    return opened


async def run(application, scope, receive, send, opened):
    """Call the application inside an open request."""
    request = opened[0]

    async def send_seen(message):
        if message.get("type") == "http.response.start":
            try:
                request.status = int(message.get("status", 0))
                if "path_template" in scope:  # Litestar's router was here
                    _name(request, scope)
            except Exception:
                pass
        await send(message)

    try:
        await application(scope, receive, send_seen)
    except BaseException:
        recorder.end(*opened, status=request.status or 500)
        raise
    recorder.end(*opened)


def _name(request, scope):
    pattern = routes.from_converters(scope["path_template"]) or "/"
    request.route = routes.named(scope.get("method", "GET"), pattern, scope.get("path", ""))


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


def install_hypercorn(module):
    """hypercorn, whatever application it serves."""
    replace_application(module.ASGIWrapper, "__init__", 1, "app", recorded)
    wsgi.install_hypercorn(module)


def install_granian(module):
    """Granian, whatever ASGI application it serves."""
    replace_application(module, "_callback_wrapper", 0, "callback", recorded)
