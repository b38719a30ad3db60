"""What was forwarded and waits to be read: a ring in a file without a name, which is gone when its
processes are.

The writer never waits. Where the ring is full, what comes is omitted and counted, and its
connection is reported to have lost something. Positions only grow; each side writes its own, in a
page that both have mapped.
"""

from __future__ import annotations

import mmap
import os
import tempfile
from collections.abc import Iterator
from pathlib import Path
from struct import Struct

from askless.core.errors import AskLessError

OPENED, CLIENT, SERVER, CLOSED, LOST, MARK = range(6)
_HEADER = Struct("<BIqI")  # kind, connection, time in ns, bytes that follow
_POSITION = Struct("<q")
_WRITTEN, _READ = 0, 64  # a cache line each
_PIECE = 1 << 20  # bytes that are read at once


class RelayBuffer:
    """The file and the page, made by the writer; their descriptors go to the reader."""

    def __init__(self, data: int, page: int, size: int) -> None:
        self.data, self.page, self.size = data, page, size
        self._map = mmap.mmap(page, mmap.PAGESIZE)

    @classmethod
    def create(cls, folder: Path, size: int) -> RelayBuffer:
        """A new one of so many bytes, in a folder. Raises AskLessError folder-unwritable."""
        try:
            data, page = (_nameless(folder) for _ in range(2))
            os.truncate(page, mmap.PAGESIZE)
        except OSError as error:
            raise AskLessError(
                "folder-unwritable",
                f"can't write into {folder}: {error.strerror}",
                "name another -o",
            ) from None
        return cls(data, page, size)

    def _position(self, at: int) -> int:
        return int(_POSITION.unpack_from(self._map, at)[0])

    @property
    def written(self) -> int:
        """Bytes that were ever written."""
        return self._position(_WRITTEN)

    @property
    def read(self) -> int:
        """Bytes that were ever read."""
        return self._position(_READ)

    def put(self, record: bytes) -> bool:
        """Write bytes, all or nothing; whether there was room."""
        written = self.written
        if written + len(record) - self.read > self.size:
            return False
        at = written % self.size
        first = min(len(record), self.size - at)
        try:
            _write(self.data, record[:first], at)
            _write(self.data, record[first:], 0)
        except OSError:  # the disk is full: as if the ring were
            return False
        _POSITION.pack_into(self._map, _WRITTEN, written + len(record))
        return True

    def take(self) -> bytes:
        """What lies there, up to a piece; b'' for nothing. It counts as read once `done` says
        so.
        """
        read = self.read
        size = min(self.written - read, _PIECE, self.size - read % self.size)
        return os.pread(self.data, size, read % self.size) if size else b""

    def done(self, size: int) -> None:
        """So many bytes more have been read."""
        _POSITION.pack_into(self._map, _READ, self.read + size)


def _nameless(folder: Path) -> int:
    file, path = tempfile.mkstemp(dir=folder, prefix=".askless-")
    Path(path).unlink()
    return file


def _write(file: int, data: bytes, at: int) -> None:
    view = memoryview(data)
    while len(view):
        done = os.pwrite(file, view, at)
        view, at = view[done:], at + done


class BufferWriter:
    """The writer's side: gathers records and writes them in batches. `lost_bytes` counts what found
    no room.

    `waiting` holds (kind, connection, time, bytes) of each record, and `size` says how many bytes
    that is: anyone who forwards adds to both himself, as that is done for every chunk.
    """

    def __init__(self, backlog: RelayBuffer) -> None:
        self.backlog = backlog
        self.lost_bytes = 0
        self.waiting: list[tuple[int, int, int, bytes]] = []
        self.size = 0
        self._lost: dict[
            int, int
        ] = {}  # connections that must be said, and when they lost something

    def flush(self) -> bool:
        """Write what has gathered; whether there was anything."""
        waiting, self.waiting, self.size = self.waiting, [], 0
        if not waiting:
            return False
        lost = [(LOST, number, at_ns, b"") for number, at_ns in self._lost.items()]
        if self.backlog.put(_packed([*lost, *waiting])):
            self._lost.clear()
            return True
        # What opens, closes or marks is small and must be known, or the reader would wait for it
        # for ever.
        self.backlog.put(
            _packed([record for record in waiting if record[0] not in (CLIENT, SERVER)])
        )
        for kind, number, at_ns, data in waiting:
            if kind in (CLIENT, SERVER):
                self.lost_bytes += len(data)
                self._lost[number] = at_ns
        return True


def _packed(waiting: list[tuple[int, int, int, bytes]]) -> bytes:
    pieces: list[bytes] = []
    for kind, number, at_ns, data in waiting:
        pieces += (_HEADER.pack(kind, number, at_ns, len(data)), data)
    return b"".join(pieces)


def records(backlog: RelayBuffer) -> Iterator[tuple[int, int, int, bytes] | None]:
    """(kind, connection, time, bytes) of each record in turn; None if nothing more lies there for
    now.
    """
    pieces: list[bytes] = []
    size, need = 0, _HEADER.size
    while True:
        piece = backlog.take()
        if not piece:
            yield None
            continue
        pieces.append(piece)
        size += len(piece)
        if size >= need:
            data = b"".join(pieces) if len(pieces) > 1 else pieces[0]
            position = 0
            while size - position >= _HEADER.size:
                kind, connection, at_ns, length = _HEADER.unpack_from(data, position)
                end = position + _HEADER.size + length
                if end > size:
                    need = end - position
                    break
                yield kind, connection, at_ns, data[position + _HEADER.size : end]
                position = end
            else:
                need = _HEADER.size
            pieces = [data[position:]] if position < size else []
            size -= position
        backlog.done(len(piece))
