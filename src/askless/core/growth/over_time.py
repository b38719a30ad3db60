"""Whether a query becomes slower or more frequent over a long capture: its first third of time
against its last.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from enum import StrEnum

import msgspec

from askless.core.records.model import Request, Statement
from askless.core.statistics import Quantiles, Ratio, ratio_of_medians

BUCKETS_MOST = 24  # stretches of time; where more are needed, two become one
SHAPES_MOST = 2000
FIRST_NS = 10_000_000  # how long a stretch is to begin with
CHANGE_LEAST = 1.25  # factor of the medians
ENOUGH = 8  # executions in a third, below which nothing is said


class Direction(StrEnum):
    """How a query changes."""

    SLOWER = "slower"
    FASTER = "faster"
    SAME = "no measurable change"
    TOO_FEW = "too few to judge"


class Trend(msgspec.Struct, frozen=True):
    """A shape over time. `counts` are its executions in each stretch; `ratio` is the last third's
    median over the first's.

    Of a capture of which requests were omitted by chance, counts and times are those of all.
    """

    shape: str
    statement: Statement
    routes: tuple[str, ...]
    count: int
    total_ns: int
    counts: tuple[int, ...]
    first_ms: float
    last_ms: float
    direction: Direction
    ratio: Ratio | None


class _Over:
    """One shape, by stretches of time."""

    def __init__(self, statement: Statement) -> None:
        self.statement = statement
        self.routes: set[str] = set()
        self.buckets: dict[int, Quantiles] = {}
        # executions in each stretch: those included that the kept ones stand for
        self.counts: Counter[int] = Counter()
        self.total_ns = 0


class Timeline:
    """Adds requests up by time, in bounded memory: stretches grow as the capture does."""

    def __init__(self) -> None:
        self.start_ns: int | None = None
        self.width_ns = FIRST_NS
        self.shapes: dict[str, _Over] = {}

    def add(self, request: Request) -> None:
        """Count a request in."""
        if self.start_ns is None:
            self.start_ns = request.start_ns
        bucket = (request.start_ns - self.start_ns) // self.width_ns
        while bucket >= BUCKETS_MOST:
            self._widen()
            bucket = (request.start_ns - self.start_ns) // self.width_ns
        bucket = max(bucket, 0)  # a request may end, and be said, after those that began later
        durations: dict[str, list[int]] = {}
        for i, number in enumerate(request.statements):
            statement = request.tables.statements[number]
            if statement.shape.noise or i in request.errors:
                continue
            durations.setdefault(statement.shape.digest, []).append(request.durations_ns[i])
            if statement.shape.digest not in self.shapes and len(self.shapes) < SHAPES_MOST:
                self.shapes[statement.shape.digest] = _Over(statement)
        for digest, taken in durations.items():
            over = self.shapes.get(digest)
            if over is not None:
                over.routes.add(request.route)
                over.counts[bucket] += request.weight * len(taken)
                over.total_ns += request.weight * sum(taken)
                over.buckets.setdefault(bucket, Quantiles()).extend(taken)

    def _widen(self) -> None:
        """Make one stretch of each two."""
        self.width_ns *= 2
        for over in self.shapes.values():
            merged: dict[int, Quantiles] = {}
            for bucket, quantiles in over.buckets.items():
                merged.setdefault(bucket // 2, Quantiles()).merge(quantiles)
            over.buckets = merged
            counts: Counter[int] = Counter()
            for bucket, count in over.counts.items():
                counts[bucket // 2] += count
            over.counts = counts

    def trends(self) -> list[Trend]:
        """The trend of each shape, those that take most time first."""
        last = (
            max((bucket for over in self.shapes.values() for bucket in over.buckets), default=0) + 1
        )
        ordered = sorted(self.shapes.items(), key=lambda item: (-item[1].total_ns, item[0]))
        return [_trend(digest, over, last) for digest, over in ordered]


def trends_of(requests: Iterable[Request]) -> tuple[list[Trend], float]:
    """The trends of a capture's shapes, and the seconds of one stretch. Warm-up requests are
    omitted.
    """
    timeline = Timeline()
    for request in requests:
        if not request.warm_up:
            timeline.add(request)
    return timeline.trends(), timeline.width_ns / 1e9


def _trend(digest: str, over: _Over, stretches: int) -> Trend:
    counts = tuple(over.counts[i] for i in range(stretches))
    third = stretches / 3
    first, last = Quantiles(), Quantiles()
    for bucket, quantiles in over.buckets.items():
        if bucket + 1 <= max(third, 1):
            first.merge(quantiles)
        elif bucket >= stretches - max(third, 1):
            last.merge(quantiles)
    ratio = None
    direction = Direction.TOO_FEW
    if min(first.count, last.count) >= ENOUGH and stretches >= 3:
        ratio = ratio_of_medians(last.spread_out(), first.spread_out(), confidence=0.99)
        direction = Direction.SAME
        if ratio.certain and not 1 / CHANGE_LEAST < ratio.value < CHANGE_LEAST:
            direction = Direction.SLOWER if ratio.value > 1 else Direction.FASTER
    return Trend(
        shape=digest,
        statement=over.statement,
        routes=tuple(sorted(over.routes)),
        count=sum(counts),
        total_ns=over.total_ns,
        counts=counts,
        first_ms=first.median / 1e6 if first.count else 0.0,
        last_ms=last.median / 1e6 if last.count else 0.0,
        direction=direction,
        ratio=ratio,
    )
