"""Puts requests together from what a source tells: events of a capture file, or records of live
traffic.

`Assembly` is what both share: tables that queries refer to by number, and requests that are open.
It checks what it takes, so that no report meets a number that leads nowhere.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from functools import lru_cache
from typing import Any, Protocol, TypeVar

import msgspec

from askless.core.records.interning import Interner, StatementInterner
from askless.core.records.model import (
    BLENDED,
    LOOKED_MOST,
    CallSite,
    CaptureTables,
    Columns,
    Load,
    Model,
    OverflowTotals,
    Request,
    Statement,
    Used,
    Wait,
)
from askless.core.records.traffic import QuerySeen, RequestBegan, RequestEnded, by_position
from askless.core.sql.shape import shaper_of

Thing = TypeVar("Thing")

_DEPTH_MOST = 200  # callers of a line: a chain is walked by recursion where it is compared


class QueryBlock(Columns, Protocol):
    """Queries of one request, by column: a single number replaces a column that is the same for all
    of them.
    """

    count: int
    statement: list[int] | int
    duration_ns: list[int]
    rows: list[int] | int
    bytes: list[int] | int
    place: list[int] | int
    load: list[int] | int
    widths: dict[int, list[int]] | None
    error: dict[int, str] | None
    batch: dict[int, int] | None
    plan: dict[int, str] | None

    @property
    def has_server_fields(self) -> bool:
        """Whether the column `told` says something of some query."""


@lru_cache(maxsize=4096)
def _constant(value: int, count: int) -> list[int]:
    """A column of one value; shared, so never changed in place."""
    return [value] * count


def _lists(count: int, *columns: list[int] | int) -> list[list[int]]:
    """Columns as lists, if some are one number for all."""
    return [column if isinstance(column, list) else _constant(column, count) for column in columns]


class CaptureRequestBuilder:
    """Requests of one source. What refers to what is not there raises KeyError, IndexError or
    ValueError.
    """

    def __init__(self, tag: str = "") -> None:
        self.tables = CaptureTables(tag=tag)
        self.open: dict[int, Request] = {}
        self.query_count = 0
        # open requests whose columns are their own, to be lengthened in place
        self._growing: set[int] = set()
        self._first: dict[str, int] = {}  # shapes -> their first statements
        self._depths: dict[int, int] = {0: 0}  # of places: how many callers each has

    def statement(
        self, number: int, parts: tuple[str, ...], system: str, names: tuple[str, ...]
    ) -> None:
        """A statement's text under a number: text that stays and literals, in turns."""
        if not len(parts) % 2:
            raise ValueError(
                f"statement {number} has {len(parts)} parts: text and literals take turns"
            )
        shape = shaper_of(system).shape("".join(parts))
        first = self._first.setdefault(shape.digest, number)
        self.tables.statements[number] = Statement(number, parts, shape, system, names, first=first)

    def forget(self, before: int) -> None:
        """Statements below a number are asked no more: what comes has tables of its own, in which
        they are not.
        """
        old = self.tables
        remaining = {number: one for number, one in old.statements.items() if number >= before}
        new = self.tables = msgspec.structs.replace(old, statements=remaining)
        old.left_out = []
        for request in self.open.values():
            request.tables = new
            for number in (*request.statements, *(number for number, _, _ in request.beyond)):
                remaining.setdefault(number, old.statements[number])
        self._first = {one.shape.digest: one.first for one in remaining.values()}

    def columns(
        self,
        number: int,
        names: tuple[str, ...],
        sampled: tuple[int, ...],
        origins: tuple[str, ...] = (),
    ) -> None:
        """The columns of a statement's result, which of them are sampled, and where each comes
        from.
        """
        if any(not 0 <= column < len(names) for column in sampled):
            raise IndexError(f"statement {number} samples a column that it does not have")
        statement = self.tables.statements[number]
        statement.columns, statement.sampled, statement.origins = names, sampled, origins

    def place(
        self, number: int, file: str, line: int, function: str, caller: int, digest: int = 0
    ) -> None:
        """A line of code under a number; `caller` is the number of the line that called it, 0 for
        none.
        """
        depth = self._depths[caller] + 1
        if depth > _DEPTH_MOST:
            raise ValueError(f"place {number} has more than {_DEPTH_MOST} callers")
        self._depths[number] = depth
        self.tables.places[number] = CallSite(
            file, line, function, self.tables.places.get(caller), digest
        )

    def load(self, number: int, load: Load) -> None:
        """What an ORM said, under a number."""
        self.tables.loads[number] = load

    def model(self, model: Model) -> None:
        """A model of the ORM."""
        self.tables.models[model.orm, model.name] = model

    def begin(self, event: RequestBegan) -> None:
        """A request begins."""
        if event.request in self.open:
            raise ValueError(f"request {event.request} starts a second time")
        request = Request(event.request, event.route, self.tables, event.kind, event.start_ns)
        request.path, request.warm_up = event.path, event.warm_up
        self.open[event.request] = request

    def add(self, number: int, block: QueryBlock) -> None:
        """Queries of an open request."""
        request = self.open[number]
        count = block.count
        durations = block.duration_ns
        statements, rows, sizes, places, loads = _lists(
            count, block.statement, block.rows, block.bytes, block.place, block.load
        )
        if (
            not count
            == len(statements)
            == len(durations)
            == len(rows)
            == len(sizes)
            == len(places)
            == len(loads)
        ):
            raise ValueError("columns of different lengths")
        if not self.tables.statements.keys() >= set(statements):
            raise KeyError(f"statement {min(set(statements).difference(self.tables.statements))}")
        for sparse in (block.widths, block.error, block.batch, block.plan):
            if sparse and not (min(sparse) >= 0 and max(sparse) < count):
                raise IndexError(f"query {max(sparse)} of {count}")
        self.query_count += count
        before = len(request.statements)
        if before >= LOOKED_MOST:
            _add_up(request, statements, durations, rows, sizes, places, loads)
            return
        if before:
            if number not in self._growing:
                self._growing.add(number)
                request.own_columns()
            request.statements += statements
            request.durations_ns += durations
            request.rows += rows
            request.bytes += sizes
            request.places += places
            request.loads += loads
        else:
            request.statements, request.durations_ns, request.rows = statements, durations, rows
            request.bytes, request.places, request.loads = sizes, places, loads
        request.parts.append(block)
        if block.widths:
            request.widths = _added(request.widths, block.widths, before)
        if block.error:
            request.errors = _added(request.errors, block.error, before)
        if block.batch:
            request.batches = _added(request.batches, block.batch, before)
        if block.has_server_fields:
            request.has_server_fields = True
        if block.plan:
            request.plans = _added(request.plans, block.plan, before)

    def use(self, number: int, query: int, used: Used) -> None:
        """What the application read of the result of a query of an open request."""
        request = self.open[number]
        if len(request.statements) <= query and request.beyond:
            return
        if not 0 <= query < len(request.statements):
            raise IndexError(f"query {query} of request {number}")
        if not request.uses:
            request.uses = {}
        request.uses.setdefault(query, []).append(used)

    def errands(self, number: int, errands: Iterable[Wait]) -> None:
        """What the application waited for in an open request, next to its queries."""
        request = self.open[number]
        request.errands = [*request.errands, *errands]

    def end(self, event: RequestEnded) -> Request:
        """A request ends; it is whole now."""
        request = self.open.pop(event.request)
        self._growing.discard(event.request)
        request.end_ns, request.status, request.memory_bytes = (
            event.end_ns,
            event.status,
            event.memory_bytes,
        )
        request.more, request.more_ns = event.more, event.more_ns
        request.route = event.route or request.route
        return self._whole(request)

    def _whole(self, request: Request) -> Request:
        request.put_in_order()
        if request.kind == "program" and self.tables.serves:
            request.kind = BLENDED
        return request

    def left_open(self) -> Iterable[Request]:
        """Requests that never ended, those without a query omitted; they end with the last query of
        theirs.
        """
        for request in self.open.values():
            if request.statements:
                self._whole(request)
                last = max(map(int.__add__, request.starts_ns, request.durations_ns))
                request.end_ns = max(last, request.start_ns)
                yield request


