"""Sanic's own server: one request from the call of its handler to the return, with the route's
template.

Sanic compiles some methods of its classes again; the handler that a connection's protocol calls is
the last word.
"""

import re
from functools import wraps

from .. import recorder
from . import routes, server_hooks

_CONVERTER = re.compile(r"<([^<>:]+)(?::[^<>]*)?>")  # the name first, unlike Flask's and Django's


def _recorded(handler):
    @wraps(handler)
    async def handle(request):
        target = request.path + ("?" + request.query_string if request.query_string else "")
        opened = server_hooks.opened("Sanic", request.method, request.path, target, request.headers)
        if opened is None:
            return await handler(request)
        try:
            return await handler(request)
        finally:
            try:
                opened[0].status = getattr(getattr(request.stream, "response", None), "status", 0)
                if request.uri_template:
                    pattern = "/" + _CONVERTER.sub(r"{\1}", request.uri_template).lstrip("/")
                    opened[0].route = routes.named(request.method, pattern, request.path)
            except Exception:
                pass
            recorder.end(*opened)

    return handle


def install(module):
    """Wrap the handler of each connection."""
    plain = module.HttpProtocol.__init__

    @wraps(plain)
    def init(self, *args, **kwargs):
        plain(self, *args, **kwargs)
        self.request_handler = _recorded(self.request_handler)

    module.HttpProtocol.__init__ = init
