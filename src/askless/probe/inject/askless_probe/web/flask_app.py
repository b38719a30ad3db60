"""Flask: requests under any server or test client, with the rule that matched as the route."""

import re

from .. import recorder
from . import wsgi

_CONVERTER = re.compile(r"<(?:[^<>:]*:)?([^<>]+)>")


def _name_route(sender, **ignored):
    try:
        from flask import request

        current = recorder.current.get()
        if current is not None and current.kind == "http" and request.url_rule is not None:
            current.route = "%s %s" % (request.method, _CONVERTER.sub(r"{\1}", request.url_rule.rule))
    except Exception as error:
        recorder.complain("can't name Flask's routes: %s: %s" % (type(error).__name__, error))


def install(module):
    """Wrap `Flask.__call__` and listen to its public signal `request_started`."""
    plain = module.Flask.__call__

    def call(self, environ, start_response):
        return wsgi.recorded(lambda *both: plain(self, *both))(environ, start_response)

    module.Flask.__call__ = call
    module.request_started.connect(_name_route)
