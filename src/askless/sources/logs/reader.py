"""Reads logs into a capture as a stream: lines to queries, queries to requests."""

from __future__ import annotations

import contextlib
import os
import threading
from collections.abc import Generator, Iterator, Mapping, Sequence
from itertools import islice
from pathlib import Path
from typing import IO, NamedTuple

import msgspec

from askless.capture.sampling import SamplingWriter
from askless.capture.writing import CaptureWriter
from askless.core.errors import MALFORMED, AskLessError, described
from askless.core.formatting import plural
from askless.sources import Reporter, logs
from askless.sources.attribution.grouper import GroupingOptions, RequestGrouper
from askless.sources.decompression import unpacked
from askless.sources.logs import LogMessage, Reading, UnreadLine
from askless.sources.logs.application import Lines, layout_like
from askless.sources.logs.layouts import Layout
from askless.sources.logs.long_text import TEXT_MOST
from askless.sources.logs.prefixes import guessed
from askless.sources.programs import program
from askless.sources.wire import CompletedQuery

_LOOK_LINES, _LOOK_BYTES = 2_000, 4096  # by which a format is reported
_TELL_EVERY = 50_000  # lines
_LOOK_S = 0.3
_FEW = 10  # queries
_FRACTION_NS = 1_000_000  # less is what a reader added to keep an order
_LINE_MOST = 4 * 1024**2  # bytes; a longer line is read as several
_BLOCK_BYTES = 256 * 1024


class LogOptions(NamedTuple):
    """How to read: a format's name ('' to look), PostgreSQL's prefix ('' to look), whether to go
    on.

    `layouts` are those of applications, by name; `system` is whose SQL such a log holds, '' for the
    layout's own.
    """

    format: str
    prefix: str
    follow: bool
    apart: GroupingOptions
    layouts: Mapping[str, Layout] = {}
    system: str = ""


def _prefix(file: Path, head: list[str]) -> str:
    """PostgreSQL's log_line_prefix, by the first lines. Raises AskLessError log-unreadable."""
    prefix = guessed(head)
    if prefix:
        return prefix
    looks = logs.looks_like(head)
    more = f"; it looks like {looks}: --format {looks}" if looks else ""
    raise AskLessError(
        "log-unreadable",
        f"{file}, line 1: can't detect the prefix of its lines{more}",
        "give the value of log_line_prefix: --prefix '%m [%p] '",
    )


def read(files: Sequence[Path], wish: LogOptions, folder: Path, voice: Reporter) -> None:
    """Read logs into a folder; what was read before one that can't be is kept. Raises AskLessError:
    log-missing, log-unreadable.
    """
    first = files[0]
    with contextlib.closing(lines_of(first)) as look:
        head = _head(look)
    name = wish.format or ("postgresql" if wish.prefix else logs.looks_like(head))
    if not name and (name := layout_like(head, wish.layouts)):
        voice.note(f"its lines look like {name}; use --format to override")
    if not name:
        raise AskLessError(
            "log-unreadable",
            f"{first} has an unknown format",
            "name it with --format (" + ", ".join([*logs.REGISTRY, *wish.layouts]) + "), and "
            "PostgreSQL's log_line_prefix with --prefix",
        )
    prefix = wish.prefix
    if name == "postgresql" and not prefix:
        prefix = _prefix(first, head)
        voice.note(f"log_line_prefix looks like {prefix!r}; use --prefix to override")
    layout = wish.layouts.get(name)
    reading = (
        Lines(layout, wish.system) if layout is not None else logs.format_of(name).reading(prefix)
    )
    taker = _LineReader(folder, reading, wish.apart)
    try:
        for path in files[:-1] if wish.follow else files:
            _read(path, taker, voice, looks=logs.looks_like(head) if wish.format else "")
        if wish.follow:
            _follow(files[-1], taker, voice)
    finally:
        voice.progress("")
        taker.close(voice)


def _head(lines: Iterator[str]) -> list[str]:
    """The first lines of a log: so many of them, and that much."""
    results: list[str] = []
    size = 0
    for line in islice(lines, _LOOK_LINES):
        results.append(line)
        size += len(line)
        if size > _LINE_MOST:
            break
    return results


