"""Shows a page on loopback, to anyone who has its address, and tells browsers when there is a newer
one.
"""

from __future__ import annotations

import errno
import hmac
import secrets
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from http import HTTPStatus
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

from askless.core.errors import AskLessError

HOST = "127.0.0.1"
# how often a browser is reported that nothing is new, so that one that has gone is noticed
_PING_S = 15.0
_STREAMS_MOST = 32
_HEADERS = {
    "X-Content-Type-Options": "nosniff",
    "X-Frame-Options": "DENY",
    "Referrer-Policy": "no-referrer",
    "Cache-Control": "no-store",
    "Cross-Origin-Resource-Policy": "same-origin",
}


class ServedPage:
    """A page at an address that can't be guessed."""

    def __init__(self, port: int = 0) -> None:
        """Raises AskLessError port-in-use, bad-port."""
        self.token = secrets.token_urlsafe(18)
        self._page = b""
        self._version = 0
        self._changed = threading.Condition()
        self._closing = False
        self._streams = 0
        self._server = _server(port, self)
        self.port = int(self._server.server_address[1])

    @property
    def url(self) -> str:
        """Where the page is."""
        return f"http://{HOST}:{self.port}/{self.token}/"

    @property
    def events(self) -> str:
        """Where browsers hear of a newer page, from its own address."""
        return f"/{self.token}/events"

    def show(self, page: bytes) -> None:
        """Show this page from now on."""
        with self._changed:
            self._page = page
            self._version += 1
            self._changed.notify_all()

    def __enter__(self) -> ServedPage:
        return self

    def __exit__(self, *details: object) -> None:
        """Let go of the port."""
        self._server.server_close()

    @contextmanager
    def serving(self) -> Iterator[None]:
        """Answer while the block runs."""
        thread = threading.Thread(
            target=self._server.serve_forever, args=(0.1,), name="askless-serve", daemon=True
        )
        thread.start()
        try:
            yield
        finally:
            with self._changed:
                self._closing = True
                self._changed.notify_all()
            self._server.shutdown()
            thread.join(5)

    def refused(self, host: str, path: str) -> str:
        """Why a request is refused; '' where it is not. Another host's name is what a foreign page
        would come with.
        """
        if host not in (f"{HOST}:{self.port}", f"localhost:{self.port}"):
            return "This page is only available under its own address."
        given = path.split("?")[0].strip("/").split("/")[0]
        if not hmac.compare_digest(given.encode("utf-8", "replace"), self.token.encode()):
            return (
                "The address lacks its token: use the complete address that askless serve printed."
            )
        return ""

    def page(self) -> bytes:
        """The newest page."""
        with self._changed:
            return self._page

    def _next(self, last: int) -> int:
        """The version once there is another one, or the same after a while; -1 at the end."""
        with self._changed:
            self._changed.wait_for(lambda: self._closing or self._version != last, _PING_S)
            return -1 if self._closing else self._version

    def news(self) -> Iterator[bytes]:
        """Server-sent events (HTML Living Standard, 9.2): one for each newer page, and a comment
        now and then.
        """
        with self._changed:
            seen = self._version
            if self._streams >= _STREAMS_MOST:
                return
            self._streams += 1
        try:
            yield b"retry: 2000\n\n"
            while True:
                last = seen
                seen = self._next(last)
                if seen < 0:
                    return
                grown = seen != last
                yield f"event: grown\ndata: {seen}\n\n".encode() if grown else b": nothing new\n\n"
        finally:
            with self._changed:
                self._streams -= 1


def _server(port: int, served: ServedPage) -> ThreadingHTTPServer:
    class Handler(_Handler):
        of = served

    if not 0 <= port <= 65_535:
        raise AskLessError("bad-port", f"there is no port {port}", "use 1 to 65535, or omit --port")
    try:
        return _Server((HOST, port), Handler)
    except OSError as error:
        if error.errno == errno.EADDRINUSE:
            raise AskLessError(
                "port-in-use",
                f"port {port} is in use",
                "use another one, or omit --port to use any free port",
            ) from None
        raise AskLessError(
            "bad-port",
            f"can't listen on port {port}: {error.strerror}",
            "use another one above 1023",
        ) from None


class _Server(ThreadingHTTPServer):
    daemon_threads = True
    block_on_close = False
    allow_reuse_address = False

    def handle_error(self, request: Any, client_address: Any) -> None:
        """A browser that goes away in the middle is not an error."""


class _Handler(BaseHTTPRequestHandler):
    of: ServedPage
    server_version = "askless"
    sys_version = ""
    timeout = 60

    def do_GET(self) -> None:
        """The page, or what is new about it."""
        refusal = self.of.refused(self.headers.get("Host", ""), self.path)
        if refusal:
            self._answer(HTTPStatus.FORBIDDEN, refusal.encode(), "text/plain; charset=utf-8")
            return
        rest = self.path.split("?")[0].strip("/").split("/")[1:]
        if rest == ["events"]:
            self._stream()
        elif rest in ([], [""]):
            self._answer(HTTPStatus.OK, self.of.page(), "text/html; charset=utf-8")
        else:
            self._answer(
                HTTPStatus.NOT_FOUND, b"There is nothing else here.", "text/plain; charset=utf-8"
            )

    do_HEAD = do_GET

    def _answer(self, status: HTTPStatus, content: bytes, kind: str) -> None:
        self._begin(status, {"Content-Type": kind, "Content-Length": str(len(content))})
        if self.command != "HEAD":
            self.wfile.write(content)

    def _begin(self, status: HTTPStatus, headers: dict[str, str]) -> None:
        self.send_response(status)
        for name, value in {**headers, **_HEADERS}.items():
            self.send_header(name, value)
        self.end_headers()

    def _stream(self) -> None:
        self._begin(HTTPStatus.OK, {"Content-Type": "text/event-stream"})
        if self.command == "HEAD":
            return
        for event in self.of.news():
            self.wfile.write(event)
            self.wfile.flush()

    def log_message(self, format: str, *args: Any) -> None:
        """Standard error is for people."""
