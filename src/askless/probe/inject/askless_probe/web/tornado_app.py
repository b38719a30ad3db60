"""Tornado: one request from the start of its handler's work to the end, with the rule that
matched.
"""

from functools import wraps

from .. import recorder
from . import routes, server_hooks


def install(module):
    """Wrap the coroutine in which a handler prepares, runs its method and finishes."""
    plain = module.RequestHandler._execute

    @wraps(plain)
    async def execute(self, *args, **kwargs):
        request = self.request
        opened = server_hooks.opened(
            "Tornado", request.method, request.path, request.uri, request.headers
        )
        if opened is None:
            return await plain(self, *args, **kwargs)
        try:
            _name(opened[0], self, request)
        except Exception as error:
            recorder.warn_once(
                "can't name Tornado's routes: %s: %s" % (type(error).__name__, error)
            )
        try:
            return await plain(self, *args, **kwargs)
        finally:
            recorder.end(*opened, status=self.get_status())

    module.RequestHandler._execute = execute


def _name(request, handler, request_):
    for rule in getattr(handler.application.wildcard_router, "rules", ()):
        regex = getattr(rule.matcher, "regex", None)
        if rule.target is type(handler) and regex is not None and regex.match(request_.path):
            request.route = routes.named(
                request_.method, routes.from_regex(regex.pattern) or "/", request_.path
            )
            return
