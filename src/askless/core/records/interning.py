"""Numbers for what queries refer to again and again: texts with their literals taken out, lines of
code, ORM loads.
"""

from __future__ import annotations

import re
from collections.abc import Hashable
from typing import Generic, TypeVar

# What differs between two executions of one template: literals. What this pattern takes for one is
# put back unchanged by the reader, and takes up one slot in whatever the text means, so it decides
# about size only.
LITERALS = re.compile(
    r"('[^']*(?:''[^']*)*'|(?<![\w.$:@?\"`])\d(?:[xX][0-9a-fA-F]+"
    r"|[\d_]*(?:\.\d*)?(?:[eE][+-]?\d+)?))"
)

TEXTS_MOST = 50_000  # that are remembered

Thing = TypeVar("Thing", bound=Hashable)


class Interner(Generic[Thing]):
    """Gives each thing a number from 1, the same whenever it comes."""

    def __init__(self) -> None:
        self._known: dict[Thing, int] = {}
        self._last = 0

    def number(self, thing: Thing) -> tuple[int, bool]:
        """The number of a thing, and whether it is new."""
        known = self._known.get(thing)
        if known is not None:
            return known, False
        self._last += 1
        self._known[thing] = self._last
        return self._last, True

    def __len__(self) -> int:
        return len(self._known)

    def forget(self) -> int:
        """Know nothing any more: what comes again gets another number. The first of these."""
        self._known.clear()
        return self._last + 1


class StatementInterner:
    """Numbers for statements: texts that differ in their literals only share one."""

    def __init__(self) -> None:
        self._templates: Interner[tuple[tuple[str, ...], tuple[str, ...]]] = Interner()
        self._whole: dict[tuple[str, tuple[str, ...]], int] = {}
        self.first = 1  # number of what is remembered: those below it do not come again

    def number(
        self, text: str, names: tuple[str, ...] = ()
    ) -> tuple[int, tuple[str, ...] | None, tuple[str, ...]]:
        """A text's number; its literals where it is not the first of its kind; its parts where it
        is, else ().

        Parts alternate text that stays (even positions) with literals (odd ones).
        """
        if len(self._templates) > TEXTS_MOST:  # texts that never come again are not kept for ever
            self.first = self._templates.forget()
            self._whole.clear()
        known = self._whole.get((text, names))
        if known is not None:
            return known, None, ()
        parts = tuple(LITERALS.split(text) if "--" not in text and "/*" not in text else [text])
        number, new = self._templates.number((parts[::2], names))
        if not new:
            return number, parts[1::2] or None, ()
        if len(parts) == 1:
            self._whole[text, names] = number
        return number, None, parts
