"""What was acknowledged and is not in the capture yet, in files next to it: a receiver that is
killed loses nothing of it.

A payload is written before it is acknowledged; what the system has taken survives the process. Once
in a while the receiver notes which traces are in the capture, and how long its files are by then.
After a kill the files are cut to that length, and the rest is put together from the payloads that
are left. Segments that nothing refers to any more are removed.
"""

from __future__ import annotations

import fcntl
import os
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from struct import Struct

import msgspec

from askless.core.json_encoding import encoded
from askless.sources.attribution.grouper import GroupingOptions

SUFFIX = ".journal"
PROTOBUF, JSON, STATE, OPTIONS = b"P", b"J", b"S", b"O"
_HEAD = Struct(">cI")  # kind of a record, and its length
_SEGMENT_BYTES = 16 * 1024**2
_MAGIC = b"askless journal 1\n"


class State(msgspec.Struct, frozen=True):
    """Traces that are in the capture, as hexadecimal ids; the size of each of its files, by name,
    once they all are.
    """

    traces: tuple[str, ...]
    sizes: dict[str, int]


class Journal:
    """The journal of one receiver. Raises OSError if the disk takes no more."""

    def __init__(self, folder: Path, apart: GroupingOptions) -> None:
        self._folder = folder
        self._options = encoded(apart)
        keep_bytes = apart.sparing.keep_bytes
        self._segment_bytes = (
            min(_SEGMENT_BYTES, max(keep_bytes // 16, 64 * 1024)) if keep_bytes else _SEGMENT_BYTES
        )
        self._segments: list[
            tuple[Path, int]
        ] = []  # and the number of the last payload of each that is full
        self._turn = self.last = 0
        self._sizes: Mapping[str, int] = {}
        self._begin()

    def _begin(self) -> None:
        self._turn += 1
        self._path = self._folder / f"received-{os.getpid()}-{self._turn:06}{SUFFIX}"
        self._file = os.open(
            self._path, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_APPEND | os.O_NOFOLLOW, 0o600
        )
        fcntl.flock(self._file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        self._size = 0
        self._write(_MAGIC)
        self._record(OPTIONS, self._options)
        self._record(STATE, encoded(State((), dict(self._sizes))))

    def append(self, kind: bytes, payload: bytes) -> int:
        """Keep a payload; its number."""
        if self._size > self._segment_bytes:
            os.close(self._file)
            self._segments.append((self._path, self.last))
            self._begin()
        self._record(kind, payload)
        self.last += 1
        return self.last

    def commit(self, traces: Sequence[bytes], sizes: Mapping[str, int], oldest: int) -> None:
        """These traces are in the files, which are so long now; of payloads before `oldest` nothing
        is waited for.
        """
        if traces or sizes != self._sizes:
            self._sizes = sizes
            self._record(STATE, encoded(State(tuple(trace.hex() for trace in traces), dict(sizes))))
        while self._segments and self._segments[0][1] < oldest:
            self._segments.pop(0)[0].unlink(missing_ok=True)

    def _record(self, kind: bytes, data: bytes) -> None:
        self._write(_HEAD.pack(kind, len(data)) + data)

    def _write(self, data: bytes) -> None:
        written = 0
        try:
            while written < len(data):
                written += os.write(self._file, data[written:])
        except OSError:
            os.ftruncate(self._file, self._size)  # half a record would hide those after it
            raise
        self._size += written

    def close(self) -> None:
        """Leave it as it is, for anyone who reads the capture next."""
        os.close(self._file)

    def remove(self) -> None:
        """All of it is in the capture."""
        os.close(self._file)
        for path in (self._path, *(path for path, _ in self._segments)):
            path.unlink(missing_ok=True)


def left_in(folder: Path) -> list[list[Path]]:
    """The journals in a folder whose receiver is gone, each as its segments in order."""
    by_process: dict[str, list[Path]] = {}
    for path in sorted(folder.glob(f"received-*-*{SUFFIX}")):
        by_process.setdefault(path.name.split("-")[1], []).append(path)
    return [segments for segments in by_process.values() if not any(map(_is_held, segments))]


def _is_held(path: Path) -> bool:
    try:
        file = os.open(path, os.O_RDONLY | os.O_NOFOLLOW)
    except OSError:
        return True
    try:
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        return True
    finally:
        os.close(file)
    return False


def records(segments: Sequence[Path]) -> Iterator[tuple[bytes, bytes]]:
    """The records of a journal; one that a death has cut is omitted, no one was reported that it
    was taken.
    """
    for path in segments:
        with path.open("rb") as stream:
            if stream.read(len(_MAGIC)) != _MAGIC:
                continue
            while len(head := stream.read(_HEAD.size)) == _HEAD.size:
                kind, length = _HEAD.unpack(head)
                data = stream.read(length)
                if len(data) < length:
                    break
                yield kind, data
