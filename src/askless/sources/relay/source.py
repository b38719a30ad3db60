"""The source `relay`: is between any program and its database server, forwards all bytes, and reads
them.
"""

from __future__ import annotations

import re

from askless.core.whole_numbers import whole_number
from askless.sources import Option, RecordingResult
from askless.sources.attribution.options import TELLING_APART
from askless.sources.programs.page_visits import (
    VISITING,
    check_program,
    check_visits,
    recorded,
    visits_of,
)

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping
    from pathlib import Path
    from typing import Any

    from askless.sources import Reporter

_SIZE = re.compile(r"(\d+)\s*(B|KiB|MiB|GiB)?")
_UNITS = {None: 1, "B": 1, "KiB": 1024, "MiB": 1024**2, "GiB": 1024**3}


def size_in_bytes(word: str) -> int:
    """A size as people write it: 512MiB. Raises ValueError."""
    match = _SIZE.fullmatch(word.strip())
    number = whole_number(match.group(1)) if match is not None else None
    if match is None or number is None:
        raise ValueError(word)
    return number * _UNITS[match.group(2)]


class Relay:
    """See the module."""

    name = "relay"
    help = "forward traffic between a program in any language and its database, and record it"
    examples = """  askless capture relay -o calls --listen 127.0.0.1:6432 --to postgresql://127.0.0.1:5432
  askless capture relay -o due --to mysql://127.0.0.1:3306 --visit http://127.0.0.1:8000/calls -- node server.js
  askless capture relay -o calls --to postgresql://db.example:5432?sslmode=require -- bin/server"""
    nothing = "no queries reached the relay; check the address it connects to"
    options = (
        Option(
            "--to", "the database server: postgresql://HOST:PORT, mysql:// or mariadb://", "URL"
        ),
        Option(
            "--listen",
            "address for clients (default: 127.0.0.1 and a free port)",
            "HOST:PORT",
            default="127.0.0.1:0",
        ),
        Option("--allow-remote", "allow non-loopback addresses", bare=True),
        *TELLING_APART,
        *VISITING,
        Option("--tls-cert", "serve TLS to clients with this certificate", "FILE"),
        Option("--tls-key", "private key of --tls-cert", "FILE"),
        Option(
            "--buffer-size",
            "maximum size of the relay buffer, on disk in the capture's folder (default: 1GiB)",
            "SIZE",
            size_in_bytes,
            1024**3,
        ),
        Option(
            "program",
            "a program to start with the relay's address, and its arguments",
            "-- PROGRAM ...",
        ),
    )

    def check(self, values: Mapping[str, Any]) -> None:
        """Raises AskLessError: no-server, bad-server, bad-listen, bad-request-by, bad-tls,
        bad-buffer-size, and what visits raise.
        """
        from askless.sources.relay import options as wishes

        wishes.read(values)
        check_visits(values)
        check_program(values, "node server.js")

    def run(self, values: Mapping[str, Any], folder: Path, voice: Reporter) -> RecordingResult:
        """Relay until the program ends, its pages are visited, or someone stops it. Raises
        AskLessError.
        """
        from askless.sources.relay import options as wishes, runner

        wish = wishes.read(values)
        visits = visits_of(values)
        ended = runner.run(wish, values["program"], visits, folder, voice)
        return recorded(ended, voice)


SOURCE = Relay()
