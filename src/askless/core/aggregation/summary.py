"""What a capture adds up to: plain totals per route and per shape, and what the patterns met.

Totals say nothing of how they were added up. Merging them is associative and commutative (up to
which examples are kept), so a capture can be summed in pieces, anywhere, and the pieces put
together in any order. `gathering` adds requests up.
"""

from __future__ import annotations

from typing import Protocol

from askless.core.aggregation.shape_stats import ShapeStats
from askless.core.records.model import Model, Statement
from askless.core.records.sampling import Counts
from askless.core.settings import Settings
from askless.core.sql.shape import Shape
from askless.core.statistics import Quantiles

# shapes in routes, over all routes: those that came first; what comes later is added up together
TOTALS_MOST = 50_000
SEEN_ONCE_MOST = 200  # tallies of one pattern in one route above which those seen once are released

# Stands for shapes that are not distinguished: without a structure, so that no pattern judges it.
_OTHERS = {
    noise: Statement(0, ("(other statements)",), Shape("(other statements)", digest, noise))
    for noise, digest in ((False, "0" * 12), (True, "0" * 11 + "1"))
}
LUMPED = frozenset(others.shape.digest for others in _OTHERS.values())


def others_of(shapes: dict[str, ShapeStats], shape: Shape) -> ShapeStats:
    """The totals of a route that a shape is added to where it is not distinguished."""
    others = _OTHERS[shape.noise]
    stats = shapes.get(others.shape.digest)
    if stats is None:
        stats = shapes[others.shape.digest] = ShapeStats(others.shape, others)
    return stats


class Tally(Protocol):
    """What a pattern has met so far under one key; merges with its like. One that is `seen_once`
    may be forgotten.
    """

    def merge(self, other: Tally) -> None:
        """Add another tally of the same pattern and key."""


class RouteStats:
    """One route. `shapes` are by digest, `tallies` by pattern and then by whatever the pattern
    distinguishes them with.

    `repeated` counts queries beyond the first of their shape in a request, `shapes_asked` different
    shapes, both summed over all requests; warm-up requests are only counted. `objects` of an ORM's
    were built in all requests together, where use was tracked; results of `looked` requests were
    compared with those of others; `memory` holds the bytes of requests whose memory is known.
    `more` counts queries beyond the most that were kept of a request. Of some requests `summed_ns`
    is what their queries took, added up, and `overlap_ns` how much of it was at the same time as
    others of theirs. `left_out` are requests that were not kept; if that was by chance,
    `total_queries` and `spent_ns` sum up the queries of those that were and their time, next to the
    sums of their squares.
    """

    __slots__ = (
        "_loaded", "_quickest", "_sorted_out", "durations", "elapsed_ns", "kind", "left_out",
        "looked", "memory", "more", "more_ns", "objects", "overlap_ns", "queries", "repeated",
        "requests", "route", "shapes", "shapes_asked", "spent_ns", "spent_squares", "summed_ns",
        "tallies", "total_queries", "total_queries_squared", "warm_up",
    )  # fmt: skip

    def __init__(self, route: str, kind: str) -> None:
        self.route = route
        self.kind = kind
        self.requests = self.warm_up = self.repeated = self.elapsed_ns = self.shapes_asked = 0
        self.objects = self.more = self.more_ns = self.looked = 0
        self.summed_ns = self.overlap_ns = 0
        self.total_queries = self.total_queries_squared = self.spent_ns = self.spent_squares = 0
        self.left_out = Counts()
        self.memory = Quantiles()
        self.durations = Quantiles()
        self.queries = Quantiles()
        self.shapes: dict[str, ShapeStats] = {}
        # What is asked of a route again and again while it is judged, with what it holds for: as
        # many requests and shapes.
        self._sorted_out: tuple[int, list[ShapeStats], list[ShapeStats]] = (0, [], [])
        self._loaded: tuple[int, list[ShapeStats]] = (0, [])
        self._quickest: tuple[tuple[int, int], float] = ((0, 0), 0.0)
        self.tallies: dict[str, dict[tuple[str, ...], Tally]] = {}

    def own_shapes(self, noise: bool = False) -> list[ShapeStats]:
        """The shapes that the application's author wrote; with `noise`, the others."""
        if self._sorted_out[0] != len(self.shapes):
            own = [stats for stats in self.shapes.values() if not stats.shape.noise]
            others = [stats for stats in self.shapes.values() if stats.shape.noise]
            self._sorted_out = len(self.shapes), own, others
        _, own, others = self._sorted_out
        return others if noise else own

    def loaded_shapes(self) -> list[ShapeStats]:
        """The shapes of which an ORM said what they load."""
        if self._loaded[0] != self.requests:
            self._loaded = self.requests, [stats for stats in self.own_shapes() if stats.loads]
        return self._loaded[1]

    @property
    def wall_share(self) -> float:
        """The share of the sum of the queries' times in which any of them ran: 1 if they came one
        after the other.
        """
        return 1 - self.overlap_ns / self.summed_ns if self.overlap_ns else 1.0

    @property
    def scale(self) -> float:
        """By how much a total of the requests that were kept is multiplied, for those that were
        omitted by chance.
        """
        return 1 + self.left_out.by_chance / self.requests if self.requests else 1.0

    def request_ms(self, network_latency_ms: float) -> float:
        """The median time of a request, each of its queries with an assumed way to the database on
        top.
        """
        return self.durations.median / 1e6 + self.queries.median * network_latency_ms

    def most_saved_ms(
        self, queries_left: float, network_latency_ms: float, request_ms: float | None = None
    ) -> float:
        """The most that a request (of `request_ms`, else the median one) can be spared: each query
        that it still asks takes as long as the quickest at least.

        Medians of single queries may add up to more than the median request, on a busy machine
        above all.
        """
        known_for = self.durations.count, len(self.shapes)
        if self._quickest[0] != known_for:
            quickest_ns = min((stats.query_ns for stats in self.shapes.values()), default=0.0)
            self._quickest = known_for, quickest_ns / 1e6
        if request_ms is None:
            request_ms = self.request_ms(network_latency_ms)
        return max(
            request_ms - queries_left * (self._quickest[1] + network_latency_ms),
            0.0,
        )

    def merge(self, other: RouteStats, room: int = TOTALS_MOST) -> None:
        """Add what another piece of the capture counted; so many more shapes may be
        distinguished.
        """
        self.requests += other.requests
        self.warm_up += other.warm_up
        self.repeated += other.repeated
        self.elapsed_ns += other.elapsed_ns
        self.shapes_asked += other.shapes_asked
        self.objects += other.objects
        self.looked += other.looked
        self.summed_ns += other.summed_ns
        self.overlap_ns += other.overlap_ns
        self.more += other.more
        self.more_ns += other.more_ns
        self.total_queries += other.total_queries
        self.total_queries_squared += other.total_queries_squared
        self.spent_ns += other.spent_ns
        self.spent_squares += other.spent_squares
        self.left_out = self.left_out.plus(other.left_out)
        self.memory.merge(other.memory)
        self.durations.merge(other.durations)
        self.queries.merge(other.queries)
        for digest, stats in other.shapes.items():
            known = self.shapes.get(digest)
            if known is not None:
                known.merge(stats)
            elif room > 0:
                self.shapes[digest] = stats
                room -= 1
            else:
                others_of(self.shapes, stats.shape).merge(stats)
        for pattern, tallies in other.tallies.items():
            own = self.tallies.setdefault(pattern, {})
            for key, tally in tallies.items():
                if not _stand_on(tally, self.shapes):
                    continue
                if key in own:
                    own[key].merge(tally)
                else:
                    own[key] = tally
            if len(own) > SEEN_ONCE_MOST:
                _let_go(own)


