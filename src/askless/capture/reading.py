"""Reads captures as a stream: request by request, in memory that does not grow with their
number.
"""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterator, Sequence
from hashlib import blake2b
from pathlib import Path as FilePath
from typing import Any

import msgspec
from msgspec.structs import astuple, replace

from askless.capture import events
from askless.capture.lines import LINE_MOST_BYTES, TornInput, files_of, lines_of, opened
from askless.core.errors import AskLessError
from askless.core.records.model import Load, Model, Relation, Request, Used, Wait
from askless.core.records.request_builder import CaptureRequestBuilder
from askless.core.records.sampling import Counts, Evicted
from askless.core.records.traffic import RequestBegan, RequestEnded

_TAG_LEAST = 3  # letters that begin a request's name
_LETTERS = "bcdfghjkmnpqrstvwxz"  # no vowels: no words
# what decoding a line may end in
_UNREADABLE = (msgspec.DecodeError, UnicodeDecodeError, RecursionError)
# Half of a surrogate pair, which no text may hold: what a program passed on as it got it.
_HALF = re.compile(
    rb"(?<!\\)((?:\\\\)*)(?:(\\u[dD][89abAB][0-9a-fA-F]{2}\\u[dD][c-fC-F][0-9a-fA-F]{2})"
    rb"|\\u[dD][89a-fA-F][0-9a-fA-F]{2})"
)


# recorders that are no part of the program whose queries they record
_READERS = ("log", "packets", "relay", "traces")


def is_running(pid: int) -> bool:
    """Whether there is a process with this number on this machine."""
    try:
        os.kill(pid, 0)
    except (ProcessLookupError, OverflowError):
        return False
    except PermissionError:
        pass
    return pid > 0


class FileReport:
    """What reading one file of a capture told, besides its requests."""

    def __init__(self, path: FilePath) -> None:
        self.path = path
        self.header: events.Capture | None = None
        self.lines = 0
        self.bad_lines: list[tuple[int, str]] = []
        self.torn = False
        self.closed = False
        self.lost: list[events.Lost] = []
        self.notes: list[str] = []
        self.modules = events.Modules()
        self.spent_ns = 0
        self.requests = 0
        self.queries = 0
        self.open_requests = 0
        self.left_out = Counts()
        self.dropped = Evicted()
        self.more = 0  # queries beyond the most that are kept of a request
        self.beyond = 0  # and those that are only added up, their request having very many

    @property
    def is_sound(self) -> bool:
        """Whether nothing is missing of what was recorded; a last line that a crash has torn is
        normal.
        """
        return not self.bad_lines and not self.lost and not self.is_cut_short

    @property
    def is_cut_short(self) -> bool:
        """Whether a reader of logs, packets, spans or connections has ended before its input did.

        A recorded program may end in any way: what it asked until then is all that there is.
        """
        header = self.header
        return (
            header is not None
            and header.recorder in _READERS
            and not self.closed
            and not is_running(header.pid)
        )

    def add(self, other: FileReport) -> None:
        """What reading the next range of the same file told."""
        self.header = self.header or other.header
        self.lines += other.lines
        self.bad_lines += other.bad_lines
        self.torn = self.torn or other.torn
        self.closed = self.closed or other.closed
        self.lost += other.lost
        self.notes += other.notes
        self.modules = other.modules if other.modules != events.Modules() else self.modules
        self.spent_ns = max(self.spent_ns, other.spent_ns)
        self.requests += other.requests
        self.queries += other.queries
        self.open_requests += other.open_requests
        self.left_out = self.left_out.plus(other.left_out)
        self.dropped = max(self.dropped, other.dropped, key=lambda one: one.files)
        self.more += other.more
        self.beyond += other.beyond


def tag_of(header: events.Capture, letters: int = _TAG_LEAST) -> str:
    """Some letters that tell a file of a capture from the others: made of what its header says, not
    of its name.
    """
    text = (
        f"{header.pid}|{header.started_unix_s}|{header.clock_ns}|{header.recorder}|{header.program}"
    )
    number = int.from_bytes(
        blake2b(text.encode("utf-8", "replace"), digest_size=16).digest(), "big"
    )
    result = ""
    for _ in range(letters):
        number, letter = divmod(number, len(_LETTERS))
        result += _LETTERS[letter]
    return result


