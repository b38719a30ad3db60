"""Requests, queries, shapes, call sites and findings as flat rows: what frames, Arrow tables and
Parquet files have as columns.

Within a version of Ask Less's documents columns are only added. Times are in milliseconds as the
application saw them; what is not known is None. Without values, literals in statements are masked,
and parameters and paths are empty.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from functools import lru_cache
from hashlib import blake2b
from pathlib import Path

import msgspec

from askless.capture.events import Capture as Header
from askless.capture.reading import FileReport, read
from askless.core.findings.finding import Finding
from askless.core.inference.failures import masked_error
from askless.core.json_encoding import encoded
from askless.core.records.model import CallSite, Load, Request, RequestHints, Statement
from askless.core.sql.masking import masked, shown_values
from askless.project.file import here
from askless.reports import documents


class RequestRecord(msgspec.Struct, frozen=True):
    """A request. `started_unix_s` is when it began; `queries` and what follows omit noise, which is
    counted in `noise`.
    """

    name: str
    route: str
    kind: str
    path: str
    status: int
    started_unix_s: float | None
    duration_ms: float
    warm_up: bool
    queries: int
    repeated: int
    database_ms: float
    rows: int
    bytes: int
    errors: int
    noise: int
    memory_bytes: int


class QueryRecord(msgspec.Struct, frozen=True):
    """A query. `request` is the name of its request, `number` its place there (from 1), `start_ms`
    counts from its begin.

    `shape` and `call_site` name rows of the other tables. `load` is what an ORM said of it: lazy,
    eager, refresh, query, write. `server_fields` is JSON: what else the server's log says of it, by
    its own names; `rows_examined` is the server's, if it reported it.
    """

    request: str
    route: str
    number: int
    start_ms: float
    duration_ms: float
    shape: str
    statement: str
    parameters: str
    system: str
    noise: bool
    rows: int | None
    bytes: int
    error: str
    connection: int
    in_transaction: bool
    call_site: str
    file: str
    line: int
    function: str
    orm: str
    load: str
    model: str
    relation: str
    rows_examined: int | None
    server_fields: str


class ShapeRecord(msgspec.Struct, frozen=True):
    """A shape over the whole capture. `kind` is select, insert, …; '' where the statement can't be
    read.
    """

    shape: str
    statement: str
    system: str
    noise: bool
    kind: str
    tables: tuple[str, ...]
    routes: tuple[str, ...]
    queries: int
    requests: int
    total_ms: float
    rows: int
    bytes: int
    errors: int


class CallSiteRecord(msgspec.Struct, frozen=True):
    """A line of code that sends queries, over the whole capture. `caller` is the call site that
    called it; '' for none.
    """

    call_site: str
    file: str
    line: int
    function: str
    caller: str
    queries: int
    shapes: int
    total_ms: float


class FindingRecord(msgspec.Struct, frozen=True):
    """A finding with its first line of code and its first advice; numbers are a request's, but
    `total_ms`, the capture's.
    """

    key: str
    severity: str
    pattern: str
    variant: str
    route: str
    evidence: str
    title: str
    file: str
    line: int | None
    function: str
    requests: int
    queries: float
    avoidable: float
    query_ms: float
    saving_ms: float
    share: float
    total_ms: float
    rows: float
    bytes: float
    shape: str
    sql: str
    advice: str
    code: str
    accepted: bool


def finding_record(finding: Finding, accepted: bool = False) -> FindingRecord:
    """A finding as one flat row."""
    line = finding.lines[0] if finding.lines else None
    advice = finding.advice[0] if finding.advice else None
    cost = finding.cost
    return FindingRecord(
        key=finding.key,
        severity=finding.severity,
        pattern=finding.pattern,
        variant=finding.variant,
        route=finding.route,
        evidence=finding.evidence,
        title=finding.title,
        file=line.file if line is not None else "",
        line=(line.line or None) if line is not None else None,
        function=line.function if line is not None else "",
        requests=finding.requests,
        queries=cost.queries,
        avoidable=cost.avoidable,
        query_ms=cost.query_ms,
        saving_ms=cost.saving_ms,
        share=cost.share,
        total_ms=cost.total_ms,
        rows=cost.rows,
        bytes=cost.bytes,
        shape=finding.shape,
        sql=finding.sql,
        advice=advice.title if advice is not None else "",
        code=advice.code if advice is not None else "",
        accepted=accepted,
    )


class PlanRecord(msgspec.Struct, frozen=True):
    """A statement's plan in short: its steps, what was observed on them, and the indexes to try."""

    sql: str
    shape: str
    routes: tuple[str, ...]
    queries: int
    total_ms: float
    steps: tuple[str, ...]
    observations: tuple[str, ...]
    indexes: tuple[str, ...]
    error: str


