"""What a capture adds up to: per route, per shape, and what the patterns met.

Adding up is associative and commutative (up to which examples are kept), so a capture can be summed in pieces.
`Summary.add` is the hot path of every report: about a microsecond a query.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Protocol

from askless.core.lineage import structure
from askless.core.model import Load, Place, Request, Statement, Tables
from askless.core.settings import Settings
from askless.core.sql.shape import Shape
from askless.core.sql.slots import Value
from askless.core.sql.structure import Structure
from askless.core.statistics import Quantiles

EXAMPLES_MOST = 8
_FOLD_AT = 1024


class Example:
    """One execution kept whole, for EXPLAIN and for showing."""

    __slots__ = ("literals", "parameters", "path", "rows", "statement")

    def __init__(self, request: Request, i: int) -> None:
        self.statement: Statement = request.statement(i)
        self.literals = request.literals[i]
        self.parameters: tuple[Value, ...] = request.parameters[i]
        self.rows = request.rows[i]
        self.path = request.path

    @property
    def text(self) -> str:
        """The text as it was sent."""
        return self.statement.text_with(self.literals)


class ShapeStats:
    """One shape in one route."""

    __slots__ = (
        "_durations",
        "_indices",
        "_load_numbers",
        "_place_numbers",
        "_request",
        "bytes",
        "columns",
        "count",
        "duration_ns",
        "durations",
        "errors",
        "examples",
        "loads",
        "most",
        "places",
        "requests",
        "rows",
        "rows_most",
        "shape",
        "statement",
        "widths",
        "widths_rows",
    )

    def __init__(self, shape: Shape, statement: Statement) -> None:
        self.shape = shape
        self.statement = statement
        self.count = self.requests = self.most = self.rows = self.rows_most = self.bytes = self.errors = 0
        self.duration_ns = 0
        self.durations = Quantiles()
        self._durations: list[int] = []
        self.columns: tuple[str, ...] = ()
        self.widths: list[int] = []
        self.widths_rows = 0
        self.places: dict[Place, int] = {}
        self.loads: dict[Load, int] = {}
        self._place_numbers: dict[int, int] = {}
        self._load_numbers: dict[int, int] = {}
        self.examples: list[Example] = []
        self._request: Request | None = None
        self._indices: list[int] = []

    @property
    def structure(self) -> Structure | None:
        """What the statement asks, or None where it can't be parsed."""
        return structure(self.statement)

    @property
    def query_ns(self) -> float:
        """Median duration of one query."""
        return self.durations.median

    @property
    def load(self) -> Load | None:
        """What the ORM said most often."""
        return max(self.loads, key=lambda load: self.loads[load]) if self.loads else None

    def fold(self, tables: Tables) -> None:
        """Resolve the numbers of one file, before those of another come in."""
        self.durations.extend(self._durations)
        self.duration_ns += sum(self._durations)
        self._durations = []
        for number, count in self._place_numbers.items():
            place = tables.places.get(number)
            if place is not None:
                self.places[place] = self.places.get(place, 0) + count
        for number, count in self._load_numbers.items():
            load = tables.loads.get(number)
            if load is not None:
                self.loads[load] = self.loads.get(load, 0) + count
        self._place_numbers = {}
        self._load_numbers = {}
        self._request = None

    def merge(self, other: ShapeStats) -> None:
        """Add what another piece of the capture counted."""
        self.count += other.count
        self.requests += other.requests
        self.most = max(self.most, other.most)
        self.rows += other.rows
        self.rows_most = max(self.rows_most, other.rows_most)
        self.bytes += other.bytes
        self.errors += other.errors
        self.duration_ns += other.duration_ns
        self.durations.merge(other.durations)
        self.columns = self.columns or other.columns
        if not self.widths:
            self.widths, self.widths_rows = list(other.widths), other.widths_rows
        elif len(other.widths) == len(self.widths):
            self.widths = [a + b for a, b in zip(self.widths, other.widths, strict=True)]
            self.widths_rows += other.widths_rows
        for place, count in other.places.items():
            self.places[place] = self.places.get(place, 0) + count
        for load, count in other.loads.items():
            self.loads[load] = self.loads.get(load, 0) + count
        self.examples = (self.examples + other.examples)[:EXAMPLES_MOST]