class _LineReader:
    """Gives what a log tells to the requests of a capture."""

    def __init__(self, folder: Path, reading: Reading, apart: GroupingOptions) -> None:
        self._folder = folder
        self._reading = reading
        self._apart = apart
        self._telling: RequestGrouper | None = None
        self._writer: CaptureWriter | None = None
        self._numbers: dict[str, int] = {}
        self._ends: dict[int, int] = {}  # when each session's last query ended
        self._count = self._queries = 0
        self._fractions = False  # whether the log's times are finer than seconds
        self.unreadable = 0  # lines
        self.reason = ""

    def read(self, line: str, where: str) -> None:
        """Take a line. One that no one foresaw costs itself, and is counted. Raises Unread."""
        try:
            for said in self._reading.take(line):
                self.take(said)
        except MALFORMED as error:
            self.unreadable += 1
            self.reason = self.reason or f"{where}: {described(error)}"

    def take(self, said: LogMessage) -> None:
        """A session has said something."""
        if self._telling is None:
            system, start_ns = (
                self._reading.system,
                said.query.start_ns if said.query is not None else said.at_ns,
            )
            self._writer = SamplingWriter(
                self._folder / "log.askless.jsonl",
                "log",
                system,
                "",
                start_ns / 1e9,
                start_ns,
                self._reading.unseen,
                self._apart.sparing,
            )
            self._telling = RequestGrouper(self._apart, self._writer, lambda at_s: int(at_s * 1e9))
        number = self._numbers.get(said.session)
        if number is None:
            self._count += 1
            number = self._numbers[said.session] = self._count
            self._telling.opened(
                number, {"client": said.client, "application_name": said.application}, said.at_ns
            )
        if said.query is None:
            del self._numbers[said.session]
            self._telling.closed(number, said.at_ns)
            self._ends.pop(number, None)
            return
        # A session asks one thing at a time, whatever the log's clock makes of it.
        query, last_ns = said.query, self._ends.get(number, 0)
        if query.start_ns < last_ns:
            query = msgspec.structs.replace(query, start_ns=last_ns)
        self._ends[number] = query.start_ns + query.duration_ns
        self._queries += 1
        self._fractions = self._fractions or said.at_ns % 1_000_000_000 >= _FRACTION_NS
        self._telling.seen(number, CompletedQuery(query, said.application, said.in_transaction))

    def flush(self) -> None:
        """Let others read what was reported so far."""
        if self._telling is not None:
            self._telling.flush()

    def close(self, voice: Reporter) -> None:
        """The logs are over. What a reader should know of them is in the capture, or is said where
        there is none.
        """
        try:
            for said in self._reading.close():
                self.take(said)
        except MALFORMED as error:
            self.unreadable += 1
            self.reason = self.reason or f"at its end: {described(error)}"
        if self._telling is not None and self._writer is not None:
            for name, number in list(self._numbers.items()):
                self._telling.closed(number, 0)
                del self._numbers[name]
            self._telling.close()
            for note in self._reading.notes():
                self._writer.note(note)
            if self._queries >= _FEW and not self._fractions:
                self._writer.note(
                    "the log's times are whole seconds, so pauses can't separate requests that "
                    "come faster ("
                    + (
                        "%m in log_line_prefix logs milliseconds; "
                        if self._reading.system == "postgresql"
                        else ""
                    )
                    + "--access-log, --marks and comments name requests)"
                )
            if self.unreadable:
                self._writer.lost(self.unreadable, "lines", self.reason)
            if self._reading.cuts.count:
                cut = plural(self._reading.cuts.count, "statement")
                self._writer.note(f"{cut} of more than {TEXT_MOST:,} characters cut")
            self._writer.close()
        else:
            if self.unreadable:
                voice.note(f"note: {plural(self.unreadable, 'line')} can't be read: {self.reason}")
            for note in self._reading.notes():
                voice.note("note: " + note)


def _read(path: Path, taker: _LineReader, voice: Reporter, looks: str = "") -> None:
    number = 0
    try:
        with contextlib.closing(lines_of(path)) as lines:
            for number, line in enumerate(lines, 1):
                taker.read(line, f"{path}, line {number}")
                if number % _TELL_EVERY == 0:
                    voice.progress(f"reading {path.name}: {plural(number, 'line')}")
    except UnreadLine as error:
        more = f"; it looks like {looks}: --format {looks}" if looks else ""
        raise AskLessError(
            "log-unreadable",
            f"{path}, line {number}, can't be read: {error.why}{more}",
            f"expected are {error.expected}",
        ) from None


