"""Adds requests up, quickly: the hot path of every report, about a microsecond a query.

Queries refer to statements, lines and loads by a file's own numbers, which mean nothing in the totals. So they are first
gathered as they come, as rows of plain numbers, and added up by column once there are enough of them; only then are the
file's numbers resolved. A page asks the same sequence of statements again and again: such sequences are known by heart, and
their requests are added up position by position. What comes out is a `Summary`, which knows nothing of all this.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from itertools import repeat
from typing import Protocol

from askless.core.model import Request, Statement, Tables
from askless.core.settings import Settings
from askless.core.shape_stats import EXAMPLES_MOST, Fact, ShapeStats, resolve
from askless.core.sql.shape import Shape
from askless.core.summary import RouteStats, Summary
from askless.core.view import Group, RequestView

SHAPES_MOST = 5_000  # different shapes of one route; what comes after them is added up together
RECURRING_SHARE = 20  # a sequence that fewer than one in so many requests ask is gathered query by query
RECURRING_MOST = 500  # different sequences of statements that are remembered for a route
RECURRING_FOLD_AT = 24  # requests of one sequence that gather before they are added up, column by column
_FOLD_AT = 12_000  # queries outside of such sequences that gather before they are added up
_FOLD_EVERY = 200  # of which so many may gather in one route before it tells the gatherer


# Stands for the shapes of a route beyond the most that are told apart: without a structure, so that no pattern judges it.
_OTHERS = {
    noise: Statement(0, ("(other statements)",), Shape("(other statements)", digest, noise))
    for noise, digest in ((False, "0" * 12), (True, "0" * 11 + "1"))
}


class Looker(Protocol):
    """A pattern's part in the hot path.

    It looks at each request in which some shape came more than once, a query failed, or much time passed beside its queries,
    and at a sample of the others.
    """

    def look(self, view: RequestView, settings: Settings) -> None:
        """Add to the route's tallies what the request shows."""


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
        counted: set[int] = set()
        by_position = zip(self.stats, zip(*durations, strict=True), zip(*sizes, strict=True), strict=True)
        for stats, taken, measured in by_position:
            stats.add(taken, measured, 0 if id(stats) in counted else requests)
            counted.add(id(stats))
        gathered.clear()


def _alike(*fields: Sequence[list[int]]) -> list[tuple[tuple[list[int], ...], int]]:
    """Requests whose rows, places and loads are the same, taken together: in a recurring sequence most are."""
    first = tuple(lists[0] for lists in fields)
    if all(lists.count(one) == len(lists) for lists, one in zip(fields, first, strict=True)):
        return [(first, len(fields[0]))]
    return [(columns, 1) for columns in zip(*fields, strict=True)]


class RouteGatherer:
    """Gathers for one route. What is kept by number is of one file: another file has its own numbers."""

    __slots__ = (
        "aliased", "appends", "asked", "by_number", "elapsed", "first", "gathered", "recurring", "settled", "stats", "tables",
    )  # fmt: skip

    def __init__(self, stats: RouteStats) -> None:
        self.stats = stats
        self.tables: Tables | None = None
        self.gathered = 0
        self.elapsed: list[int] = []
        self.asked: list[int] = []
        self._forget()

    def _forget(self) -> None:
        self.by_number: dict[int, ShapeStats] = {}
        self.first: dict[str, int] = {}  # shape -> its first statement number in this file
        self.aliased: dict[int, int] = {}  # statement number -> the first number of the same shape in this file
        self.appends: dict[int, Callable[[Fact], None]] = {}
        self.recurring: dict[tuple[int, ...], Recurring] = {}
        self.settled: set[int] = set()  # statement numbers that are no noise and have all their examples

    def fold(self) -> None:
        """Add up what has gathered, and resolve what refers to a file's own numbers."""
        self.stats.elapsed_ns += sum(self.elapsed)
        self.stats.durations.extend(self.elapsed)
        self.stats.queries.extend(self.asked)
        self.elapsed, self.asked = [], []
        if self.tables is not None:
            for recurring in self.recurring.values():
                recurring.fold(self.tables)
            for stats in self.stats.shapes.values():
                stats.fold(self.tables)

    def use(self, tables: Tables) -> dict[int, ShapeStats]:
        """Statement number -> stats, for the file that these tables belong to."""
        if tables is not self.tables:
            self.fold()
            self.tables = tables
            self._forget()
        return self.by_number

    def new(self, request: Request, i: int) -> ShapeStats:
        """The stats of a statement not met in this file and route."""
        return self.of(request.statement(i))

    def of(self, statement: Statement) -> ShapeStats:
        """The stats of a statement not met in this file and route."""
        shapes, shape = self.stats.shapes, statement.shape
        stats = shapes.get(shape.digest)
        if stats is None and len(shapes) >= SHAPES_MOST:  # they never come again, it seems
            others = _OTHERS[shape.noise]
            stats = shapes.setdefault(others.shape.digest, ShapeStats(others.shape, others))
        elif stats is None:
            stats = shapes[shape.digest] = ShapeStats(shape, statement)
        if stats.shape.digest == shape.digest:
            stats.prefer(statement)
            first = self.first.setdefault(shape.digest, statement.number)
            if first != statement.number:
                self.aliased[statement.number] = first
        self.by_number[statement.number] = stats
        self.appends[statement.number] = stats.pending.append
        return stats