class Group:
    """The executions of one shape in one request, where there are at least two, failed ones left out."""

    __slots__ = ("indices", "stats")

    def __init__(self, stats: ShapeStats, indices: list[int]) -> None:
        self.stats = stats
        self.indices = indices


class RequestView:
    """One request as the patterns see it. `claimed` are digests of shapes that a finding explains already."""

    __slots__ = ("claimed", "groups", "request", "route")

    def __init__(self, route: RouteStats, request: Request, groups: list[Group]) -> None:
        self.route = route
        self.request = request
        self.groups = groups
        self.claimed: set[str] = set()


class Tally(Protocol):
    """What a pattern has met so far under one key; merges with its like."""

    def merge(self, other: Tally) -> None:
        """Add another tally of the same pattern and key."""


class RouteStats:
    """One route."""

    __slots__ = (
        "_by_number",
        "_tables",
        "durations",
        "elapsed_ns",
        "kind",
        "queries",
        "repeated",
        "requests",
        "route",
        "shapes",
        "shapes_asked",
        "tallies",
        "warm_up",
    )

    def __init__(self, route: str, kind: str) -> None:
        self.route = route
        self.kind = kind
        self.requests = self.warm_up = self.repeated = self.elapsed_ns = self.shapes_asked = 0
        self.durations = Quantiles()
        self.queries = Quantiles()
        self.shapes: dict[str, ShapeStats] = {}
        self.tallies: dict[tuple[str, ...], Tally] = {}
        self._by_number: dict[int, ShapeStats] = {}
        self._tables: Tables | None = None

    def asked(self, noise: bool = False) -> list[ShapeStats]:
        """The shapes that the application's author wrote; with `noise`, the others."""
        return [stats for stats in self.shapes.values() if stats.shape.noise == noise]

    def fold(self) -> None:
        """Resolve what still refers to a file's own numbers."""
        if self._tables is not None:
            for stats in self.shapes.values():
                stats.fold(self._tables)
        self._by_number = {}

    def use(self, tables: Tables) -> dict[int, ShapeStats]:
        """Statement number -> stats, for the file that these tables belong to."""
        if tables is not self._tables:
            self.fold()
            self._tables = tables
        return self._by_number

    def new(self, request: Request, i: int) -> ShapeStats:
        """The stats of a statement not met in this file and route."""
        statement = request.statement(i)
        stats = self.shapes.get(statement.shape.digest)
        if stats is None:
            stats = self.shapes[statement.shape.digest] = ShapeStats(statement.shape, statement)
        self._by_number[statement.number] = stats
        return stats

    def merge(self, other: RouteStats) -> None:
        """Add what another piece of the capture counted."""
        self.requests += other.requests
        self.warm_up += other.warm_up
        self.repeated += other.repeated
        self.elapsed_ns += other.elapsed_ns
        self.shapes_asked += other.shapes_asked
        self.durations.merge(other.durations)
        self.queries.merge(other.queries)
        for digest, stats in other.shapes.items():
            mine = self.shapes.get(digest)
            if mine is None:
                self.shapes[digest] = stats
            else:
                mine.merge(stats)
        for key, tally in other.tallies.items():
            own = self.tallies.get(key)
            if own is None:
                self.tallies[key] = tally
            else:
                own.merge(tally)


class Looker(Protocol):
    """A pattern's part in the hot path: it looks at one request in which some shape came more than once."""

    def look(self, view: RequestView, settings: Settings) -> None:
        """Add to `view.route.tallies` what the request shows."""