def lines_of(path: Path) -> Generator[str, None, None]:
    """The lines of a log, compressed or not, without their ends. Raises AskLessError: log-missing,
    log-unreadable.
    """
    with unpacked(path, "log-missing", "log-unreadable") as stream:
        if b"\0" in stream.peek(_LOOK_BYTES)[:_LOOK_BYTES]:
            raise AskLessError(
                "log-unreadable", f"{path} is not a text file", "name a server's log"
            )
        torn = b""
        while block := stream.read1(_BLOCK_BYTES):  # what is there, even if no more can be had
            whole, end, rest = block.rpartition(b"\n")
            if not end and len(torn) < _LINE_MOST:
                torn += rest
                continue
            yield from _decoded(torn + whole)
            torn = rest
        if torn:
            yield from _decoded(torn)


def _decoded(block: bytes) -> list[str]:
    """The lines of a piece of a file that ends where a line does."""
    text = block.decode("utf-8", "replace")
    return (
        text.split("\n") if "\r" not in text else [line.rstrip("\r") for line in text.split("\n")]
    )


def _follow(path: Path, taker: _LineReader, voice: Reporter) -> None:
    """Read a log and go on with what is written to it, also when another file takes its place,
    until someone stops it.
    """
    done = threading.Event()
    failed: list[AskLessError] = []
    tail = _Tail(path)

    def work() -> None:
        try:
            while True:
                last = done.is_set()
                for line in tail.new():
                    taker.read(line, f"{path}, a followed line")
                taker.flush()
                if last:
                    return
                done.wait(_LOOK_S)
        except UnreadLine as error:
            failed.append(_ended(path, f"{error.why}; expected are {error.expected}"))
        except OSError as error:
            failed.append(_ended(path, str(error.strerror or error)))
        except Exception as error:  # noqa: BLE001  (whatever ends this thread ends the command)
            failed.append(_ended(path, f"{type(error).__name__}: {error}"))
        finally:
            done.set()

    thread = threading.Thread(target=work, name="askless-log", daemon=True)
    thread.start()
    try:
        program.until_stopped(lambda: voice.note(f"Following {path}; press Ctrl-C to stop."), done)
    finally:
        done.set()
        thread.join()
    if failed:
        raise failed[0]


def _ended(path: Path, why: str) -> AskLessError:
    return AskLessError(
        "reader-ended",
        f"{path} can't be read further: {why}",
        "everything before it is in the capture; start again after it",
    )


class _Tail:
    """What a file holds and what is appended to it; when another one takes its place, the rest of
    the old one, then the new one.
    """

    def __init__(self, path: Path) -> None:
        self._path = path
        self._stream: IO[bytes] | None = None
        self._torn = b""
        self._open()

    def _open(self) -> None:
        with contextlib.suppress(OSError):
            self._stream = self._path.open("rb")

    def new(self) -> Iterator[str]:
        """The lines that have been completed since."""
        yield from self._rest()
        if self._is_replaced():
            yield from self._rest()  # what was written before it was moved
            if self._stream is not None:
                self._stream.close()
            self._stream, self._torn = None, b""
            self._open()
            yield from self._rest()

    def _rest(self) -> Iterator[str]:
        if self._stream is None:
            return
        while data := self._stream.read(1 << 20):
            first, *lines = data.split(b"\n")
            self._torn += first
            if lines or len(self._torn) > _LINE_MOST:
                whole, self._torn = [self._torn, *lines[:-1]], lines[-1] if lines else b""
                for line in whole:
                    yield line.decode("utf-8", "replace").rstrip("\r")

    def _is_replaced(self) -> bool:
        if self._stream is None:
            return True
        try:
            there, here = self._path.stat(), os.fstat(self._stream.fileno())
        except OSError:
            return False  # moved away, and nothing in its place yet
        return (there.st_dev, there.st_ino) != (
            here.st_dev,
            here.st_ino,
        ) or there.st_size < self._stream.tell()