class Gatherer:
    """Adds up a stream of requests. `lookers` see each request that `Looker` tells of."""

    def __init__(self, lookers: Sequence[Looker], settings: Settings | None = None) -> None:
        self.lookers = lookers
        self.summary = Summary(settings)
        self._pause_ns = self.summary.settings.pause_least_ns
        self._routes: dict[str, RouteGatherer] = {}
        self._tables: Tables | None = None
        self._gathered = 0

    def add(self, request: Request) -> None:
        """Count one finished request in."""
        route = self._routes.get(request.route)
        if route is None:
            known = self.summary.routes.get(request.route)  # of which some were left out before
            stats = known or RouteStats(request.route, request.kind)
            stats.kind = request.kind
            self.summary.routes[request.route] = stats
            route = self._routes[request.route] = RouteGatherer(stats)
        if request.tables is not self._tables:
            self._note_models()
            self._tables = request.tables
        if request.warm_up:
            route.stats.warm_up += 1
            return
        groups = _count(route, request)
        if route.gathered >= _FOLD_EVERY:
            self._gathered += route.gathered
            route.gathered = 0
            if self._gathered >= _FOLD_AT:
                self._gathered = 0
                for gathering in self._routes.values():
                    gathering.fold()
        if self.lookers and (groups or self._is_special(route.stats, request)):
            view = RequestView(route.stats, request, groups, len(self._routes))
            for looker in self.lookers:
                looker.look(view, self.summary.settings)

    def _is_special(self, route: RouteStats, request: Request) -> bool:
        """Whether a request in which no shape repeats is looked at all the same."""
        return (
            self.summary.settings.looks_at(route.requests) or bool(request.errors) or request.idle_ns >= self._pause_ns
        )

    def _note_models(self) -> None:
        if self._tables is not None:
            self.summary.models.update(self._tables.models)
            self.left_out(self._tables)

    def left_out(self, tables: Tables) -> None:
        """Take what a file told of requests that are not in it."""
        told, tables.left_out = tables.left_out, []
        for name, counts in told:
            self.summary.leave_out(name, counts)

    def finish(self) -> Summary:
        """Resolve everything that refers to the files' own numbers. More requests may come after it."""
        self._note_models()
        for route in self._routes.values():
            route.fold()
        return self.summary


def _count(route: RouteGatherer, request: Request) -> list[Group]:
    """Add the request's queries to the route's shapes; the groups of shapes that came at least twice."""
    by_number = route.use(request.tables)
    key = tuple(request.statements)
    recurring = route.recurring.get(key)
    if recurring is None:
        recurring = Recurring()
        if len(route.recurring) < RECURRING_MOST:
            route.recurring[key] = recurring
    recurring.seen += 1
    if recurring.seen > EXAMPLES_MOST and recurring.seen * RECURRING_SHARE > route.stats.requests:
        gathered = recurring.gathered
        gathered.append((request.durations_ns, request.rows, request.bytes, request.places, request.loads))
        if len(gathered) >= RECURRING_FOLD_AT:
            recurring.fold(request.tables)
    else:
        _count_one_by_one(route, request, recurring)
        route.gathered += len(key)
    groups = recurring.groups
    _count_rare(route, request)
    if request.errors:
        for i in request.errors:
            by_number[key[i]].errors += 1
        groups = list(_without_errors(groups, request.errors))
    beyond = _count_beyond(route, request) if request.beyond else 0
    if request.more or request.tables.sample > 1:
        _note_sizes(route.stats, request, recurring.asked + beyond)
    route.stats.requests += 1
    route.asked.append(recurring.asked + request.more + beyond)
    route.stats.repeated += recurring.asked - recurring.shapes + beyond
    route.stats.shapes_asked += recurring.shapes
    route.elapsed.append(max(request.end_ns - request.start_ns, 0))
    return groups


