"""A capture in pieces that can be read anywhere, each by itself: files, and ranges of large ones.

The pieces are the same anyone who reads them, so that what they add up to, one after the other, is
the same too. A request belongs to the piece in which it begins: anyone who reads that goes on after
its end until all its requests have ended. What queries refer to by number (texts, lines of code)
may stand anywhere before them, so a piece knows where all such lines are.
"""

from __future__ import annotations

import re
from array import array
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import IO

import msgspec

from askless.capture import events
from askless.capture.lines import files_of, lines_of, opened, unreadable
from askless.capture.reading import FileReport, Reader, tags_of
from askless.capture.remote import place, reached
from askless.core.records.model import Request

PIECE_BYTES = 64 * 1024**2
# of a capture: the larger it is, the larger they are, as putting one in its place takes its time
PIECES_MOST = 2_000
_TABLES = tuple(
    f'{{"event":"{kind}"'.encode()
    for kind in ("capture", "statement", "columns", "place", "load", "model", "modules")
)
_OF_STATEMENT = re.compile(rb'\{"event":"(?:statement","id|columns","statement)":(\d+)[,}]')
_LETS_GO = b'{"event":"forget"'
_FORGET = re.compile(rb'\{"event":"forget","before":(\d+)\}')
_OF_REQUEST = re.compile(rb'\{"event":"(?:queries|use|errands|end)","request":(-?\d+)[,}]')
_BEGINS = b'{"event":"request"'


class Segment(msgspec.Struct, frozen=True):
    """A range of a file, from the start of a line to the end of one; `end` -1 for all of it,
    whatever its size by then.

    `tables` are where the lines before it are that its queries may refer to, as numbers of eight
    bytes. `lines` are before it.
    """

    path: str
    tag: str
    start: int = 0
    end: int = -1
    lines: int = 0
    tables: bytes = b""

    def reader(self) -> Reader:
        """What reads it."""
        return (
            Reader(place(self.path), self.tag)
            if self.end < 0 and not self.start
            else SegmentReader(self)
        )


Piece = tuple[Segment, ...]


def pieces_of(path: Path, piece_bytes: int = 0) -> list[Piece]:
    """The pieces of a capture, in order: several small files in one, a large one in several.

    Raises AskLessError: capture-missing, capture-empty, capture-unreadable.
    """
    files = files_of(path)
    sizes = [_size(file) for file in files]
    piece_bytes = piece_bytes or max(PIECE_BYTES, sum(sizes) // PIECES_MOST)
    pieces: list[Piece] = []
    together: list[Segment] = []
    size = 0
    for file, tag, own in zip(files, tags_of(files), sizes, strict=True):
        if together and size + own > piece_bytes:
            pieces.append(tuple(together))
            together, size = [], 0
        if own > piece_bytes and file.name.endswith(".jsonl"):
            even = -(-own // -(-own // piece_bytes))  # so that no worker waits for a larger one
            pieces += [(segment,) for segment in _segments(file, tag, even)]
            continue
        together.append(Segment(str(file), tag))
        size += own
    if together:
        pieces.append(tuple(together))
    return pieces


def _size(file: Path) -> int:
    try:
        with reached(file):
            return file.stat().st_size
    except OSError as error:
        raise unreadable(file, error) from None


def _segments(path: Path, tag: str, piece_bytes: int) -> Iterator[Segment]:
    """The ranges of a file: cut at the first line after each so many bytes."""
    referred = array("q")  # where the lines stand that queries may refer to,
    statements = array("q")  # and of which statement each is; -1 for one that is always needed
    tables = b""  # those before the range
    start = first = position = number = 0
    with opened(path) as stream:
        for line in stream:
            if position - start >= piece_bytes and line.endswith(b"\n"):
                yield Segment(str(path), tag, start, position, first, tables)
                start, first, tables = position, number, referred.tobytes()
            if line.startswith(_TABLES):
                of = _OF_STATEMENT.match(line)
                referred.append(position)
                statements.append(int(of[1]) if of is not None else -1)
            elif line.startswith(_LETS_GO) and (forget := _FORGET.match(line)) is not None:
                remaining = [
                    i for i, one in enumerate(statements) if one == -1 or one >= int(forget[1])
                ]
                referred = array("q", [referred[i] for i in remaining])
                statements = array("q", [statements[i] for i in remaining])
            position += len(line)
            number += 1
    yield Segment(str(path), tag, start, position if start else -1, first, tables)


class SegmentReader(Reader):
    """Reads the requests that begin in a range of a file."""

    def __init__(self, segment: Segment) -> None:
        super().__init__(place(segment.path), segment.tag)
        self._segment = segment
        self._others = bool(segment.start)

    def __iter__(self) -> Iterator[Request]:
        report, segment = self.report, self._segment
        with opened(self.path) as stream:
            self._refer(stream)
            stream.seek(segment.start)
            report.lines = segment.lines
            yield from self._requests(lines_of(stream, segment.end - segment.start))
            report.lines -= segment.lines
            yield from self._beyond(stream)
        yield from self._left()

    def _refer(self, stream: IO[bytes]) -> None:
        """Take the lines before the range that its queries refer to."""
        for offset in array("q", self._segment.tables):
            stream.seek(offset)
            self.take(stream.readline())

    def _beyond(self, stream: IO[bytes]) -> Iterator[Request]:
        """What goes on after the range of requests that began in it."""
        still_open = self.assembly.open
        for line in lines_of(stream) if still_open else ():
            of = _OF_REQUEST.match(line)
            if of is None:
                if line.startswith(_TABLES) or (
                    not line.startswith(_BEGINS) and _is_of_one(line, still_open)
                ):
                    self.take(line)
            elif int(of[1]) in still_open:
                finished = self.take(line)
                if finished is not None:
                    yield finished
            if not still_open:
                return


def _is_of_one(line: bytes, still_open: dict[int, Request]) -> bool:
    """Whether a line that is written in another order than ours is of one of these requests."""
    if b'"request"' not in line:
        return False
    try:
        return (
            getattr(msgspec.json.decode(line, type=events.AnyEvent), "request", None) in still_open
        )
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError):
        return False


def read_piece(piece: Piece, reports: list[FileReport] | None = None) -> Iterator[Request]:
    """The requests of a piece. `reports` gets one a segment."""
    for segment in piece:
        reader = segment.reader()
        if reports is not None:
            reports.append(reader.report)
        yield from reader


def together(reports: Sequence[FileReport]) -> list[FileReport]:
    """One report a file, from those of its ranges, in order."""
    results: dict[Path, FileReport] = {}
    for report in reports:
        known = results.get(report.path)
        if known is None:
            results[report.path] = report
        else:
            known.add(report)
    return list(results.values())
