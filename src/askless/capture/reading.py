"""Reads captures as a stream: request by request, in memory that does not grow with their number."""

from __future__ import annotations

import gzip
import io
from collections.abc import Callable, Iterator
from functools import lru_cache
from pathlib import Path as FilePath
from typing import IO, Any

import msgspec

from askless.capture import events
from askless.core.errors import AskLessError
from askless.core.model import Load, Model, Place, Relation, Request, Statement, Tables, Used
from askless.core.sql.shape import Shaper

SUFFIXES = (".jsonl", ".jsonl.gz", ".jsonl.zst")


class FileReport:
    """What reading one file of a capture told, besides its requests."""

    def __init__(self, path: FilePath) -> None:
        self.path = path
        self.header: events.Capture | None = None
        self.lines = 0
        self.bad_lines: list[tuple[int, str]] = []
        self.torn = False
        self.closed = False
        self.notes: list[str] = []
        self.requests = 0
        self.queries = 0
        self.open_requests = 0


def files_of(path: FilePath) -> list[FilePath]:
    """The files of a capture: the file itself, or the capture files of a folder, by name.

    Raises AskLessError `capture-missing` or `capture-empty`.
    """
    if not path.exists():
        raise AskLessError(
            "capture-missing",
            f"there is no capture at {path}",
            "check the path, or record one: askless capture app -o DIR -- PROGRAM",
        )
    if not path.is_dir():
        return [path]
    found = sorted(file for file in path.iterdir() if file.name.endswith(SUFFIXES) and file.is_file())
    if not found:
        raise AskLessError(
            "capture-empty",
            f"the folder {path} holds no capture file (*.jsonl, *.jsonl.gz, *.jsonl.zst)",
            "record one into it: askless capture app -o " + str(path) + " -- PROGRAM",
        )
    return found


def _open(path: FilePath) -> IO[bytes]:
    try:
        raw = path.open("rb")
    except OSError as error:
        raise AskLessError(
            "capture-unreadable", f"can't read {path}: {error.strerror}", "check its permissions"
        ) from None
    if path.name.endswith(".gz"):
        return io.BufferedReader(gzip.GzipFile(fileobj=raw))
    if path.name.endswith(".zst"):
        try:
            import zstandard
        except ImportError:
            raw.close()
            raise AskLessError(
                "zst-missing", f"{path} is compressed with zstd", "install the extra: pip install 'ask-less[zst]'"
            ) from None
        return io.BufferedReader(zstandard.ZstdDecompressor().stream_reader(raw))
    return raw


@lru_cache(maxsize=4096)
def _constant(value: int, count: int) -> list[int]:
    """A column of one value; shared, so never changed in place."""
    return [value] * count