class Summary:
    """All routes of a capture."""

    def __init__(self, lookers: list[Looker], settings: Settings | None = None) -> None:
        self.lookers = lookers
        self.settings = settings or Settings()
        self.routes: dict[str, RouteStats] = {}

    def add(self, request: Request) -> None:
        """Count one finished request in."""
        route = self.routes.get(request.route)
        if route is None:
            route = self.routes[request.route] = RouteStats(request.route, request.kind)
        if request.warm_up:
            route.warm_up += 1
            return
        groups = _count(route, request)
        if groups:
            view = RequestView(route, request, groups)
            for looker in self.lookers:
                looker.look(view, self.settings)

    def merge(self, other: Summary) -> None:
        """Add what another piece of the capture counted. Both must have been finished."""
        for name, route in other.routes.items():
            mine = self.routes.get(name)
            if mine is None:
                self.routes[name] = route
            else:
                mine.merge(route)

    def finish(self) -> Summary:
        """Resolve everything that refers to the files' own numbers. Call once, after the last request."""
        for route in self.routes.values():
            route.fold()
        return self


def _count(route: RouteStats, request: Request) -> list[Group]:
    """Add the request's queries to the route's shapes; the groups of shapes that came at least twice."""
    by_number = route.use(request.tables)
    touched: list[ShapeStats] = []
    i = 0
    for number, duration, rows, size in zip(
        request.statements, request.durations_ns, request.rows, request.bytes, strict=True
    ):
        stats = by_number.get(number)
        if stats is None:
            stats = route.new(request, i)
        stats._durations.append(duration)
        stats.bytes += size
        if rows > 0:
            stats.rows += rows
            if rows > stats.rows_most:
                stats.rows_most = rows
        if stats._request is request:
            stats._indices.append(i)
        else:
            stats._request = request
            stats._indices = [i]
            touched.append(stats)
        i += 1
    asked = shapes = 0
    groups = []
    places, loads = request.places, request.loads
    for stats in touched:
        indices = stats._indices
        n = len(indices)
        stats.count += n
        stats.requests += 1
        if n > stats.most:
            stats.most = n
        place_numbers = stats._place_numbers
        for i in indices:
            place_numbers[places[i]] = place_numbers.get(places[i], 0) + 1
        if loads[indices[0]]:
            for i in indices:
                stats._load_numbers[loads[i]] = stats._load_numbers.get(loads[i], 0) + 1
        if len(stats.examples) < EXAMPLES_MOST:
            _keep_example(stats, request, indices)
        if len(stats._durations) >= _FOLD_AT:
            stats.fold(request.tables)
        if stats.shape.noise:
            continue
        asked += n
        shapes += 1
        if n > 1:
            route.repeated += n - 1
            groups.append(Group(stats, indices))
    for i, widths in request.widths.items():
        _measure(by_number[request.statements[i]], widths, request.rows[i])
    for i in request.errors:
        by_number[request.statements[i]].errors += 1
    if request.errors:
        groups = list(_without_errors(groups, request.errors))
    route.requests += 1
    route.queries.extend((asked,))
    route.shapes_asked += shapes
    elapsed = max(request.end_ns - request.start_ns, 0)
    route.elapsed_ns += elapsed
    route.durations.extend((elapsed,))
    return groups


def _keep_example(stats: ShapeStats, request: Request, indices: list[int]) -> None:
    stats.columns = stats.columns or request.statement(indices[0]).columns
    stats.examples += [Example(request, i) for i in indices[: max(1, EXAMPLES_MOST // 2)]]
    del stats.examples[EXAMPLES_MOST:]


def _measure(stats: ShapeStats, widths: list[int], rows: int) -> None:
    if not stats.widths:
        stats.widths = [0] * len(widths)
    if len(stats.widths) == len(widths):
        stats.widths = [a + b for a, b in zip(stats.widths, widths, strict=True)]
        stats.widths_rows += max(rows, 0)


def _without_errors(groups: list[Group], errors: dict[int, str]) -> Iterator[Group]:
    for group in groups:
        kept = [i for i in group.indices if i not in errors]
        if len(kept) > 1:
            yield Group(group.stats, kept)
