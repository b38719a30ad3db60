"""Summaries as rows of plain numbers, the same for every output."""

from __future__ import annotations

from collections import Counter

import msgspec

from askless.core.aggregation.summary import RouteStats, Summary
from askless.core.records.model import Request
from askless.core.records.sampling import Counts, Estimate, total_of
from askless.core.sql.masking import masked, shown_values


class SampledOut(msgspec.Struct, frozen=True):
    """Requests of a route that are not in the capture, by reason.

    `by_chance` were not in the sample, `too_fast` took less than the least time that is kept,
    `paused` came while recording was paused or the disk was full. Of those that were too fast, the
    queries and their time in the database are counted.
    """

    by_chance: int = 0
    too_fast: int = 0
    paused: int = 0
    too_fast_queries: int = 0
    too_fast_database_ms: float = 0.0

    @property
    def requests(self) -> int:
        """How many requests, whatever the reason."""
        return self.by_chance + self.too_fast + self.paused


class RouteRow(msgspec.Struct, frozen=True):
    """One route. Numbers are per request unless they say otherwise; times in milliseconds.

    `queries` is the median; `shapes` and `repeated` are means. `database_ms` is the mean time in
    queries, `share` its share of `request_ms` (mean). `noise` queries are counted apart, their time
    is not in database_ms. `objects` is the mean of what an ORM built, `memory_bytes` the median of
    what a request took; 0 if that was not tracked. `dropped_queries` queries (mean) were counted
    and not kept. What begins with `all` is of the whole route, those of its requests included that
    were `sampled_out`.
    """

    route: str
    kind: str
    requests: int
    warm_up: int
    queries: float
    queries_max: float
    shapes: float
    repeated: float
    database_ms: float
    request_ms: float
    request_median_ms: float
    share: float
    rows: float
    bytes: float
    noise: float
    noise_ms: float
    errors: int
    objects: float = 0.0
    memory_bytes: float = 0.0
    dropped_queries: float = 0.0
    sampled_out: SampledOut = SampledOut()
    total_requests: int = 0
    estimated_queries: Estimate = Estimate(0.0)
    estimated_database_ms: Estimate = Estimate(0.0)


def route_row(route: RouteStats) -> RouteRow:
    """The numbers of one route; all 0 if it has only warm-up requests."""
    n = max(route.requests, 1)
    queried, noise = route.own_shapes(), route.own_shapes(noise=True)
    database_ns = round(sum(stats.duration_ns for stats in queried) * route.wall_share)
    return RouteRow(
        route=route.route,
        kind=route.kind,
        requests=route.requests,
        warm_up=route.warm_up,
        queries=route.queries.median,
        queries_max=route.queries.at(1.0),
        shapes=route.shapes_asked / n,
        repeated=route.repeated / n,
        database_ms=database_ns / n / 1e6,
        request_ms=route.elapsed_ns / n / 1e6,
        request_median_ms=route.durations.median / 1e6,
        share=database_ns / route.elapsed_ns if route.elapsed_ns else 0.0,
        rows=sum(stats.rows for stats in queried) / n,
        bytes=sum(stats.bytes for stats in queried) / n,
        noise=sum(stats.count for stats in noise) / n,
        noise_ms=sum(stats.duration_ns for stats in noise) / n / 1e6,
        errors=sum(stats.errors for stats in route.shapes.values()),
        objects=route.objects / n,
        memory_bytes=route.memory.median,
        dropped_queries=route.more / n,
        sampled_out=_sampled_out(route.left_out),
        total_requests=route.requests + route.left_out.requests,
        estimated_queries=_all(
            route,
            sum(stats.count for stats in queried) + route.more,
            route.total_queries,
            route.total_queries_squared,
            route.left_out.quick_queries,
        ),
        estimated_database_ms=_in_ms(
            _all(
                route,
                database_ns + route.more_ns,
                route.spent_ns,
                route.spent_squares,
                route.left_out.quick_ns,
            )
        ),
    )


def _sampled_out(counts: Counts) -> SampledOut:
    return SampledOut(
        counts.by_chance, counts.quick, counts.stopped, counts.quick_queries, counts.quick_ns / 1e6
    )


def _all(route: RouteStats, recorded: int, total: int, squares: int, quick: int) -> Estimate:
    """A total over all requests of a route: `recorded` in those that were kept, scaled where others
    were omitted by chance.
    """
    left_out = route.left_out.by_chance
    estimate = total_of(
        route.requests,
        left_out,
        float(recorded),
        float(squares) * (recorded / total) ** 2 if total else 0.0,
    )
    return Estimate(estimate.value + quick, estimate.margin)


def _in_ms(total: Estimate) -> Estimate:
    return Estimate(total.value / 1e6, total.margin / 1e6)


def by_database_time(summary: Summary) -> list[RouteStats]:
    """The routes, the one that spends most time in queries first."""

    def spent(route: RouteStats) -> float:
        return route.scale * sum(stats.duration_ns for stats in route.own_shapes())

    return sorted(summary.routes.values(), key=lambda route: (-spent(route), route.route))


class TimelineEntry(msgspec.Struct):
    """A query, or a run of one shape folded."""

    indices: list[int]
    start_ms: float
    end_ms: float
    duration_ms: float
    rows: int
    bytes: int
    sql: str
    parameters: str


LOOP_LEAST = 3


def timeline(request: Request, values: bool = False, unfolded: bool = False) -> list[TimelineEntry]:
    """A request's queries in order of their start; queries of a loop folded, one entry a shape.

    A loop is a stretch of queries whose shape and line of code come three times or more in the
    request: lookups of several relations take turns in it.
    """
    order = sorted(range(len(request)), key=request.starts_ns.__getitem__)
    keys = [(request.statement(i).shape.digest, request.places[i]) for i in range(len(request))]
    often = (
        {key for key, count in Counter(keys).items() if count >= LOOP_LEAST}
        if not unfolded
        else set()
    )
    entries: list[TimelineEntry] = []
    run: dict[tuple[str, int], list[int]] = {}
    for i in order:
        if keys[i] in often and not request.statement(i).shape.noise:
            run.setdefault(keys[i], []).append(i)
            continue
        entries += [_entry(request, indices, values) for indices in run.values()]
        run = {}
        entries.append(_entry(request, [i], values))
    return entries + [_entry(request, indices, values) for indices in run.values()]


def _entry(request: Request, indices: list[int], values: bool) -> TimelineEntry:
    first = indices[0]
    statement = request.statement(first)
    text = request.text(first)
    start = min(request.starts_ns[i] for i in indices) - request.start_ns
    end = max(request.starts_ns[i] + request.durations_ns[i] for i in indices) - request.start_ns
    parameters = ""
    if values:
        parameters = " | ".join(
            shown_values(request.parameters[i]) for i in indices[:3] if request.parameters[i]
        )
        if len(indices) > 3 and parameters:
            parameters += " | …"
    return TimelineEntry(
        indices=indices,
        start_ms=start / 1e6,
        end_ms=end / 1e6,
        duration_ms=sum(request.durations_ns[i] for i in indices) / 1e6,
        rows=sum(max(request.rows[i], 0) for i in indices),
        bytes=sum(request.bytes[i] for i in indices),
        sql=text if values else masked(text, statement.system),
        parameters=parameters,
    )