def _add_up(request: Request, *columns: list[int]) -> None:
    """Queries of a request that has very many: added up, and released."""
    if not request.beyond:
        request.beyond = {}
    for statement, duration_ns, rows, size, place, load in zip(*columns, strict=True):
        key = (statement, place, load)
        total = request.beyond.get(key)
        if total is None:
            total = request.beyond[key] = OverflowTotals()
        total.count += 1
        total.duration_ns += duration_ns
        total.rows += max(rows, 0)
        total.bytes += size


def _added(known: dict[int, Thing], more: dict[int, Thing], before: int) -> dict[int, Thing]:
    """A sparse column with what another block has of it, `before` queries further on. One that is
    empty is shared.
    """
    moved = {before + i: value for i, value in more.items()} if before else dict(more)
    if not known:
        return moved
    known.update(moved)
    return known


class _Seen:
    """Queries of one call, as a block."""

    def __init__(
        self,
        numbered: Sequence[tuple[int, tuple[str, ...] | None, int, int]],
        events: Sequence[QuerySeen],
    ) -> None:
        self.count = len(events)
        self.statement: list[int] | int = [number for number, _, _, _ in numbered]
        self.place: list[int] | int = [place for _, _, place, _ in numbered]
        self.load: list[int] | int = [load for _, _, _, load in numbered]
        self.duration_ns = [event.duration_ns for event in events]
        self.rows: list[int] | int = [event.rows for event in events]
        self.bytes: list[int] | int = [event.bytes for event in events]
        self.widths = by_position(list(event.widths) for event in events)
        self.error = by_position(event.error for event in events)
        self.batch = by_position(event.batch for event in events)
        self.plan = by_position(event.plan for event in events)
        self.has_server_fields = any(event.server_fields for event in events)
        self._literals = [literals for _, literals, _, _ in numbered]
        self._events = events

    def column(self, name: str) -> list[Any]:
        """One of the columns that few reports need, an entry a query."""
        if name == "literals":
            return list(self._literals)
        if name == "told":
            return [event.server_fields or None for event in self._events]
        values = [getattr(event, name) for event in self._events]
        return [int(value) for value in values] if name == "in_transaction" else values


