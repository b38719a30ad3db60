"""A stand-in for the customs' office: it thinks for a while, then grants everything."""

from __future__ import annotations

import socketserver
import threading
import time
import urllib.request

THINKS_S = 0.04
_address: tuple[str, int] | None = None
_lock = threading.Lock()


class _Customs(socketserver.StreamRequestHandler):
    def handle(self) -> None:
        while self.rfile.readline().strip():
            pass
        time.sleep(THINKS_S)
        self.wfile.write(b"HTTP/1.0 200 OK\r\nContent-Length: 7\r\n\r\ngranted")


class _Server(socketserver.ThreadingTCPServer):
    daemon_threads = True


def ask(number: int) -> str:
    """What customs say to a clearance: granted."""
    global _address
    with _lock:
        if _address is None:
            server = _Server(("127.0.0.1", 0), _Customs)
            threading.Thread(target=server.serve_forever, daemon=True).start()
            _address = server.server_address[0], server.server_address[1]
    with urllib.request.urlopen(
        f"http://{_address[0]}:{_address[1]}/clearances/{number}"
    ) as answer:
        return str(answer.read().decode())