def _count_rare(route: RouteGatherer, request: Request) -> None:
    """Add what few queries have: widths of columns, uses, and what the server's log told; and the request's memory."""
    by_number, numbers = route.by_number, request.statements
    for i, widths in request.widths.items():
        by_number[numbers[i]].measure(widths, request.rows[i])
    for i, used in request.uses.items():
        by_number[numbers[i]].use(used)
        route.stats.objects += sum(one.objects for one in used)
    if request.has_told:
        for i, number in enumerate(numbers):
            by_number[number].examine(request.rows_examined(i))
    if request.memory_bytes:
        route.stats.memory.extend([request.memory_bytes])


def _count_beyond(route: RouteGatherer, request: Request) -> int:
    """Add what a request with very many queries asked beyond those that are looked at; how many are no noise."""
    own = 0
    for (number, place, load), total in request.beyond.items():
        stats = route.by_number.get(number) or route.of(request.tables.statements[number])
        stats.count += total.count
        stats.duration_ns += total.duration_ns
        stats.rows += total.rows
        stats.bytes += total.bytes
        resolve(stats.places, request.tables.places, {place: total.count})
        resolve(stats.loads, request.tables.loads, {load: total.count})
        own += 0 if stats.shape.noise else total.count
    return own


def _note_sizes(stats: RouteStats, request: Request, asked: int) -> None:
    """What was left out of a request; and how much requests differ, from which the error of scaled totals follows."""
    stats.more += request.more
    stats.more_ns += request.more_ns
    asked += request.more
    spent_ns = sum(request.durations_ns) + request.more_ns
    stats.asked += asked
    stats.asked_squares += asked * asked
    stats.spent_ns += spent_ns
    stats.spent_squares += spent_ns * spent_ns


def _count_one_by_one(route: RouteGatherer, request: Request, recurring: Recurring) -> None:
    """Gather a request whose sequence of statements is not known to recur; learn what the sequence holds."""
    by_number = route.by_number
    numbers = request.statements
    distinct = set(numbers)
    if not by_number.keys() >= distinct:
        for number in distinct.difference(by_number):
            route.new(request, numbers.index(number))
    facts = zip(  # the reader has checked the lengths
        request.durations_ns, request.rows, request.bytes, request.places, request.loads, repeat(request.number)
    )
    appends = route.appends
    for number, fact in zip(numbers, facts):  # noqa: B905  (a hot path)
        appends[number](fact)
    recurring.stats = [by_number[number] for number in numbers]
    recurring.asked, recurring.shapes = len(numbers), len(distinct)
    if len(distinct) < len(numbers) or route.aliased:
        recurring.groups, recurring.shapes = _repeated(route, request, by_number)
    for number in distinct - route.settled:
        stats = by_number[number]
        if stats.shape.noise:
            recurring.asked -= numbers.count(number)
            recurring.shapes -= number not in route.aliased
        elif len(stats.examples) < EXAMPLES_MOST:
            stats.keep_example(request, number)
        else:
            route.settled.add(number)


def _repeated(route: RouteGatherer, request: Request, by_number: dict[int, ShapeStats]) -> tuple[list[Group], int]:
    """The groups of a request in which some shape repeats, and its number of different shapes, noise included."""
    indices: dict[int, list[int]] = {}
    numbers = request.statements
    if route.aliased:
        aliases = route.aliased
        numbers = [aliases.get(number, number) for number in numbers]
    for i, number in enumerate(numbers):
        result = indices.get(number)
        if result is None:
            indices[number] = [i]
        else:
            result.append(i)
    groups = [
        Group(by_number[number], where)
        for number, where in indices.items()
        if len(where) > 1 and not by_number[number].shape.noise
    ]
    return groups, len(indices)


def _without_errors(groups: list[Group], errors: dict[int, str]) -> Iterator[Group]:
    for group in groups:
        remaining = [i for i in group.indices if i not in errors]
        if len(remaining) > 1:
            yield Group(group.stats, remaining)
