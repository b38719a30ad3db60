"""What a capture adds up to: per route, per shape, and what the patterns met.

Adding up is associative and commutative (up to which examples are kept), so a capture can be summed in pieces.
`Summary.add` is the hot path of every report: about a microsecond a query.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from itertools import repeat
from typing import Protocol, TypeVar

from askless.core.lineage import structure
from askless.core.model import Load, Place, Request, Statement, Tables
from askless.core.settings import Settings
from askless.core.sql.shape import Shape
from askless.core.sql.slots import Value
from askless.core.sql.structure import Structure
from askless.core.statistics import Quantiles

Thing = TypeVar("Thing", Place, Load)

# What is gathered of a query before it is added up: duration, rows, bytes, place, load, request.
Fact = tuple[int, int, int, int, int, int]

EXAMPLES_MOST = 6
RECURRING_SHARE = 20  # a sequence that fewer than one in so many requests ask is gathered query by query
RECURRING_MOST = 500  # different sequences of statements that are remembered for a route
RECURRING_FOLD_AT = 24  # requests of one sequence that gather before they are added up, column by column
_FOLD_AT = 12_000  # queries outside of such sequences that gather before they are added up
_FOLD_EVERY = 200  # of which so many may gather in one route before it tells the summary


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
        "_pending",
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
        self._pending: list[Fact] = []
        self.columns: tuple[str, ...] = ()
        self.widths: list[int] = []
        self.widths_rows = 0
        self.places: dict[Place, int] = {}
        self.loads: dict[Load, int] = {}
        self.examples: list[Example] = []

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
        """Add up what has gathered, column by column; resolve the numbers that belong to one file."""
        pending = self._pending
        if not pending:
            return
        durations, rows, sizes, places, loads, requests = zip(*pending, strict=True)
        pending.clear()
        each = Counter(requests)
        self.rows += sum(rows) if min(rows) >= 0 else sum(count for count in rows if count > 0)
        self.rows_most = max(self.rows_most, *rows)
        _resolve(self.places, tables.places, Counter(places))
        _resolve(self.loads, tables.loads, Counter(loads))
        self.add(durations, sizes, len(each), max(each.values()))

    def add(self, durations: Sequence[int], sizes: Sequence[int], requests: int, most: int) -> None:
        """Add durations and bytes of queries; of so many requests, at most `most` in one."""
        self.count += len(durations)
        self.duration_ns += sum(durations)
        self.durations.extend(durations)
        self.bytes += sum(sizes)
        self.requests += requests
        self.most = max(self.most, most)

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


def _resolve(totals: dict[Thing, int], known: dict[int, Thing], counts: dict[int, int]) -> None:
    for number, count in counts.items():
        found = known.get(number)
        if found is not None:
            totals[found] = totals.get(found, 0) + count


class Group:
    """The executions of one shape in one request, where there are at least two, failed ones left out."""

    __slots__ = ("indices", "stats")

    def __init__(self, stats: ShapeStats, indices: list[int]) -> None:
        self.stats = stats
        self.indices = indices


class Recurring:
    """A sequence of statements that requests of one route ask again and again: pages mostly do.

    Its queries are gathered a request at a time and added up by position, which costs next to nothing a query.
    """

    __slots__ = ("asked", "gathered", "groups", "seen", "shapes", "stats")

    def __init__(self) -> None:
        self.seen = 0
        self.asked = self.shapes = 0
        self.stats: list[ShapeStats] = []
        self.groups: list[Group] = []
        self.gathered: list[tuple[list[int], ...]] = []

    def fold(self, tables: Tables) -> None:
        """Add up what has gathered, position by position."""
        gathered = self.gathered
        if not gathered:
            return
        durations, rows, sizes, places, loads = zip(*gathered, strict=True)
        requests = len(gathered)
        for columns, count in _alike(rows, places, loads):
            for stats, row, place, load in zip(self.stats, *columns, strict=True):
                if row > 0:
                    stats.rows += row * count
                    stats.rows_most = max(stats.rows_most, row)
                _resolve(stats.places, tables.places, {place: count})
                if load:
                    _resolve(stats.loads, tables.loads, {load: count})
        counts = Counter(map(id, self.stats))
        by_position = zip(self.stats, zip(*durations, strict=True), zip(*sizes, strict=True), strict=True)
        for stats, taken, measured in by_position:
            most = counts.pop(id(stats), 0)
            stats.add(taken, measured, requests if most else 0, most)
        gathered.clear()


def _alike(*fields: Sequence[list[int]]) -> list[tuple[tuple[list[int], ...], int]]:
    """Requests whose rows, places and loads are the same, taken together: in a recurring sequence most are."""
    first = tuple(lists[0] for lists in fields)
    if all(lists.count(one) == len(lists) for lists, one in zip(fields, first, strict=True)):
        return [(first, len(fields[0]))]
    return [(columns, 1) for columns in zip(*fields, strict=True)]


class RequestView:
    """One request as the patterns see it. `claimed` are digests of shapes that a finding explains already."""

    __slots__ = ("claimed", "groups", "request", "route", "writes")

    def __init__(self, route: RouteStats, request: Request, groups: list[Group]) -> None:
        self.route = route
        self.request = request
        self.groups = groups
        self.claimed: set[str] = set()
        self.writes: list[tuple[int, str]] | None = None  # (query, table), once a pattern has asked for them


class Tally(Protocol):
    """What a pattern has met so far under one key; merges with its like."""

    def merge(self, other: Tally) -> None:
        """Add another tally of the same pattern and key."""


class RouteStats:
    """One route."""

    __slots__ = (
        "_appends",
        "_asked",
        "_by_number",
        "_elapsed",
        "_recurring",
        "_settled",
        "_tables",
        "aliased",
        "durations",
        "elapsed_ns",
        "gathered",
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
        self._appends: dict[int, Callable[[Fact], None]] = {}
        self._recurring: dict[tuple[int, ...], Recurring] = {}
        self._settled: set[int] = set()  # statement numbers that are no noise and have all their examples
        self.gathered = 0
        self._elapsed: list[int] = []
        self._asked: list[int] = []
        self._tables: Tables | None = None
        self.aliased: dict[int, int] = {}  # statement number -> the first number of the same shape in this file

    def asked(self, noise: bool = False) -> list[ShapeStats]:
        """The shapes that the application's author wrote; with `noise`, the others."""
        return [stats for stats in self.shapes.values() if stats.shape.noise == noise]

    def fold(self) -> None:
        """Add up what has gathered, and resolve what refers to a file's own numbers."""
        self.elapsed_ns += sum(self._elapsed)
        self.durations.extend(self._elapsed)
        self.queries.extend(self._asked)
        self._elapsed, self._asked = [], []
        if self._tables is not None:
            for recurring in self._recurring.values():
                recurring.fold(self._tables)
            for stats in self.shapes.values():
                stats.fold(self._tables)

    def use(self, tables: Tables) -> dict[int, ShapeStats]:
        """Statement number -> stats, for the file that these tables belong to."""
        if tables is not self._tables:
            self.fold()
            self._tables = tables
            self.aliased = {}
            self._by_number = {}
            self._appends = {}
            self._settled = set()
            self._recurring = {}
        return self._by_number

    def new(self, request: Request, i: int) -> ShapeStats:
        """The stats of a statement not met in this file and route."""
        statement = request.statement(i)
        stats = self.shapes.get(statement.shape.digest)
        if stats is None:
            stats = self.shapes[statement.shape.digest] = ShapeStats(statement.shape, statement)
        for number, known in self._by_number.items():
            if known is stats:
                self.aliased[statement.number] = self.aliased.get(number, number)
                break
        self._by_number[statement.number] = stats
        self._appends[statement.number] = stats._pending.append
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
        self._gathered = 0

    def add(self, request: Request) -> None:
        """Count one finished request in."""
        route = self.routes.get(request.route)
        if route is None:
            route = self.routes[request.route] = RouteStats(request.route, request.kind)
        if request.warm_up:
            route.warm_up += 1
            return
        groups = _count(route, request)
        if route.gathered >= _FOLD_EVERY:
            self._gathered += route.gathered
            route.gathered = 0
            if self._gathered >= _FOLD_AT:
                self._gathered = 0
                for gathering in self.routes.values():
                    gathering.fold()
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
    key = tuple(request.statements)
    recurring = route._recurring.get(key)
    if recurring is None:
        recurring = Recurring()
        if len(route._recurring) < RECURRING_MOST:
            route._recurring[key] = recurring
    recurring.seen += 1
    if recurring.seen > EXAMPLES_MOST and recurring.seen * RECURRING_SHARE > route.requests:
        gathered = recurring.gathered
        gathered.append((request.durations_ns, request.rows, request.bytes, request.places, request.loads))
        if len(gathered) >= RECURRING_FOLD_AT:
            recurring.fold(request.tables)
    else:
        _count_one_by_one(route, request, recurring)
        route.gathered += len(key)
    groups = recurring.groups
    if request.widths:
        for i, widths in request.widths.items():
            _measure(by_number[key[i]], widths, request.rows[i])
    if request.errors:
        for i in request.errors:
            by_number[key[i]].errors += 1
        groups = list(_without_errors(groups, request.errors))
    route.requests += 1
    route._asked.append(recurring.asked)
    route.repeated += recurring.asked - recurring.shapes
    route.shapes_asked += recurring.shapes
    route._elapsed.append(max(request.end_ns - request.start_ns, 0))
    return groups


