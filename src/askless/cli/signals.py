"""Stopping in good order: Ctrl-C and SIGTERM end long work so that what it made is taken away."""

from __future__ import annotations

import signal
from collections.abc import Iterator
from contextlib import contextmanager

from askless.output import notices


@contextmanager
def stoppable() -> Iterator[None]:
    """Work that takes back what it made when it is stopped; the line of progress goes with it.

    A driver may swallow the interrupt, or make an error of its own from it: that it was asked for
    counts. Raises KeyboardInterrupt.
    """
    requested = False

    def stop(_number: int, _frame: object) -> None:
        nonlocal requested
        requested = True
        raise KeyboardInterrupt

    before = {number: signal.signal(number, stop) for number in (signal.SIGINT, signal.SIGTERM)}
    try:
        yield
    except Exception:
        if requested:
            raise KeyboardInterrupt from None
        raise
    finally:
        notices.progress_done()
        for number, handler in before.items():
            signal.signal(number, handler)