def plan_record(row: documents.PlanRow) -> PlanRecord:
    """A plan as one flat row, its tree from the top, a step after the other."""
    steps: list[str] = []
    observations: list[str] = []
    waiting = list(reversed(row.plan))
    while waiting:
        node = waiting.pop()
        steps.append(" ".join(filter(None, (node.kind, node.table, node.index))))
        observations += node.observations
        waiting += reversed(node.children)
    return PlanRecord(
        row.sql,
        row.shape,
        row.routes,
        row.queries,
        row.total_ms,
        tuple(steps),
        tuple(observations),
        tuple(index.ddl for index in row.indexes),
        row.error,
    )


class TimedRequest(msgspec.Struct):
    """A request and what its capture's file says of the time: `clock_ns` of its clock was
    `started_unix_s`.
    """

    request: Request
    started_unix_s: float = 0.0
    clock_ns: int = 0
    program: str = ""

    @property
    def unix_s(self) -> float | None:
        """When the request began; None if the file does not tell."""
        if not self.started_unix_s:
            return None
        return self.started_unix_s + (self.request.start_ns - self.clock_ns) / 1e9


def with_clock(request: Request, header: Header | None) -> TimedRequest:
    """A request with what its file's header tells."""
    return TimedRequest(
        request,
        *((header.started_unix_s, header.clock_ns, header.program) if header is not None else ()),
    )


def arrived(path: Path, files: list[FileReport] | None = None) -> Iterator[TimedRequest]:
    """The requests of a capture in the project's own terms, with their clocks. Raises AskLessError:
    see `read`.
    """
    files = [] if files is None else files
    for request in here().terms().applied(read(path, files)):
        yield with_clock(request, files[-1].header)


def request_record(one: TimedRequest, values: bool = False) -> RequestRecord:
    """A request as one flat row."""
    request = one.request
    queried = [i for i in range(len(request)) if not request.statement(i).shape.noise]
    return RequestRecord(
        name=request.name,
        route=request.route,
        kind=request.kind,
        path=request.path if values else "",
        status=request.status,
        started_unix_s=one.unix_s,
        duration_ms=(request.end_ns - request.start_ns) / 1e6,
        warm_up=request.warm_up,
        queries=len(queried),
        repeated=len(queried) - len({request.statement(i).shape.digest for i in queried}),
        database_ms=request.database_ns() / 1e6,
        rows=sum(max(request.rows[i], 0) for i in queried),
        bytes=sum(request.bytes[i] for i in queried),
        errors=len(request.errors),
        noise=len(request) - len(queried),
        memory_bytes=request.memory_bytes,
    )


_NOWHERE = CallSite("", 0, "")
_NOTHING = Load("", "", "", "", "", False)


def query_records(request: Request, values: bool = False) -> Iterator[QueryRecord]:
    """The queries of a request, in the order of their starts, a flat row each."""
    for i in range(len(request)):
        statement, place, load = request.statement(i), request.place(i), request.load(i)
        site, loaded = place or _NOWHERE, load or _NOTHING
        error = request.errors.get(i, "")
        hints = request.server_fields[i] if request.has_server_fields else None
        yield QueryRecord(
            request=request.name,
            route=request.route,
            number=i + 1,
            start_ms=(request.starts_ns[i] - request.start_ns) / 1e6,
            duration_ms=request.durations_ns[i] / 1e6,
            shape=statement.shape.digest,
            statement=request.text(i) if values else _masked(statement.text, statement.system),
            parameters=shown_values(request.parameters[i]) if values else "",
            system=statement.system,
            noise=statement.shape.noise,
            rows=request.rows[i] if request.rows[i] >= 0 else None,
            bytes=request.bytes[i],
            error=error if values else masked_error(error),
            connection=request.connections[i],
            in_transaction=bool(request.in_transaction[i]),
            call_site=place_name(place) if place is not None else "",
            file=site.file,
            line=site.line,
            function=site.function,
            orm=loaded.orm,
            load=loaded.kind,
            model=loaded.model,
            relation=loaded.relation,
            rows_examined=request.rows_examined(i),
            server_fields=_server_fields(hints, values) if hints else "",
        )