class Feed:
    """Takes the lines of one capture file as they come, and gives requests as they end."""

    def __init__(self, path: FilePath = FilePath()) -> None:
        self.path = path
        self.report = report = FileReport(path)
        self.tables = Tables({}, {}, {}, {})
        self._open_requests: dict[int, Request] = {}
        self._shapers: dict[str, Shaper] = {}
        self._last: events.Queries | None = None
        self._decode = msgspec.json.Decoder(events.AnyEvent).decode
        self._handlers: dict[type, Callable[[Any], None]] = {
            events.StatementEvent: self._statement,
            events.Columns: self._columns,
            events.PlaceEvent: self._place,
            events.LoadEvent: self._load,
            events.ModelEvent: self._model,
            events.UseEvent: self._use,
            events.RequestEvent: self._request,
            events.Capture: self._capture,
            events.Note: lambda event: report.notes.append(event.text),
            events.Close: self._close,
        }

    def take(self, line: bytes) -> Request | None:
        """Read one line; the request that ends with it, if one does. A line that can't be read is reported."""
        try:
            event = self._decode(line)
        except (msgspec.DecodeError, UnicodeDecodeError) as error:
            self._bad(line, str(error))
            return None
        kind = type(event)
        if self.report.header is None and kind is not events.Capture:
            raise self._foreign()
        try:
            if kind is events.Queries:
                self._queries(event)
            elif kind is events.End:
                return self._end(event)
            else:
                self._handlers[kind](event)
        except (KeyError, IndexError, ValueError) as error:
            self.report.bad_lines.append((self.report.lines, f"refers to what is not there: {error}"))
        return None

    def _foreign(self) -> AskLessError:
        empty = self.report.lines == 0 and self.path.is_file() and self.path.stat().st_size == 0
        what = "is empty" if empty else "is not an Ask Less capture: its first line is no capture header"
        return AskLessError(
            "capture-empty" if empty else "capture-foreign",
            f"{self.path} {what}",
            "name a file or folder that `askless capture` wrote",
        )

    def _bad(self, line: bytes, reason: str) -> None:
        if self.report.header is None:
            raise self._foreign()
        self.report.bad_lines.append((self.report.lines, reason))

    def _capture(self, event: events.Capture) -> None:
        if event.format != events.FORMAT:
            raise self._foreign()
        if event.version > events.VERSION:
            raise AskLessError(
                "capture-newer",
                f"{self.path} is written in version {event.version} of the capture format; this Ask Less reads up to "
                f"version {events.VERSION}",
                "upgrade Ask Less: pip install --upgrade ask-less",
            )
        self.report.header = event

    def _statement(self, event: events.StatementEvent) -> None:
        shaper = self._shapers.get(event.system)
        if shaper is None:
            shaper = self._shapers[event.system] = Shaper(event.system)
        shape = shaper.shape("".join(event.text))
        self.tables.statements[event.id] = Statement(event.id, event.text, shape, event.system, event.names)

    def _columns(self, event: events.Columns) -> None:
        statement = self.tables.statements[event.statement]
        statement.columns, statement.sampled = event.names, event.sampled

    def _place(self, event: events.PlaceEvent) -> None:
        caller = self.tables.places.get(event.caller)
        self.tables.places[event.id] = Place(event.file, event.line, event.function, caller)

    def _load(self, event: events.LoadEvent) -> None:
        self.tables.loads[event.id] = Load(event.orm, event.kind, event.model, event.relation, event.target, event.many)

    def _model(self, event: events.ModelEvent) -> None:
        relations = {
            name: Relation(name, found.target, found.many, found.local, found.remote, found.link)
            for name, found in event.relations.items()
        }
        self.tables.models[event.orm, event.name] = Model(
            event.orm, event.name, event.table, event.keys, event.attributes, relations
        )

    def _use(self, event: events.UseEvent) -> None:
        request = self._open_requests[event.request]
        if not request.uses:
            request.uses = {}
        for used in event.used:
            if not 0 <= used.query < len(request.statements):
                raise IndexError(f"query {used.query} of request {event.request}")
            found = Used(used.model, used.objects, used.touched, used.columns, used.relations)
            request.uses.setdefault(used.query, []).append(found)

    def _request(self, event: events.RequestEvent) -> None:
        request = Request(event.id, event.route, self.tables, event.kind, event.start_ns)
        request.path, request.warm_up = event.path, event.warm_up
        self._open_requests[event.id] = request

    def _queries(self, event: events.Queries) -> None:
        request = self._open_requests[event.request]
        count = event.count
        durations = event.duration_ns
        statements, rows, sizes, places, loads = (
            column if type(column) is list else _constant(column, count)  # type: ignore[arg-type]
            for column in (event.statement, event.rows, event.bytes, event.place, event.load)
        )
        if not count == len(statements) == len(durations) == len(rows) == len(sizes) == len(places) == len(loads):
            raise ValueError("columns of different lengths")
        self.report.queries += count
        before = len(request.statements)
        if before:
            request.statements = request.statements + statements
            request.durations_ns = request.durations_ns + durations
            request.rows = request.rows + rows
            request.bytes = request.bytes + sizes
            request.places = request.places + places
            request.loads = request.loads + loads
        else:
            request.statements, request.durations_ns, request.rows = statements, durations, rows
            request.bytes, request.places, request.loads = sizes, places, loads
        request.parts.append(event)
        if event.widths:
            request.widths = request.widths | {before + i: widths for i, widths in event.widths.items()}
        if event.error:
            request.errors = request.errors | {before + i: error for i, error in event.error.items()}
        if event.batch:
            request.batches = request.batches | {before + i: size for i, size in event.batch.items()}
        self._last = event

    def _end(self, event: events.End) -> Request | None:
        request = self._open_requests.pop(event.request)
        request.end_ns, request.status = event.end_ns, event.status
        request.route = event.route or request.route
        self.report.requests += 1
        return request

    def _close(self, event: events.Close) -> None:
        self.report.closed = True


class Reader(Feed):
    """Reads one file; iterating gives its requests in the order of their ends, those that never ended last."""

    def __iter__(self) -> Iterator[Request]:
        report = self.report
        take = self.take
        with _open(self.path) as stream:
            for line in self._lines(stream):
                finished = take(line)
                if finished is not None:
                    yield finished
        if report.header is None:
            raise self._foreign()
        report.open_requests = len(self._open_requests)
        for request in self._open_requests.values():
            if request.statements:
                report.requests += 1
                request.end_ns = max(self._last_ns(), request.start_ns)
                yield request

    def _last_ns(self) -> int:
        """The end of the last query read: all that is known of the end of a request that never ended."""
        last = self._last
        return last.column("start_ns")[-1] + last.duration_ns[-1] if last is not None and last.count else 0

    def _lines(self, stream: IO[bytes]) -> Iterator[bytes]:
        report = self.report
        try:
            for line in stream:
                report.lines += 1
                if line[-1] == 10:
                    yield line
                elif line.strip(b"\0 "):
                    try:
                        msgspec.json.decode(line)
                    except msgspec.DecodeError:
                        if report.header is None:
                            raise self._foreign() from None
                        report.torn = True
                    else:
                        yield line
        except (OSError, EOFError, gzip.zlib.error) as error:  # type: ignore[attr-defined]
            if report.header is None:
                raise self._foreign() from None
            report.torn = True
            report.bad_lines.append((report.lines + 1, f"the compressed stream ends early: {error}"))
        except Exception as error:
            if type(error).__name__ != "ZstdError":
                raise
            if report.header is None:
                raise self._foreign() from None
            report.torn = True


def read(path: FilePath, reports: list[FileReport] | None = None) -> Iterator[Request]:
    """All requests of a capture (a file or a folder), as a stream. `reports` gets one report a file as it is read.

    Raises AskLessError: capture-missing, capture-empty, capture-foreign, capture-newer, capture-unreadable.
    """
    for file in files_of(path):
        reader = Reader(file)
        if reports is not None:
            reports.append(reader.report)
        yield from reader
