"""Adds requests up, quickly: the hot path of every report, less than a microsecond a query.

Queries refer to statements, lines and loads by a file's own numbers, which mean nothing in the
totals. So the columns of a route's requests are first put one after the other; once there are
enough of them they are parted by shape, each part is added up, and only then are the file's numbers
resolved. A page asks the same sequence of statements again and again: what repeats in such a
sequence is known by heart. What comes out is a `Summary`, which knows nothing of all this.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence
from operator import itemgetter
from typing import Protocol

from askless.core.aggregation.request_view import Group, RequestView
from askless.core.aggregation.shape_stats import EXAMPLES_MOST, ShapeStats
from askless.core.aggregation.summary import LUMPED, TOTALS_MOST, RouteStats, Summary, others_of
from askless.core.records.intervals import overlap_ns
from askless.core.records.model import CaptureTables, Request, Statement
from askless.core.settings import Settings

SHAPES_MOST = 5_000  # different shapes of one route; what comes after them is added up together
# of statements that are remembered for a route, the last that came
SEQUENCES_MOST, SEQUENCES_LEAST = 500, 4
_SEQUENCES_IN_ALL = 20_000  # and for all routes together, about
_THRIFTY_FROM = 10_000  # totals from which one execution each is kept,
_OFTEN, _THRIFTY_MOST = 4, 4  # but of what was asked so often, so many
FOLD_AT = 40_000  # queries that gather before they are added up
# Requests of a route of which it is known how far their queries overlap: the others are like them.
_TIMED_FIRST, _TIMED_EVERY = 32, 32


class RequestObserver(Protocol):
    """A pattern's part in the hot path.

    It looks at each request in which some shape came more than once, a query failed, or much time
    passed next to its queries, and at a sample of the others.
    """

    def look(self, view: RequestView, settings: Settings) -> None:
        """Add to the route's tallies what the request shows."""


class StatementSequence:
    """The statements that a request asks, one after the other, and what repeats among them."""

    __slots__ = ("groups", "queries", "settled", "shapes")

    def __init__(self, route: RouteAggregator, request: Request) -> None:
        by_number, numbers, statements = (
            route.by_number,
            request.statements,
            request.tables.statements,
        )
        self.settled = False  # all its statements have their examples
        distinct = set(numbers)
        if not by_number.keys() >= distinct:
            for number in distinct.difference(by_number):
                route.of(statements[number])
        own = {
            number: one.first for number in distinct if not (one := statements[number]).shape.noise
        }
        self.queries = (
            len(numbers) if len(own) == len(distinct) else sum(number in own for number in numbers)
        )
        self.shapes = len(set(own.values()))
        self.groups: list[Group] = []
        if self.shapes < self.queries:
            indices: dict[int, list[int]] = defaultdict(list)
            for i, number in enumerate(numbers):
                if number in own:
                    indices[own[number]].append(i)
            repeated = [where for where in indices.values() if len(where) > 1]
            self.groups = [Group(by_number[numbers[where[0]]], where) for where in repeated]


class PendingColumns:
    """Queries of one route and file that wait to be added up, by column."""

    __slots__ = ("bytes", "durations", "loads", "numbers", "places", "requests", "rows")

    def __init__(self) -> None:
        self.clear()

    def clear(self) -> None:
        """Let go of what was added up."""
        self.numbers: list[int] = []
        self.durations: list[int] = []
        self.rows: list[int] = []
        self.bytes: list[int] = []
        self.places: list[int] = []
        self.loads: list[int] = []
        self.requests: list[int] = []

    def extend(self, request: Request) -> None:
        """A request's queries."""
        self.numbers += request.statements
        self.durations += request.durations_ns
        self.rows += request.rows
        self.bytes += request.bytes
        self.places += request.places
        self.loads += request.loads
        self.requests += [request.number] * len(request.statements)

    def fold(self, by_number: dict[int, ShapeStats], tables: CaptureTables) -> None:
        """Add up what has gathered, shape by shape."""
        where: dict[ShapeStats, list[int]] = defaultdict(list)
        for i, stats in enumerate(map(by_number.__getitem__, self.numbers)):
            where[stats].append(i)
        order = [i for at in where.values() for i in at]
        by_shape = itemgetter(*order) if len(order) > 1 else itemgetter(slice(0, 1))
        columns = (self.durations, self.rows, self.bytes, self.places, self.loads, self.requests)
        durations, rows, sizes, places, loads, requests = map(by_shape, columns)
        start = 0
        for stats, at in where.items():
            end = start + len(at)
            stats.fold(
                tables,
                durations[start:end],
                rows[start:end],
                sizes[start:end],
                places[start:end],
                loads[start:end],
                len(set(requests[start:end])),
            )
            start = end
        self.clear()


