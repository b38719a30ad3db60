"""Text made safe and short for terminals and pages. SQL and file names are hostile until they have
been here.
"""

from __future__ import annotations

import os
import re
from pathlib import Path

from askless.core.formatting import escaped, escaped_line, milliseconds as milliseconds
from askless.core.statistics import Ratio

_SPACE = re.compile(r"\s+")


def safe(text: str) -> str:
    """The text with its control characters escaped: nothing in it can move a cursor, change a
    colour or turn its direction.
    """
    return escaped(text)


def one_line(text: str, longest: int = 0) -> str:
    """The text on one line, cut with … where it is longer than `longest` (0: never)."""
    flat = _SPACE.sub(" ", safe(text)).strip()
    return flat if not longest or len(flat) <= longest else flat[: max(longest - 1, 1)] + "…"


def in_middle(text: str, longest: int) -> str:
    """A route or a path in at most so many characters: parts between its slashes give way, the
    fewest and inmost first.
    """
    if len(text) <= longest:
        return text
    parts = text.split("/")
    for gone in range(1, len(parts) - 1):
        starts = range(1, len(parts) - gone)
        for start in sorted(starts, key=lambda start: abs(2 * start + gone - len(parts))):
            shorter = "/".join([*parts[:start], "…", *parts[start + gone :]])
            if len(shorter) <= longest:
                return shorter
    tail = max(longest - 1, 0) * 2 // 3
    return text[: max(longest - 1, 0) - tail] + "…" + text[len(text) - tail :]


_SELECT = re.compile(r"(?is)\s*select\s+(?:distinct\s+)?")
_LIST_PART = re.compile(r"(?is)[()]|\sfrom\s|'(?:[^']|'')*'|\"[^\"]*\"|`[^`]*`")
_LIST_LEAST = 40  # characters of a list of columns that is worth cutting out


def brief(sql: str) -> str:
    """A statement with a long list of columns cut out: what it reads from matters more."""
    head = _SELECT.match(sql)
    if head is None:
        return sql
    start, depth = head.end(), 0
    for part in _LIST_PART.finditer(sql, start):
        depth += {"(": 1, ")": -1}.get(part[0], 0)
        if depth == 0 and part[0].strip().lower() == "from":
            cut = f"{sql[:start]}… {part[0].strip()} {sql[part.end() :]}"
            return cut if part.start() - start >= _LIST_LEAST else sql
    return sql


def short_path(file: str, parts: int = 0) -> str:
    """A file's path from here, if that is shorter, an installed package's from there; with `parts`,
    only its last parts.
    """
    slashed = file.replace("\\", "/")
    if parts:
        return escaped_line("/".join(slashed.split("/")[-parts:]))
    for folder in ("/site-packages/", "/dist-packages/"):
        if folder in slashed:
            return escaped_line(slashed.rsplit(folder, 1)[1])
    try:
        relative = os.path.relpath(file, Path.cwd())
    except ValueError:
        return escaped_line(file)
    return escaped_line(
        relative if len(relative) < len(file) and not relative.startswith("../../..") else file
    )


def percent(share: float) -> str:
    """A share as per cent."""
    return f"{100 * share:.0f} %"


def interval(ratio: Ratio) -> str:
    """A ratio's interval in words."""
    return f"{ratio.confidence:.0%} interval ×{ratio.low:.2f} to ×{ratio.high:.2f}".replace(
        "%", " %"
    )