def _server_fields(hints: dict[str, RequestHints], values: bool) -> str:
    """What a server told of a query, as JSON; texts hold values, at times."""
    shown = {
        name: masked_error(value) if isinstance(value, str) and not values else value
        for name, value in hints.items()
    }
    return encoded(shown).decode()


_masked = lru_cache(10_000)(masked)


@lru_cache(50_000)
def place_name(place: CallSite) -> str:
    """The name of a call site: the same in every capture of the same code."""
    caller = place_name(place.caller) if place.caller is not None else ""
    text = f"{place.file}|{place.line}|{place.function}|{caller}"
    return blake2b(text.encode("utf-8", "replace"), digest_size=6).hexdigest()


class _Sum:
    """What queries of one kind come to."""

    def __init__(self) -> None:
        self.queries = self.duration_ns = self.rows = self.bytes = self.errors = self.requests = 0
        self.names: dict[str, None] = {}  # of routes, or of shapes


class Totals:
    """Adds up shapes and call sites over a capture: memory grows with their number, not with that
    of the queries.
    """

    def __init__(self, values: bool = False) -> None:
        self._values = values
        self._shapes: dict[str, tuple[Statement, _Sum]] = {}
        self._places: dict[str, tuple[CallSite, _Sum]] = {}

    def add(self, request: Request) -> None:
        """Count a request's queries in."""
        here = set()
        for i in range(len(request)):
            statement, place = request.statement(i), request.place(i)
            digest = statement.shape.digest
            sums = [self._shapes.setdefault(digest, (statement, _Sum()))[1]]
            sums[0].names[request.route] = None
            if digest not in here:
                here.add(digest)
                sums[0].requests += 1
            if place is not None:
                sums.append(self._places.setdefault(place_name(place), (place, _Sum()))[1])
                sums[1].names[digest] = None
            for one in sums:
                one.queries += 1
                one.duration_ns += request.durations_ns[i]
                one.rows += max(request.rows[i], 0)
                one.bytes += request.bytes[i]
                one.errors += i in request.errors

    def shapes(self) -> Iterable[ShapeRecord]:
        """The shapes, the one that takes most time first."""
        from askless.core.sql.structure_store import structure_of  # which needs the SQL parser

        for digest, (statement, one) in sorted(
            self._shapes.items(), key=lambda item: -item[1][1].duration_ns
        ):
            structure = structure_of(statement.text, statement.system)
            yield ShapeRecord(
                shape=digest,
                statement=statement.text
                if self._values
                else _masked(statement.text, statement.system),
                system=statement.system,
                noise=statement.shape.noise,
                kind=structure.kind if structure is not None else "",
                tables=tuple(structure.tables) if structure is not None else (),
                routes=tuple(one.names),
                queries=one.queries,
                requests=one.requests,
                total_ms=one.duration_ns / 1e6,
                rows=one.rows,
                bytes=one.bytes,
                errors=one.errors,
            )

    def places(self) -> Iterable[CallSiteRecord]:
        """The call sites, the most time first."""
        for name, (place, one) in sorted(
            self._places.items(), key=lambda item: -item[1][1].duration_ns
        ):
            yield CallSiteRecord(
                call_site=name,
                file=place.file,
                line=place.line,
                function=place.function,
                caller=place_name(place.caller) if place.caller is not None else "",
                queries=one.queries,
                shapes=len(one.names),
                total_ms=one.duration_ns / 1e6,
            )
