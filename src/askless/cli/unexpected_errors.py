"""What happens to an error that no one foresaw: one line, and an exit code of its own.

A thread that ends in one ends the command: what it was there for would be missing from the result.
"""

from __future__ import annotations

import _thread
import os
import signal
import sys
import threading
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from types import FrameType, TracebackType

import askless

EXIT_CODE = 70  # EX_SOFTWARE of sysexits.h: never 0, nor 1, which says that something was judged
VARIABLE = "ASKLESS_TRACEBACK"
_HERE = Path(askless.__file__).parent


class ThreadFailures:
    """The first error that a thread of this command has ended in."""

    def __init__(self) -> None:
        self.error: BaseException | None = None
        self.number: signal.Signals | None = None  # the signal that interrupts the command

    def note(self, arguments: threading.ExceptHookArgs) -> None:
        """As `threading.excepthook`: remember the error, and interrupt the command."""
        if arguments.exc_value is None or isinstance(arguments.exc_value, SystemExit):
            return
        first, self.error = self.error is None, self.error or arguments.exc_value
        if not first:
            return
        if self.number is None:
            _thread.interrupt_main()
        else:
            signal.pthread_kill(threading.main_thread().ident or 0, self.number)


@contextmanager
def watched_threads() -> Iterator[ThreadFailures]:
    """While the block runs, a thread that ends in an error interrupts the main one.

    By a signal of its own: a command that a script starts in the background ignores SIGINT, and
    what `interrupt_main` merely pretends wakes no thread that waits.
    """
    dead, before = ThreadFailures(), threading.excepthook
    threading.excepthook = dead.note
    with ExitStack() as stack:
        stack.callback(setattr, threading, "excepthook", before)
        if hasattr(signal, "SIGUSR2") and threading.current_thread() is threading.main_thread():
            dead.number = signal.SIGUSR2
            earlier = signal.signal(dead.number, _interrupt)
            stack.callback(signal.signal, dead.number, earlier)
        yield dead


def _interrupt(_number: int, frame: FrameType | None) -> None:
    """As Ctrl-C does where the command does not ignore it."""
    handler = signal.getsignal(signal.SIGINT)
    if callable(handler):
        handler(signal.SIGINT, frame)
    raise KeyboardInterrupt


def report(error: BaseException) -> int:
    """Say on standard error what happened and where; the exit code."""
    from askless.output.text import one_line, safe

    if os.environ.get(VARIABLE):
        import traceback

        traceback.print_exception(error)
    detail = one_line(str(error), 200)
    sys.stderr.write(
        f"askless: internal error: {type(error).__name__}{': ' + detail if detail else ''} "
        f"({_place(error.__traceback__)})\n"
        f"  nothing was judged; please report it with the traceback that {VARIABLE}=1 prints "
        f"({safe(askless.__version__)})\n"
    )
    return EXIT_CODE


def _place(trace: TracebackType | None) -> str:
    """The innermost line of ours in a traceback."""
    place = "unknown place"
    while trace is not None:
        file = Path(trace.tb_frame.f_code.co_filename)
        if file.is_relative_to(_HERE):
            place = f"{file.relative_to(_HERE)}:{trace.tb_lineno}"
        trace = trace.tb_next
    return place