class LiveRequestBuilder:
    """Takes records of live traffic and gives each request to `finished` when it ends; nothing is
    written anywhere.
    """

    def __init__(self, system: str, finished: Callable[[Request], None], tag: str = "") -> None:
        self.system = system
        self.notes: list[str] = []
        self._finished = finished
        self._assembly = CaptureRequestBuilder(tag)
        self._texts = StatementInterner()
        self._places: Interner[CallSite] = Interner()
        self._loads: Interner[Load] = Interner()

    def request_began(self, event: RequestBegan) -> None:
        """See `Receiver`."""
        self._assembly.begin(event)

    def queries(self, request: int, events: Sequence[QuerySeen]) -> None:
        """See `Receiver`."""
        before = len(self._assembly.open[request])
        self._assembly.add(request, _Seen([self._numbered(event) for event in events], events))
        for i, event in enumerate(events):
            for used in event.uses:
                self._assembly.use(request, before + i, used)

    def errands(self, request: int, errands: Sequence[Wait]) -> None:
        """See `Receiver`."""
        self._assembly.errands(request, errands)

    def request_ended(self, event: RequestEnded) -> None:
        """See `Receiver`."""
        self._finished(self._assembly.end(event))

    def model(self, model: Model) -> None:
        """See `Receiver`."""
        self._assembly.model(model)

    def note(self, text: str) -> None:
        """See `Receiver`."""
        self.notes.append(text)

    def _numbered(self, event: QuerySeen) -> tuple[int, tuple[str, ...] | None, int, int]:
        number, literals, parts = self._texts.number(event.text, event.names)
        if parts:
            self._assembly.statement(number, parts, self.system, event.names)
        if event.columns and not self._assembly.tables.statements[number].columns:
            self._assembly.columns(number, event.columns, event.sampled, event.origins)
        return number, literals, self._place(event.place), self._load(event.load)

    def _place(self, place: CallSite | None) -> int:
        if place is None:
            return 0
        number, new = self._places.number(place)
        if new:
            self._assembly.tables.places[number] = place
        return number

    def _load(self, load: Load | None) -> int:
        if load is None:
            return 0
        number, new = self._loads.number(load)
        if new:
            self._assembly.load(number, load)
        return number
