"""What a capture adds up to: per route, per shape, and what the patterns met.

Adding up is associative and commutative (up to which examples are kept), so a capture can be summed in pieces.
`Summary.add` is the hot path of every report: about a microsecond a query.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from itertools import repeat
from typing import Protocol

from askless.core.model import Model, Request, Tables
from askless.core.settings import Settings
from askless.core.shape_stats import EXAMPLES_MOST, Fact, ShapeStats, resolve
from askless.core.statistics import Quantiles

RECURRING_SHARE = 20  # a sequence that fewer than one in so many requests ask is gathered query by query
RECURRING_MOST = 500  # different sequences of statements that are remembered for a route
RECURRING_FOLD_AT = 24  # requests of one sequence that gather before they are added up, column by column
_FOLD_AT = 12_000  # queries outside of such sequences that gather before they are added up
_FOLD_EVERY = 200  # of which so many may gather in one route before it tells the summary


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
                resolve(stats.places, tables.places, {place: count})
                if load:
                    resolve(stats.loads, tables.loads, {load: count})
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
        "_first",
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
        self.tallies: dict[str, dict[tuple[str, ...], Tally]] = {}  # by pattern, then as the pattern tells them apart
        self._by_number: dict[int, ShapeStats] = {}
        self._first: dict[str, int] = {}  # shape -> its first statement number in this file
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
            self._first = {}
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
        first = self._first.setdefault(statement.shape.digest, statement.number)
        if first != statement.number:
            self.aliased[statement.number] = first
        self._by_number[statement.number] = stats
        self._appends[statement.number] = stats.pending.append
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
        for pattern, tallies in other.tallies.items():
            mine_too = self.tallies.setdefault(pattern, {})
            for key, tally in tallies.items():
                own = mine_too.get(key)
                if own is None:
                    mine_too[key] = tally
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
        self.models: dict[tuple[str, str], Model] = {}
        self._tables: Tables | None = None
        self._gathered = 0

    def add(self, request: Request) -> None:
        """Count one finished request in."""
        route = self.routes.get(request.route)
        if route is None:
            route = self.routes[request.route] = RouteStats(request.route, request.kind)
        if request.tables is not self._tables:
            self._note_models()
            self._tables = request.tables
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

    def _note_models(self) -> None:
        if self._tables is not None:
            self.models.update(self._tables.models)

    def merge(self, other: Summary) -> None:
        """Add what another piece of the capture counted. Both must have been finished."""
        self.models.update(other.models)
        for name, route in other.routes.items():
            mine = self.routes.get(name)
            if mine is None:
                self.routes[name] = route
            else:
                mine.merge(route)

    def finish(self) -> Summary:
        """Resolve everything that refers to the files' own numbers. Call once, after the last request."""
        self._note_models()
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
            by_number[key[i]].measure(widths, request.rows[i])
    if request.uses:
        for i, used in request.uses.items():
            by_number[key[i]].use(used)
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
            stats.keep_example(request, number)
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


def _without_errors(groups: list[Group], errors: dict[int, str]) -> Iterator[Group]:
    for group in groups:
        kept = [i for i in group.indices if i not in errors]
        if len(kept) > 1:
            yield Group(group.stats, kept)
