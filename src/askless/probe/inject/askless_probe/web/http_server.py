"""`http.server` of the standard library: one request from its parsed head to the end of its handler's method."""

from functools import wraps

from .. import recorder
from . import routes


def install(module):
    """Wrap the two methods between which a request is handled. Handlers with a loop of their own are left alone."""
    cls = module.BaseHTTPRequestHandler
    one_plain, parse_plain, response_plain = cls.handle_one_request, cls.parse_request, cls.send_response

    @wraps(parse_plain)
    def parse_request(self):
        parsed = parse_plain(self)
        if parsed and getattr(self, "_askless_waiting", False):
            self._askless_waiting = False
            self._askless_opened = _open(self)
        return parsed

    @wraps(one_plain)
    def handle_one_request(self):
        self._askless_waiting, self._askless_opened = recorder.active, None
        try:
            return one_plain(self)
        finally:
            opened, self._askless_opened, self._askless_waiting = self._askless_opened, None, False
            if opened is not None:
                recorder.end(*opened)

    @wraps(response_plain)
    def send_response(self, code, *args, **kwargs):
        opened = getattr(self, "_askless_opened", None)
        if opened is not None:
            opened[0].status = int(code)
        return response_plain(self, code, *args, **kwargs)

    cls.handle_one_request, cls.parse_request, cls.send_response = handle_one_request, parse_request, send_response


def _open(handler):
    try:
        around = recorder.around()
        if around is not None and around.kind != "block":
            return None
        path = handler.path.split("?", 1)[0]
        warm_up = bool(handler.headers.get("X-Ask-Less-Warm-Up"))
        return recorder.begin("http", routes.guessed(handler.command, path), handler.path, warm_up)
    except Exception as error:
        recorder.complain("can't tell the requests of http.server apart: %s: %s" % (type(error).__name__, error))
        return None