class Summary:
    """All routes of a capture, by name, and the models that its ORM told of."""

    def __init__(self, settings: Settings | None = None) -> None:
        self.settings = settings or Settings()
        self.routes: dict[str, RouteStats] = {}
        self.models: dict[tuple[str, str], Model] = {}
        self.damage = ""  # what of the capture can't be read or was lost, in words

    def leave_out(self, route: str, counts: Counts) -> None:
        """Requests of a route were omitted."""
        stats = self.routes.get(route)
        if stats is None:
            stats = self.routes[route] = RouteStats(route, "http")
        stats.left_out = stats.left_out.plus(counts)

    @property
    def requested(self) -> set[str]:
        """The names of the routes that have requests, those to warm up omitted."""
        return {name for name, route in self.routes.items() if route.requests}

    def merge(self, other: Summary) -> None:
        """Add what another piece of the capture counted."""
        self.models.update(other.models)
        total = sum(len(route.shapes) for route in self.routes.values())
        for name, route in other.routes.items():
            known = self.routes.get(name)
            if known is None:
                known = self.routes[name] = RouteStats(name, route.kind)
            before = len(known.shapes)
            known.merge(route, TOTALS_MOST - total)
            total += len(known.shapes) - before

    @property
    def lumped(self) -> int:
        """Queries of shapes that are not distinguished."""
        return sum(
            route.shapes[one].count
            for route in self.routes.values()
            for one in LUMPED
            if one in route.shapes
        )


def _let_go(tallies: dict[tuple[str, ...], Tally]) -> None:
    """Forget the first of what was seen but once in all pieces so far."""
    once = [key for key, tally in tallies.items() if getattr(tally, "seen_once", False)]
    for key in once[: len(tallies) - SEEN_ONCE_MOST]:
        del tallies[key]


def _stand_on(tally: Tally, shapes: dict[str, ShapeStats]) -> bool:
    """Let a tally refer to these totals of shapes, not to those of the piece that it was made in;
    False if one is not distinguished.
    """
    names = list(vars(tally)) if hasattr(tally, "__dict__") else getattr(tally, "__slots__", ())
    for name in names:
        value = getattr(tally, name)
        if isinstance(value, ShapeStats):
            known = shapes.get(value.shape.digest)
            if known is None:
                return False
            setattr(tally, name, known)
        elif isinstance(value, dict) and any(isinstance(one, ShapeStats) for one in value.values()):
            if not shapes.keys() >= {one.shape.digest for one in value.values()}:
                return False
            setattr(tally, name, {key: shapes[one.shape.digest] for key, one in value.items()})
    return True