class Quota:
    """How many totals of shapes there are, over all routes, and how many there may be."""

    def __init__(self, most: int) -> None:
        self.most = most
        self.taken = 0

    def take(self) -> bool:
        """Take up one; False if there is none left."""
        free = self.taken < self.most
        self.taken += free
        return free


class RouteAggregator:
    """Gathers for one route. What is kept by number is of one file: another file has its own
    numbers.
    """

    __slots__ = (
        "by_number",
        "elapsed",
        "queries",
        "room",
        "sequences",
        "settled",
        "stats",
        "tables",
        "waiting",
    )

    def __init__(self, stats: RouteStats, room: Quota) -> None:
        self.stats = stats
        self.room = room
        self.waiting = PendingColumns()
        self.elapsed: list[int] = []
        self.queries: list[int] = []
        self.forget()

    def forget(self) -> None:
        """Let go of what is of one file."""
        self.tables: CaptureTables | None = None
        self.by_number: dict[int, ShapeStats] = {}
        self.sequences: dict[tuple[int, ...], StatementSequence] = {}
        # statement numbers that are noise or have all their examples
        self.settled: set[int] = set()

    def fold(self) -> None:
        """Add up what has gathered, and resolve what refers to a file's own numbers."""
        if self.tables is None or not self.elapsed:
            return
        self.stats.elapsed_ns += sum(self.elapsed)
        self.stats.durations.extend(self.elapsed)
        self.stats.queries.extend(self.queries)
        self.elapsed, self.queries = [], []
        if self.waiting.numbers:
            self.waiting.fold(self.by_number, self.tables)

    def sequence(self, request: Request, most: int) -> StatementSequence:
        """What is known of the statements that a request asks; of so many sequences, the last ones,
        it is remembered.
        """
        known, key = self.sequences, tuple(request.statements)
        result = known.get(key)
        if result is None:
            result = StatementSequence(self, request)
        elif len(known) >= most:  # the last that came are the last to go
            del known[key]
        known[key] = result
        if len(known) > most:
            del known[next(iter(known))]
        return result

    def of(self, statement: Statement) -> ShapeStats:
        """The stats of a statement not met in this file and route."""
        shapes, shape = self.stats.shapes, statement.shape
        stats = shapes.get(shape.digest)
        if stats is None:
            if len(shapes) < SHAPES_MOST and self.room.take():
                stats = shapes[shape.digest] = ShapeStats(shape, statement)
            else:  # they never come again, it seems
                stats = others_of(shapes, shape)
        else:
            stats.prefer(statement)
        self.by_number[statement.number] = stats
        return stats


