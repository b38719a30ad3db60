"""The unfinished end of a stream: kept in pieces until the message is whole, so that a huge one is
put together once.
"""

from __future__ import annotations


class Leftover:
    """Bytes of one direction that wait for the rest of their message. `offset` counts those of
    whole messages.
    """

    __slots__ = ("_need", "_pieces", "_size", "offset")

    def __init__(self) -> None:
        self.offset = 0
        self._pieces: list[bytes] = []
        self._size = self._need = 0

    def take(self, data: bytes) -> bytes:
        """All that is there with the new bytes, once enough is; b'' until then."""
        if not self._pieces:
            return data
        self._pieces.append(data)
        self._size += len(data)
        if self._size < self._need:
            return b""
        whole = b"".join(self._pieces)
        self.clear()
        return whole

    def keep(self, data: bytes, position: int, need: int) -> None:
        """Whole messages end at a position; keep what is after it, of a message that needs so many
        bytes.
        """
        self.offset += position
        if position < len(data):
            self._pieces = [data[position:] if position else data]
            self._size, self._need = len(data) - position, need

    def clear(self) -> None:
        """Forget what waits."""
        self._pieces.clear()
        self._size = self._need = 0
