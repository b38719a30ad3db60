"""Adds to a capture what its programs had no time to write before they were killed.

A recorded process keeps its last queries in a ring that outlives it (askless_probe/crash_buffer.py
tells the form). What the capture's file lacks of it is appended as ordinary events, so that no one
who reads a capture need know of rings.

Only tails that this run of Ask Less has seen come into being are read: their form is one for
trusted data.
"""

from __future__ import annotations

import marshal
import os
from collections.abc import Iterable, Iterator
from pathlib import Path
from struct import Struct
from typing import Any

import msgspec

from askless.capture import events
from askless.capture.reading import Reader, is_running
from askless.core.errors import AskLessError
from askless.core.formatting import plural
from askless.core.json_encoding import encoded
from askless.core.records.sampling import untold

SUFFIX = ".tail"
SLOT = 512  # bytes
_BRIEF = Struct("<cxHIIIIqqqQ")


def tails_of(folder: Path) -> set[Path]:
    """The tails in a folder, those of running programs among them."""
    return set(folder.glob("*.jsonl" + SUFFIX))


def finish(folder: Path, foreign: set[Path]) -> int:
    """Append what killed processes had not written, and remove their tails; the number of queries
    that came so.

    `foreign` tails are left alone, and so are those of processes that still run.
    """
    added = 0
    for tail in sorted(tails_of(folder) - foreign):
        capture = tail.with_name(tail.name.removesuffix(SUFFIX))
        try:
            if not _runs(capture):
                added += _finish_one(capture, tail)
                tail.unlink()
        except (
            OSError,
            AskLessError,
        ):  # the file is gone, or damaged: what it holds can still be read
            continue
    return added


def _runs(capture: Path) -> bool:
    """Whether the process whose number the file's name begins with is there still."""
    number = capture.name.split("-")[0]
    return number.isdecimal() and is_running(int(number))


def _ring_bytes(data: bytes) -> int:
    """Where the ring ends and lines begin: a slot begins with its kind, or is empty; a line with a
    bracket.
    """
    for at in range(0, len(data), SLOT):
        if data[at : at + 1] == b"{":
            return at
    return len(data) // SLOT * SLOT


def slots_of(data: bytes) -> Iterator[tuple[Any, ...]]:
    """What the ring's slots hold, those omitted that a death has cut."""
    for at in range(0, len(data), SLOT):
        kind, held = data[at : at + 1], data[at : at + SLOT]
        try:
            if kind == b"\x01":
                _, load, request, text, place, connection, start, duration, rows, thread = (
                    _BRIEF.unpack_from(held)
                )
                values = marshal.loads(held[_BRIEF.size :])
                if isinstance(values, dict):
                    names, values = tuple(values), tuple(values.values())
                else:
                    names = ()
                yield (
                    request,
                    text,
                    start,
                    duration,
                    rows,
                    place,
                    connection // 2,
                    "",
                    bool(connection % 2),
                    load,
                    thread,
                    None,
                    0,
                    names,
                    values,
                )
            elif kind == b"\x02":
                yield marshal.loads(held[1:])
        except (ValueError, TypeError, EOFError):
            continue


class _OpenRequest(msgspec.Struct, array_like=True):
    """A slot: a request has begun."""

    request: int
    kind: str
    route: str
    path: str
    start_ns: int
    warm_up: bool


class _BufferedQuery(msgspec.Struct, array_like=True):
    """A slot: a query has run. `text`, `place` and `load` may be numbers of lines after the
    ring.
    """

    request: int
    text: str | int
    start_ns: int
    duration_ns: int
    rows: int
    place: int
    connection: int
    system: str
    inside: bool
    load: int
    thread: int
    error: str | None
    batch: int
    names: tuple[Any, ...]
    parameters: tuple[Any, ...] | None


def _contents(ring: bytes) -> tuple[dict[int, _OpenRequest], list[_BufferedQuery]]:
    """The requests that the slots say have begun, and the queries in the order of their starts."""
    begun: dict[int, _OpenRequest] = {}
    queries = []
    for fields in slots_of(ring):
        if fields[0] == 0:
            begun[fields[1]] = _OpenRequest(*fields[1:])
        elif fields[0]:
            queries.append(_BufferedQuery(*fields))
    return begun, sorted(queries, key=lambda query: query.start_ns)


def _omits(reader: Reader) -> bool:
    return reader.report.header is not None and reader.report.header.omits


def _finish_one(capture: Path, tail: Path) -> int:
    with open(os.open(tail, os.O_RDONLY | os.O_NOFOLLOW), "rb") as stream:
        data = stream.read()
    ring_bytes = _ring_bytes(data)
    reader = Reader(capture)
    ended = {request.number for request in reader}
    if reader.report.closed or ring_bytes < SLOT:
        return 0
    unfinished = reader.assembly.open
    ended -= unfinished.keys()
    begun, queries = _contents(data[:ring_bytes])
    written = {number: set(request.starts_ns) for number, request in unfinished.items()}
    addition = _Addition(reader, _lines_of(data[ring_bytes:]))
    missing = begun.keys() - ended - unfinished.keys()
    for number in missing:
        addition.begin(begun[number])
        written[number] = set()
    for query in queries:
        if query.request in written and query.start_ns not in written[query.request]:
            addition.query(query)
    if addition.queries:
        addition.line(
            events.Note(
                f"the program was killed: {plural(addition.queries, 'query')} were recovered from "
                "its crash buffer, without rows fetched later"
            )
        )
    if _omits(reader):
        addition.line(events.Note(f"the program was killed: {untold()}"))
    kinds = {number: request.kind for number, request in unfinished.items()}
    kinds |= {number: begun[number].kind for number in missing}
    if set(kinds.values()) <= {"program"} and not reader.report.torn:
        addition.close(reader, kinds)
    with open(os.open(capture, os.O_WRONLY | os.O_APPEND | os.O_NOFOLLOW), "ab") as file:
        file.write(b"".join(addition.lines))
    return addition.queries