class Aggregator:
    """Adds up a stream of requests. `lookers` see each request that `Looker` says of."""

    def __init__(
        self, lookers: Sequence[RequestObserver], settings: Settings | None = None
    ) -> None:
        self.lookers = lookers
        self.summary = Summary(settings)
        self._pause_ns = self.summary.settings.pause_least_ns
        self._routes: dict[str, RouteAggregator] = {}
        self._room = Quota(TOTALS_MOST)
        self._sequences_most = SEQUENCES_MOST
        self._using: list[RouteAggregator] = []  # those that know something of the file
        self._tables: CaptureTables | None = None
        self._gathered = 0

    def add(self, request: Request) -> None:
        """Count one finished request in."""
        route = self._routes.get(request.route)
        if route is None:
            known = self.summary.routes.get(request.route)  # of which some were omitted before
            stats = known or RouteStats(request.route, request.kind)
            stats.kind = request.kind
            self.summary.routes[request.route] = stats
            route = self._routes[request.route] = RouteAggregator(stats, self._room)
            self._sequences_most = max(
                min(SEQUENCES_MOST, _SEQUENCES_IN_ALL // len(self._routes)), SEQUENCES_LEAST
            )
        if request.tables is not self._tables:
            self._let_go()
            self._tables = request.tables
        if request.warm_up:
            route.stats.warm_up += 1
            return
        if route.tables is None:
            route.tables = request.tables
            self._using.append(route)
        groups = _count(route, request, self._sequences_most)
        self._gathered += len(request.statements)
        if self._gathered >= FOLD_AT:
            self._fold()
        if self.lookers and (groups or self._is_special(route.stats, request)):
            view = RequestView(route.stats, request, groups, len(self._routes))
            for looker in self.lookers:
                looker.look(view, self.summary.settings)

    def _fold(self) -> None:
        """Add up what has gathered."""
        for route in self._using:
            route.fold()
        self._gathered = 0

    def _let_go(self) -> None:
        """Nothing more comes of a file: add up what has gathered of it, and released it."""
        self._note_models()
        self._fold()
        for route in self._using:
            route.forget()
        self._using.clear()

    def _is_special(self, route: RouteStats, request: Request) -> bool:
        """Whether a request in which no shape repeats is looked at all the same."""
        return (
            self.summary.settings.looks_at(route.requests)
            or bool(request.errors)
            or request.idle_ns >= self._pause_ns
        )

    def _note_models(self) -> None:
        if self._tables is not None:
            self.summary.models.update(self._tables.models)
            self.left_out(self._tables)

    def left_out(self, tables: CaptureTables) -> None:
        """Take what a file told of requests that are not in it."""
        omitted, tables.left_out = tables.left_out, []
        for name, counts in omitted:
            self.summary.leave_out(name, counts)

    def finish(self) -> Summary:
        """Resolve everything that refers to the files' own numbers. More requests may come after
        it.
        """
        self._note_models()
        self._fold()
        return self.summary


def _count(route: RouteAggregator, request: Request, sequences_most: int) -> list[Group]:
    """Add the request's queries to the route's shapes; the groups of shapes that came at least
    twice.
    """
    by_number = route.by_number
    sequence = route.sequence(request, sequences_most)
    route.waiting.extend(request)
    if not sequence.settled:
        sequence.settled = _keep_examples(route, request)
    groups = sequence.groups
    _count_rare(route, request)
    if request.errors:
        for i in request.errors:
            by_number[request.statements[i]].errors += 1
        groups = list(_without_errors(groups, request.errors))
    beyond = _count_beyond(route, request) if request.beyond else 0
    if request.more or request.tables.sample > 1:
        _note_sizes(route.stats, request, sequence.queries + beyond)
    route.stats.requests += 1
    if route.stats.requests <= _TIMED_FIRST or route.stats.requests % _TIMED_EVERY == 0:
        route.stats.summed_ns += sum(request.durations_ns)
        route.stats.overlap_ns += overlap_ns(request.starts_ns, request.durations_ns)
    route.queries.append(sequence.queries + request.more + beyond)
    route.stats.repeated += sequence.queries - sequence.shapes + beyond
    route.stats.shapes_asked += sequence.shapes
    route.elapsed.append(max(request.end_ns - request.start_ns, 0))
    return groups


def _count_rare(route: RouteAggregator, request: Request) -> None:
    """Add what few queries have: widths of columns, uses, and the server's log fields; and the
    request's memory.
    """
    by_number, numbers = route.by_number, request.statements
    for i, widths in request.widths.items():
        by_number[numbers[i]].measure(widths, request.rows[i])
    for i, used in request.uses.items():
        by_number[numbers[i]].use(used)
        route.stats.objects += sum(one.objects for one in used)
    if request.has_server_fields:
        for i, number in enumerate(numbers):
            by_number[number].examine(request.rows_examined(i))
    if request.memory_bytes:
        route.stats.memory.extend([request.memory_bytes])


def _count_beyond(route: RouteAggregator, request: Request) -> int:
    """Add what a request with very many queries asked beyond those that are looked at; how many are
    no noise.
    """
    own = 0
    for (number, place, load), total in request.beyond.items():
        stats = route.by_number.get(number) or route.of(request.tables.statements[number])
        stats.add_beyond(total, request.tables.places.get(place), request.tables.loads.get(load))
        own += 0 if stats.shape.noise else total.count
    return own


def _note_sizes(stats: RouteStats, request: Request, queries: int) -> None:
    """What was omitted of a request; and how much requests differ, from which the error of scaled
    totals follows.
    """
    stats.more += request.more
    stats.more_ns += request.more_ns
    queries += request.more
    spent_ns = sum(request.durations_ns) + request.more_ns
    stats.total_queries += queries
    stats.total_queries_squared += queries * queries
    stats.spent_ns += spent_ns
    stats.spent_squares += spent_ns * spent_ns


def _keep_examples(route: RouteAggregator, request: Request) -> bool:
    """Keep some executions of statements whole; whether there was nothing to keep any more."""
    missing = set(request.statements).difference(route.settled)
    for number in missing:
        stats = route.by_number[number]
        examples = len(stats.examples)
        if stats.shape.noise or examples >= EXAMPLES_MOST or stats.shape.digest in LUMPED:
            route.settled.add(number)
        elif (
            not examples
            or route.room.taken < _THRIFTY_FROM
            or (stats.count >= _OFTEN and examples < _THRIFTY_MOST)
        ):
            stats.keep_example(request, number)
    return not missing


def _without_errors(groups: list[Group], errors: dict[int, str]) -> Iterator[Group]:
    for group in groups:
        remaining = [i for i in group.indices if i not in errors]
        if len(remaining) > 1:
            yield Group(group.stats, remaining)
