"""Tornado: one request from the start of its handler's work to the end, with the rule that matched."""

from functools import wraps

from .. import recorder
from . import routes


def install(module):
    """Wrap the coroutine in which a handler prepares, runs its method and finishes."""
    plain = module.RequestHandler._execute

    @wraps(plain)
    async def execute(self, *args, **kwargs):
        opened = None
        try:
            around = recorder.around()
            if recorder.active and (around is None or around.kind in ("block", "http")):
                asked = self.request
                warm_up = bool(asked.headers.get("X-Ask-Less-Warm-Up"))
                opened = recorder.begin("http", _route(self, asked), asked.uri, warm_up)
        except Exception as error:
            recorder.complain("can't tell Tornado's requests apart: %s: %s" % (type(error).__name__, error))
        if opened is None:
            return await plain(self, *args, **kwargs)
        try:
            return await plain(self, *args, **kwargs)
        finally:
            recorder.end(*opened, status=self.get_status())

    module.RequestHandler._execute = execute


def _route(handler, asked):
    for rule in getattr(handler.application.wildcard_router, "rules", ()):
        regex = getattr(rule.matcher, "regex", None)
        if rule.target is type(handler) and regex is not None and regex.match(asked.path):
            return routes.named(asked.method, routes.from_regex(regex.pattern) or "/", asked.path)
    return routes.guessed(asked.method, asked.path)
