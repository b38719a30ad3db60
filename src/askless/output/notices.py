"""What is said on standard error while a command works: notes for people, and how far the work
is.
"""

from __future__ import annotations

import os
import sys

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable

WIDEST = 100


def safe(text: str) -> str:
    """See `output.text`, which is imported when something is said."""
    from askless.output.text import safe as made_safe

    return made_safe(text)


def note(text: str) -> None:
    """A text for people, its lines wrapped to the terminal."""
    import textwrap

    columns = int(os.environ.get("COLUMNS") or 0)
    if not columns and sys.stderr.isatty():
        columns = os.get_terminal_size(sys.stderr.fileno()).columns
    width = max(min(columns or WIDEST, WIDEST), 60)
    for line in text.split("\n"):
        wrapped = textwrap.wrap(safe(line), width, break_on_hyphens=False, break_long_words=False)
        sys.stderr.write("\n".join(wrapped) + "\n")
    sys.stderr.flush()


def notes(texts: Iterable[str]) -> None:
    """What a reader should know of a document next to what it says, each thing once."""
    for text in dict.fromkeys(texts):
        note("note: " + text)


def progress(text: str) -> None:
    """One line of progress, overwritten by the next; nothing where standard error is not a
    terminal.
    """
    if sys.stderr.isatty():
        sys.stderr.write("\r\x1b[K" + " ".join(safe(text).split())[:78])
        sys.stderr.flush()


def progress_done() -> None:
    """Clear the line of progress."""
    if sys.stderr.isatty():
        sys.stderr.write("\r\x1b[K")
        sys.stderr.flush()


def is_terminal() -> bool:
    """Whether someone reads standard error, and wants colours."""
    return (
        sys.stderr.isatty() and not os.environ.get("NO_COLOR") and os.environ.get("TERM") != "dumb"
    )
