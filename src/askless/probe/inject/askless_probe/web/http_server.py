"""`http.server` of the standard library: one request from its parsed head to the end of its
handler's method.
"""

from functools import wraps

from .. import recorder
from . import server_hooks


def install(module):
    """Wrap the two methods between which a request is handled. Handlers with a loop of their own
    are left alone.
    """
    cls = module.BaseHTTPRequestHandler
    one_plain, parse_plain, response_plain = (
        cls.handle_one_request,
        cls.parse_request,
        cls.send_response,
    )

    @wraps(parse_plain)
    def parse_request(self):
        parsed = parse_plain(self)
        if parsed and getattr(self, "_askless_waiting", False):
            self._askless_waiting = False
            path = self.path.split("?", 1)[0]
            self._askless_opened = server_hooks.opened(
                "http.server", self.command, path, self.path, self.headers, ("block",)
            )
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

    cls.handle_one_request, cls.parse_request, cls.send_response = (
        handle_one_request,
        parse_request,
        send_response,
    )