def _lines_of(data: bytes) -> dict[int, dict[str, Any]]:
    """What is reported after the ring, by number; a last line that a death has cut is omitted."""
    lines = {}
    for line in data.splitlines():
        try:
            event = msgspec.json.decode(line)
            lines[event["number"]] = event
        except (msgspec.DecodeError, KeyError, TypeError):
            continue
    return lines


class _Addition:
    """Lines to append to a capture file; numbers go on where the file's own end."""

    def __init__(self, reader: Reader, described: dict[int, dict[str, Any]]) -> None:
        tables = reader.assembly.tables
        self.described = described
        self.lines: list[bytes] = [b"\n"] if reader.report.torn else []
        self.queries = 0
        self.last_ns = {
            number: max(
                map(int.__add__, request.starts_ns, request.durations_ns), default=request.start_ns
            )
            for number, request in reader.assembly.open.items()
        }
        self._statements: dict[tuple[str, str, tuple[str, ...]], int] = {}
        self._places: dict[int, int] = {0: 0}
        self._loads: dict[int, int] = {0: 0}
        self._first_statement = max(tables.statements, default=0) + 1
        self._next_place = max(tables.places, default=0) + 1
        self._first_load = max(tables.loads, default=0)

    def line(self, event: events.Event) -> None:
        """Append an event."""
        self.lines.append(encoded(event) + b"\n")

    def begin(self, begun: _OpenRequest) -> None:
        """A request that the file does not know yet."""
        self.line(
            events.RequestEvent(
                begun.request,
                begun.kind,
                begun.route,
                begun.start_ns,
                path=begun.path,
                warm_up=begun.warm_up,
            )
        )

    def close(self, reader: Reader, outside: Iterable[int]) -> None:
        """Nothing was under way but what is outside of requests: that ends here, and the file in
        good order.
        """
        for number in outside:
            self.line(events.End(number, self.last_ns.get(number, 0)))
        self.line(events.Close(reader.report.requests, reader.assembly.query_count + self.queries))

    def query(self, buffered: _BufferedQuery) -> None:
        """A query that the file does not hold; omitted where its text is lost."""
        if isinstance(buffered.text, str):
            text, system = buffered.text, buffered.system
        elif buffered.text in self.described:
            text, system = (
                self.described[buffered.text]["text"],
                self.described[buffered.text].get("system", ""),
            )
        else:
            return
        self.queries += 1
        self.last_ns[buffered.request] = max(
            self.last_ns.get(buffered.request, 0), buffered.start_ns + buffered.duration_ns
        )
        names = tuple(map(str, buffered.names)) if buffered.parameters else ()
        query = events.Queries(
            buffered.request, 1, self._statement(text, system, names), [buffered.duration_ns]
        )
        query.rows, query.place, query.load = (
            max(buffered.rows, 0),
            self._place(buffered.place),
            self._load(buffered.load),
        )
        query.error = {0: buffered.error[:500]} if buffered.error else None
        query.batch = {0: buffered.batch} if buffered.batch else None
        query.start_ns, query.connection, query.thread = (
            _raw([buffered.start_ns]),
            _raw(buffered.connection),
            _raw(buffered.thread),
        )
        query.in_transaction = _raw(int(buffered.inside))
        query.parameters = _raw([[_value(value) for value in buffered.parameters or ()]])
        self.line(query)

    def _statement(self, text: str, system: str, names: tuple[str, ...]) -> int:
        key = text, system, names
        number = self._statements.get(key)
        if number is None:
            number = self._statements[key] = self._first_statement + len(self._statements)
            self.line(events.StatementEvent(number, (text,), system, names))
        return number

    def _place(self, number: int) -> int:
        known = self._places.get(number)
        if known is None:
            known = 0
            for file, line, function in reversed(self.described.get(number, {}).get("frames", ())):
                self.line(events.PlaceEvent(self._next_place, file, line, function, known))
                known = self._next_place
                self._next_place += 1
            self._places[number] = known
        return known

    def _load(self, load: int) -> int:
        number = self._loads.get(load)
        if number is None:
            said = self.described.get(-load)
            number = 0
            if said is not None:
                number = self._first_load + len(self._loads)
                self.line(events.LoadEvent(number, *said["load"]))
            self._loads[load] = number
        return number


def _raw(value: object) -> msgspec.Raw:
    return msgspec.Raw(encoded(value))


def _value(value: Any) -> Any:
    """A parameter as captures hold it."""
    if value is None or isinstance(value, (bool, int, float)):
        return value
    if isinstance(value, str):
        return value.encode("utf-8", "replace").decode()
    return (
        ["bytes", value.hex()] if isinstance(value, bytes) else [type(value).__name__, repr(value)]
    )
