"""Numbers as people write them, the same in findings and in every output."""

from __future__ import annotations


def number(value: float) -> str:
    """A count or a mean of counts: 40, 2.5, 1,200."""
    return f"{value:,.0f}" if abs(value - round(value)) < 0.05 or value >= 100 else f"{value:,.1f}"


def plural(count: float, word: str) -> str:
    """A number with its noun: 1 row, 40 rows, 2.5 queries."""
    if number(count) == "1":
        return f"1 {word}"
    if word.endswith("y") and word[-2] not in "aeiou":
        return f"{number(count)} {word[:-1]}ies"
    return f"{number(count)} {word}{'es' if word.endswith('x') else 's'}"


def whereabouts(file: str, line: int) -> str:
    """A line of code as people write it, file:line; the file alone (or what a comment called it) where no line is known."""
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
