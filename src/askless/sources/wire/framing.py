"""The unfinished end of a stream: kept in pieces until the message is whole, so that a huge one is put together once."""

from __future__ import annotations


class Leftover:
    """Bytes that wait for the rest of their message."""

    __slots__ = ("_need", "_pieces", "_size")

    def __init__(self) -> None:
        self._pieces: list[bytes] = []
        self._size = self._need = 0

    def __len__(self) -> int:
        return self._size

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

    def keep(self, data: bytes, need: int) -> None:
        """Keep the beginning of a message that needs so many bytes."""
        self._pieces = [data] if data else []
        self._size, self._need = len(data), need

    def clear(self) -> None:
        """Forget what waits."""
        self._pieces.clear()
        self._size = self._need = 0