def _count_one_by_one(route: RouteStats, request: Request, recurring: Recurring) -> None:
    """Gather a request whose sequence of statements is not known to recur; learn what the sequence holds."""
    by_number = route._by_number
    numbers = request.statements
    distinct = set(numbers)
    if not by_number.keys() >= distinct:
        for number in distinct.difference(by_number):
            route.new(request, numbers.index(number))
    facts = zip(  # the reader has checked the lengths
        request.durations_ns, request.rows, request.bytes, request.places, request.loads, repeat(request.number)
    )
    appends = route._appends
    for number, fact in zip(numbers, facts):  # noqa: B905  (a hot path)
        appends[number](fact)
    recurring.stats = [by_number[number] for number in numbers]
    recurring.asked, recurring.shapes = len(numbers), len(distinct)
    if len(distinct) < len(numbers) or route.aliased:
        recurring.groups, recurring.shapes = _repeated(route, request, by_number)
    for number in distinct - route._settled:
        stats = by_number[number]
        if stats.shape.noise:
            recurring.asked -= numbers.count(number)
            recurring.shapes -= number not in route.aliased
        elif len(stats.examples) < EXAMPLES_MOST:
            _keep_example(stats, request, number)
        else:
            route._settled.add(number)


def _repeated(route: RouteStats, request: Request, by_number: dict[int, ShapeStats]) -> tuple[list[Group], int]:
    """The groups of a request in which some shape repeats, and its number of different shapes, noise included."""
    indices: dict[int, list[int]] = {}
    numbers = request.statements
    if route.aliased:
        aliases = route.aliased
        numbers = [aliases.get(number, number) for number in numbers]
    for i, number in enumerate(numbers):
        found = indices.get(number)
        if found is None:
            indices[number] = [i]
        else:
            found.append(i)
    groups = [
        Group(by_number[number], where)
        for number, where in indices.items()
        if len(where) > 1 and not by_number[number].shape.noise
    ]
    return groups, len(indices)


def _keep_example(stats: ShapeStats, request: Request, number: int) -> None:
    stats.columns = stats.columns or request.tables.statements[number].columns
    indices = [i for i, n in enumerate(request.statements) if n == number]
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
