"""The live view of a recording, in a thread next to it."""

from __future__ import annotations

import sys
import threading
from contextlib import contextmanager

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator
    from pathlib import Path

_LOOK_S = 0.3


@contextmanager
def watched(folder: Path, wanted: bool) -> Iterator[None]:
    """While the block runs, requests are reported on standard error as they end; not where standard
    output is not a terminal.
    """
    if not wanted or not sys.stdout.isatty():
        yield
        return
    from rich.console import Console

    from askless.output import notices
    from askless.output.terminal import live as lines
    from askless.reports.live import Live

    out = Console(stderr=True, highlight=False, soft_wrap=True)
    live, done = Live(folder), threading.Event()

    def watch() -> None:
        headed = False
        while True:
            last = done.wait(_LOOK_S)
            seen = live.look(last)
            if seen.requests or seen.findings:
                notices.progress_done()
            if seen.requests and not headed:
                headed = True
                out.print(lines.heading(), style="dim")
            lines.look(out, seen)
            if last:
                return

    thread = threading.Thread(target=watch, name="askless-live", daemon=True)
    thread.start()
    try:
        yield
    finally:
        done.set()
        thread.join(30)
