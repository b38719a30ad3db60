"""Numbers as people write them, the same in findings and in every output."""

from __future__ import annotations

import re
from collections.abc import Sequence


def number(value: float) -> str:
    """A count or a mean of counts: 40, 2.5, 1,200."""
    return f"{value:,.0f}" if abs(value - round(value)) < 0.05 or value >= 100 else f"{value:,.1f}"


def milliseconds(value: float) -> str:
    """Milliseconds in three significant digits or so, without a unit."""
    if value >= 100:
        return f"{value:,.0f}"
    return (
        f"{value:.1f}"
        if value >= 10
        else f"{value:.2f}"
        if value >= 0.1 or not value
        else f"{value:.3f}"
    )


def plural(count: float, word: str) -> str:
    """A number with its noun: 1 row, 40 rows, 2.5 queries."""
    if number(count) == "1":
        return f"1 {word}"
    if word.endswith("y") and word[-2] not in "aeiou":
        return f"{number(count)} {word[:-1]}ies"
    return f"{number(count)} {word}{'es' if word.endswith('x') else 's'}"


def listed(names: Sequence[str], most: int) -> str:
    """Names in a sentence, of many the first: a, b and 3 more."""
    more = len(names) - most
    return ", ".join(names[:most]) + (f" and {more:,} more" if more > 0 else "")


# Control characters (the line feed and the tab aside), zero-width ones, line separators, and what
# turns the direction.
HIDDEN = re.compile(
    "[\x00-\x08\x0b-\x1f\x7f-\x9f\xad\u061c\u115f\u1160\u180e\u200b-\u200f\u2028-\u202e\u2060-\u206f\u3164\ufeff\ufff9-\ufffb"
    "\U000e0000-\U000e007f]"
)


def escaped(text: str) -> str:
    """The text with what can't be seen, or moves what can, as an escape such as \\u200b; half
    surrogates as \ufffd.
    """
    return HIDDEN.sub(_escape, text.encode("utf-8", "replace").decode())


def escaped_line(text: str) -> str:
    """The same for a name, of a file or a route: a line break in it is an escape as well."""
    return escaped(text).replace("\n", "\\n").replace("\t", "\\t")


def _escape(match: re.Match[str]) -> str:
    code = ord(match[0])
    return (
        f"\\x{code:02x}"
        if code < 0x100
        else f"\\u{code:04x}"
        if code < 0x10000
        else f"\\U{code:08x}"
    )


def location_text(file: str, line: int) -> str:
    """A line of code as people write it, file:line; the file alone (or what a comment called it)
    where no line is known.
    """
    return f"{file}:{line}" if line else file


def size(value: float, smallest: str = "B") -> str:
    """Bytes in the unit that people read; `smallest` is what bytes themselves are called."""
    if value < 1024:
        return f"{value:,.0f} {smallest}"
    for unit in ("KiB", "MiB"):
        value /= 1024
        if value < 1024:
            return f"{value:,.1f} {unit}"
    return f"{value / 1024:,.1f} GiB"
