"""The option that says what a request is, for all sources that see connections."""

from __future__ import annotations

from askless.core.errors import AskLessError
from askless.sources import Option
from askless.sources.sampling import SPARING

WAYS = ("auto", "comment", "application", "connection", "pause")
PAUSE_MS = 100.0
TELLING_APART = (
    *SPARING,
    Option(
        "--request-by",
        "how to group queries into requests: auto, comment, application, connection or pause[=MS] "
        "(default: auto)",
        "WAY",
        default="auto",
    ),
    Option(
        "--marks",
        "a file with the start and end of each request (JSON lines: name, start, end); read at "
        "the end",
        "FILE",
    ),
    Option(
        "--access-log",
        "the HTTP server's access log, to name requests by their times; read at the end",
        "FILE",
    ),
)


def way_of(word: str) -> tuple[str, float]:
    """(way, pause in ms). Raises AskLessError bad-request-by."""
    name, sign, value = word.partition("=")
    pause_ms = PAUSE_MS
    try:
        if sign:
            pause_ms = float(value.removesuffix("ms"))
    except ValueError:
        name = ""
    if name not in WAYS or pause_ms <= 0 or (sign and name != "pause"):
        raise AskLessError(
            "bad-request-by",
            f"--request-by takes {', '.join(WAYS[:-1])} or pause=MS, not {word!r}",
            "omit it for auto",
        )
    return name, pause_ms
