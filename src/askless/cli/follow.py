"""Showing a document again whenever a capture has grown, until Ctrl-C."""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Callable
from typing import NoReturn

TYPE_CHECKING = False
if TYPE_CHECKING:
    import argparse

    from askless.reports.documents import Document
    from askless.reports.growing_capture import GrowingCapture

_LOOK_S = 0.3
_REST = 9  # showing takes a tenth of the time at most
_CLEAR = "\x1b[H\x1b[2J\x1b[3J"


def add_follow(parser: argparse.ArgumentParser) -> None:
    """Going on with a capture that is being written."""
    parser.add_argument(
        "--follow",
        action="store_true",
        help="show it again whenever the capture grows, until Ctrl-C; with JSON, one document per "
        "line",
    )


def follow(
    growing: GrowingCapture, document_of: Callable[[], Document], form: str, variant: str = ""
) -> int:
    """Show what there is, and again whenever there is more."""
    from askless.cli.signals import stoppable

    os.environ["PAGER"] = ""  # what is shown again and again waits for no one
    try:
        with stoppable():
            while growing.look():
                pass
            _show(document_of(), form, variant)
            whenever_grown(growing.look, lambda: _show(document_of(), form, variant))
    except KeyboardInterrupt:
        return 0  # the way to end it


def whenever_grown(
    look: Callable[[], bool], show: Callable[[], None], look_s: float = _LOOK_S
) -> NoReturn:
    """Show again whenever a look, every `look_s`, says of something new; what takes long to show is
    shown less often.
    """
    grown, show_at_s = False, 0.0
    while True:
        time.sleep(look_s)
        grown = look() or grown
        if grown and time.monotonic() >= show_at_s:
            began_s = time.monotonic()
            show()
            show_at_s = time.monotonic() + (time.monotonic() - began_s) * _REST
            grown = False


def _show(document: Document, form: str, variant: str) -> None:
    from askless.cli.common import show

    if form == "json":
        from askless.core.json_encoding import encoded

        sys.stdout.write(encoded(document).decode() + "\n")
        sys.stdout.flush()
        return
    if sys.stdout.isatty():
        sys.stdout.write(_CLEAR)
    show(document, variant=variant, form=form)
    sys.stdout.write("\n")
    sys.stdout.flush()