class Feed:
    """Takes the lines of one capture file as they come, and gives requests as they end."""

    def __init__(self, path: FilePath = FilePath(), tag: str = "") -> None:
        self.path = path
        self.report = report = FileReport(path)
        self.assembly = assembly = CaptureRequestBuilder(tag)
        self._others = False  # whether there are lines of requests that someone else reads
        self._decode = msgspec.json.Decoder(events.AnyEvent).decode
        self._handlers: dict[type, Callable[[Any], None]] = {
            events.StatementEvent: lambda event: assembly.statement(
                event.id, event.text, event.system, event.names
            ),
            events.Forget: lambda event: assembly.forget(event.before),
            events.Columns: lambda event: assembly.columns(
                event.statement, event.names, event.sampled, event.origins
            ),
            events.PlaceEvent: lambda event: assembly.place(
                event.id, event.file, event.line, event.function, event.caller, event.digest
            ),
            events.LoadEvent: lambda event: assembly.load(
                event.id,
                Load(*astuple(event)[1:]),
            ),
            events.ModelEvent: self._model,
            events.UseEvent: self._use,
            events.WaitsEvent: self._errands,
            events.RequestEvent: lambda event: assembly.begin(
                RequestBegan(
                    event.id,
                    event.route,
                    event.start_ns,
                    event.kind,
                    event.thread,
                    event.path,
                    event.warm_up,
                )
            ),
            events.Queries: lambda event: assembly.add(event.request, event),
            events.Capture: self._capture,
            events.Note: lambda event: report.notes.append(event.text),
            events.Lost: report.lost.append,
            events.LeftOut: self._left_out,
            events.Modules: self._modules,
            events.Close: self._close,
        }

    def take(self, line: bytes) -> Request | None:
        """Read one line; the request that ends with it, if one does. A line that can't be read is
        reported.
        """
        try:
            event = self._decode(line)
        except _UNREADABLE as error:
            event = self._mended(line)
            if event is None:
                self._bad(str(error))
                return None
        kind = type(event)
        if self.report.header is None and kind is not events.Capture:
            raise self.foreign()
        try:
            if isinstance(event, events.End):
                return self._end(event)
            self._handlers[kind](event)
        except (KeyError, IndexError) as error:
            if self._others and getattr(event, "request", None) not in self.assembly.open:
                return None
            self._bad(f"refers to a missing definition: {error}")
        except (ValueError, OverflowError) as error:
            self._bad(str(error))
        return None

    def _mended(self, line: bytes) -> Any:
        """The event of a line whose only fault are halves of surrogate pairs, each replaced; None
        for any other.
        """
        whole = _HALF.sub(lambda match: match[1] + (match[2] or rb"\ufffd"), line)
        if whole == line:
            return None
        try:
            return self._decode(whole)
        except _UNREADABLE:
            return None

    def foreign(self) -> AskLessError:
        """What to say of a file that is not a capture."""
        empty = self.report.lines == 0 and self.path.is_file() and self.path.stat().st_size == 0
        what = (
            "is empty"
            if empty
            else "is not an Ask Less capture: its first line is not a capture header"
        )
        return AskLessError(
            "capture-empty" if empty else "capture-foreign",
            f"{self.path} {what}",
            "name a file or folder that `askless capture` wrote",
        )

    def _bad(self, reason: str) -> None:
        if self.report.header is None:
            raise self.foreign()
        self.report.bad_lines.append((self.report.lines, reason))

    def _capture(self, event: events.Capture) -> None:
        if event.format != events.FORMAT:
            raise self.foreign()
        if event.version > events.VERSION:
            raise AskLessError(
                "capture-newer",
                f"{self.path} is written in version {event.version} of the capture format; this "
                f"Ask Less reads up to version {events.VERSION}",
                "upgrade Ask Less: pip install --upgrade ask-less",
            )
        if self.report.header is not None:
            raise ValueError("a second header")
        self.report.header = event
        tables = self.assembly.tables
        tables.tag = tables.tag or tag_of(event)
        tables.recorder, tables.unseen, tables.sample = (
            event.recorder,
            event.unseen,
            max(event.sample, 1),
        )

    def _model(self, event: events.ModelEvent) -> None:
        # The fields of a line are those of the record, in its order; a relation is under its name.
        relations = {
            name: Relation(name, *astuple(relation)) for name, relation in event.relations.items()
        }
        self.assembly.model(Model(*astuple(replace(event, relations=relations))))

    def _use(self, event: events.UseEvent) -> None:
        for used in event.used:
            seen = Used(used.model, used.objects, used.touched, used.columns, used.relations)
            self.assembly.use(event.request, used.query, seen)

    def _errands(self, event: events.WaitsEvent) -> None:
        places = self.assembly.tables.places
        self.assembly.errands(
            event.request,
            [
                Wait(one.kind, one.what, one.start_ns, one.duration_ns, places.get(one.place))
                for one in event.errands
            ],
        )

    def _end(self, event: events.End) -> Request:
        request = self.assembly.end(
            RequestEnded(
                event.request,
                event.end_ns,
                event.route,
                event.status,
                event.memory_bytes,
                event.more,
                event.more_ns,
            )
        )
        self.report.requests += 1
        self.report.more += event.more
        self.report.beyond += sum(one.count for one in request.beyond.values())
        return request

    def _modules(self, event: events.Modules) -> None:
        self.report.modules = event
        self.assembly.tables.serves = event.serves

    def _left_out(self, event: events.LeftOut) -> None:
        self.assembly.tables.left_out += event.routes.items()
        self.report.dropped = event.dropped
        for counts in event.routes.values():
            self.report.left_out = self.report.left_out.plus(counts)

    def _close(self, event: events.Close) -> None:
        self.report.closed = True
        self.report.spent_ns = event.spent_ns


