"""Text that is on many lines of a log, up to a size: a record without an end must not take all
memory.
"""

from __future__ import annotations

TEXT_MOST = 1_000_000  # characters: ten times what a recorder keeps of a statement
CUT = " /* cut by askless */"


class Cuts:
    """How many texts of one log were longer."""

    def __init__(self) -> None:
        self.count = 0


class LongText:
    """Lines that are put together once they are all there; what is beyond the size is cut off, and
    counted.
    """

    __slots__ = ("_cut", "_cuts", "_parts", "_size")

    def __init__(self, cuts: Cuts, text: str = "") -> None:
        self._cuts = cuts
        self._parts = [text] if text else []
        self._size = len(text)
        self._cut = False

    def add(self, line: str) -> None:
        """The text goes on with a line."""
        self._size += len(line) + 1
        if self._size <= TEXT_MOST:
            self._parts.append(line)
        elif not self._cut:
            self._cut = True
            self._cuts.count += 1

    def __bool__(self) -> bool:
        return bool(self._parts)

    def __str__(self) -> str:
        return "\n".join(self._parts) + (CUT if self._cut else "")