class Reader(Feed):
    """Reads one file; iterating gives its requests in the order of their ends, those that never
    ended last.
    """

    def __iter__(self) -> Iterator[Request]:
        with opened(self.path) as stream:
            yield from self._requests(lines_of(stream))
        if self.report.header is None:
            raise self.foreign()
        yield from self._left()

    def _requests(self, lines: Iterator[bytes]) -> Iterator[Request]:
        """The requests that end in these lines; a last line without its newline counts where it is
        whole.
        """
        report, take = self.report, self.take
        try:
            for line in lines:
                report.lines += 1
                if line[-1] != 10 and not self._is_whole(line):
                    continue
                finished = take(line)
                if finished is not None:
                    yield finished
        except TornInput as error:
            self._tear()
            report.bad_lines.append(
                (report.lines + 1, f"the compressed stream ends early: {error}")
            )

    def _left(self) -> Iterator[Request]:
        """The requests that never ended, and the counts of what was read."""
        report = self.report
        report.queries = self.assembly.query_count
        report.open_requests = len(self.assembly.open)
        for request in self.assembly.left_open():
            report.requests += 1
            yield request

    def _is_whole(self, line: bytes) -> bool:
        """Whether a line without its newline is one; what is wrong with it is reported."""
        if len(line) == LINE_MOST_BYTES:
            self._bad(f"it has more than {LINE_MOST_BYTES // 1024**2} MiB")
            return False
        if not line.strip(b"\0 "):
            return False
        try:
            msgspec.json.decode(line)
        except _UNREADABLE:
            self._tear()
            return False
        return True

    def _tear(self) -> None:
        if self.report.header is None:
            raise self.foreign()
        self.report.torn = True


def header_of(path: FilePath) -> events.Capture | None:
    """The header of a capture file; None if it has none that can be read."""
    with opened(path) as stream:
        try:
            first = next(lines_of(stream), b"")
            return msgspec.json.decode(first, type=events.Capture)
        except (TornInput, *_UNREADABLE):
            return None


def tags_of(files: Sequence[FilePath]) -> list[str]:
    """What the names of each file's requests begin with: as few letters as tell the files of a
    capture apart.
    """
    headers = [header_of(file) for file in files] if len(files) > 1 else []
    letters = _TAG_LEAST
    while headers:
        tags = ["" if header is None else tag_of(header, letters) for header in headers]
        if len(set(tags)) == len(tags):
            return tags
        if letters > 2 * _TAG_LEAST:  # the same file twice: their order distinguishes them
            return [
                f"{tag}{_LETTERS[place % len(_LETTERS)] * (place // len(_LETTERS) + 1)}"
                for place, tag in enumerate(tags)
            ]
        letters += 1
    return [""] * len(files)


def read(path: FilePath, reports: list[FileReport] | None = None) -> Iterator[Request]:
    """All requests of a capture (a file or a folder), as a stream. `reports` gets one report a file
    as it is read.

    Raises AskLessError: capture-missing, capture-empty, capture-foreign, capture-newer,
    capture-unreadable.
    """
    files = files_of(path)
    for file, tag in zip(files, tags_of(files), strict=True):
        reader = Reader(file, tag)
        if reports is not None:
            reports.append(reader.report)
        yield from reader
