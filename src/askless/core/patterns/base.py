"""What a pattern is, and what patterns share."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Mapping, Sequence
from typing import Generic, Protocol, TypeVar, cast

import msgspec

from askless.core.aggregation.request_view import RequestView
from askless.core.aggregation.shape_stats import ShapeStats
from askless.core.aggregation.summary import RouteStats, Summary, Tally
from askless.core.findings.finding import Cost, Finding, SourceLine, finding_key, severity_in
from askless.core.findings.remedies import Remedy
from askless.core.formatting import milliseconds, number, plural, size
from askless.core.inference.context import Context
from askless.core.records.intervals import at_once, lower_gap_ns, overlap_ns
from askless.core.records.model import (
    BLENDED,
    PAUSED,
    CallSite,
    Load,
    Request,
    Statement,
    leads_back,
)
from askless.core.settings import Settings
from askless.core.sql.structure import EVERYTHING, Structure
from askless.core.statistics import median

EXAMINED_LEAST = 100  # rows that a server reads for a query, to be worth a word,
EXAMINED_TIMES = 10  # and how many times those that it gives
TIMED_MOST = 16  # requests of a tally in which the work around its queries is timed
SAMPLED_REQUESTS_MOST = 64  # of a tally, over all pieces of a capture
# a SELECT without these words changes nothing
_MAY_WRITE = re.compile(r"\b(?:insert|update|delete|merge|into)\b")


class Rule(msgspec.Struct, frozen=True):
    """What a pattern is, for documents and lists of rules. `title` is a noun phrase; `help` says
    what is flagged, `clean` what looks alike and is not. `severity` is what it mostly comes to;
    `needs_use`: only where `--track-use` was on.
    """

    id: str
    title: str
    help: str
    clean: str
    severity: str = "worthwhile"
    needs_use: bool = False


class SampledRequest(msgspec.Struct, frozen=True):
    """A request that has a finding: its queries without the noise, how many of them are of the
    finding's shape, and what it took.
    """

    queries: int
    of_shape: int
    duration_ns: int


# Some of the requests that have a finding, by their start and number.
RequestSample = dict[tuple[int, int], SampledRequest]


class Diagnosis(msgspec.Struct, frozen=True):
    """A finding before it has advice, the remedy that advice is made of, and some of the requests
    that have it; {} where any request may.
    """

    finding: Finding
    remedy: Remedy
    sample: RequestSample = {}


class Pattern(Protocol):
    """A way of asking too much. `look` sees each request with a repeated shape; `judge` sees a
    route's totals.
    """

    rule: Rule

    def look(self, view: RequestView, settings: Settings) -> None:
        """Add to the route's tallies what the request shows."""

    def judge(
        self, route: RouteStats, context: Context, diagnoses: list[Diagnosis]
    ) -> Iterable[Diagnosis]:
        """What is wrong with a route. `diagnoses` is what patterns before it had to say of this
        route.
        """


class CrossRoutePattern(Pattern, Protocol):
    """A pattern that is reported over routes."""

    def judge_all(
        self, summary: Summary, context: Context, diagnoses: Sequence[Diagnosis]
    ) -> Iterable[Diagnosis]:
        """What is wrong with all routes together. `diagnoses` is what was said of each by
        itself.
        """


class ShapeTally:
    """What a pattern met of one shape in the requests of a route, and the places that asked."""

    def __init__(self, stats: ShapeStats) -> None:
        self.stats = stats
        self.requests = 0
        self.queries = 0
        self.places: dict[CallSite, int] = {}
        self.timed = 0  # requests in which the work around the queries was timed
        self.around_ns = 0.0  # what it took for each query, summed over these
        self.summed_ns = self.wall_ns = 0  # the queries' times: added up, and while any of them ran
        self.at_once = 1  # the most of them that ran at the same moment
        self.sample: RequestSample = {}

    @property
    def per_request(self) -> float:
        """The queries in a request that has them."""
        return self.queries / self.requests

    def add(self, request: Request, indices: Collection[int]) -> None:
        """Add the queries of one more request."""
        self.requests += 1
        self.queries += len(indices)
        add_places(self.places, request, indices)
        self.time(request, indices)

    def time(self, request: Request, indices: Collection[int]) -> None:
        """Time the application's own work around the queries: in the first requests, which stand
        for the others.
        """
        if len(self.sample) < SAMPLED_REQUESTS_MOST:
            self.sample[request.start_ns, request.number] = SampledRequest(
                own_queries(request), len(indices), max(request.end_ns - request.start_ns, 0)
            )
        if self.timed < TIMED_MOST:
            self.timed += 1
            self.around_ns += around(request, indices)
            in_order = sorted(indices)
            starts = [request.starts_ns[i] for i in in_order]
            durations = [request.durations_ns[i] for i in in_order]
            summed_ns = sum(durations)
            beyond_ns = overlap_ns(starts, durations)
            self.summed_ns += summed_ns
            self.wall_ns += summed_ns - beyond_ns
            if beyond_ns:
                self.at_once = max(self.at_once, at_once(starts, durations))

    def merge(self, other: Tally) -> None:
        """Add another piece's tally of the same pattern and shape."""
        assert isinstance(other, ShapeTally)
        self.requests += other.requests
        self.queries += other.queries
        self.timed += other.timed
        self.around_ns += other.around_ns
        self.summed_ns += other.summed_ns
        self.wall_ns += other.wall_ns
        self.at_once = max(self.at_once, other.at_once)
        # The earliest, so that it does not matter in which order pieces are put together.
        self.sample = dict(sorted({**self.sample, **other.sample}.items())[:SAMPLED_REQUESTS_MOST])
        add_counts(self.places, other.places)


T = TypeVar("T", bound=ShapeTally)


class ByRequests(Generic[T]):
    """A pattern that adds up what it meets, request by request, in tallies of a type of its own."""

    rule: Rule

    def judge(
        self, route: RouteStats, context: Context, diagnoses: list[Diagnosis]
    ) -> Iterable[Diagnosis]:
        """One a tally."""
        for tally in self.tallies(route).values():
            diagnosis = self.diagnose(tally, met_of(tally, route, context))
            if diagnosis is not None:
                yield with_sample(diagnosis, tally)

    def diagnose(self, tally: T, met: Match) -> Diagnosis | None:
        """What a tally comes to; None for nothing, after all."""
        raise NotImplementedError

    def tallies(self, route: RouteStats) -> dict[tuple[str, ...], T]:
        """The route's tallies of this pattern, by whatever distinguishes them."""
        return cast("dict[tuple[str, ...], T]", route.tallies.setdefault(self.rule.id, {}))


class ByTotals:
    """A pattern that judges a route's totals, shape by shape; shapes that another finding explains
    are left to it.
    """

    rule: Rule
    # patterns that explain a shape better
    yields_to: tuple[str, ...] = ("n-plus-one", "already-loaded")

    def look(self, view: RequestView, settings: Settings) -> None:
        """Nothing: totals are enough."""

    def judge(
        self, route: RouteStats, context: Context, diagnoses: list[Diagnosis]
    ) -> Iterable[Diagnosis]:
        """At most one a SELECT."""
        claimed = {one.finding.shape for one in diagnoses if one.finding.pattern in self.yields_to}
        for stats in route.own_shapes():
            if stats.shape.digest in claimed or not self.worth_parsing(stats, context):
                continue
            structure = stats.structure
            if structure is None or structure.kind != "select" or structure.aggregates:
                continue
            diagnosis = self.judge_shape(
                Match(route, stats, context, stats.places, stats.requests), structure
            )
            if diagnosis is not None:
                yield diagnosis

    def worth_parsing(self, stats: ShapeStats, context: Context) -> bool:
        """Whether the counts alone leave it open that a shape is one: parsing takes longer than
        counting.
        """
        raise NotImplementedError

    def judge_shape(self, met: Match, structure: Structure) -> Diagnosis | None:
        """What is wrong with one shape, or None."""
        raise NotImplementedError


def _examined(stats: ShapeStats) -> tuple[str, ...]:
    """What the server read to answer a query, in words, if it reported it and that is far more than
    it gave.
    """
    if not stats.examined_queries or not stats.count:
        return ()
    examined, given = stats.examined / stats.examined_queries, stats.rows / stats.count
    if examined < EXAMINED_LEAST or examined < EXAMINED_TIMES * given:
        return ()
    return (
        f"the server reads {plural(examined, 'row')} for {number(given)} that it returns or "
        "changes, according to its log",
    )


def taken(route: RouteStats) -> tuple[str, ...]:
    """What a request of a route builds and takes, in words, if that was tracked: for findings about
    size.
    """
    objects = route.objects / max(route.requests, 1)
    said = [f"builds {plural(objects, 'object')}"] if objects else []
    said += (
        [f"takes {size(route.memory.median, 'bytes')} at its peak"] if route.memory.count else []
    )
    return (f"a request {' and '.join(said)}",) if said else ()


class FindingDraft(msgspec.Struct, frozen=True, kw_only=True):
    """What a pattern has to say of what it met: see `Finding` for each field."""

    title: str
    severity: str
    evidence: str
    evidence_details: tuple[str, ...]
    cost: Cost
    variant: str = ""
    caveats: tuple[str, ...] = ()
    source: SourceLine | None = None
    source_role: str = "keys"
    callers: tuple[SourceLine, ...] = ()
    summary: str = ""


class Match(msgspec.Struct, frozen=True):
    """Where a pattern was met: a shape in a route, asked from these places, in so many requests."""

    route: RouteStats
    stats: ShapeStats
    context: Context
    places: dict[CallSite, int]
    requests: int
    around_ns: float = 0.0  # the application's own work around each query
    wall_share: float = 1.0  # of the queries' summed time, while any of them ran
    at_once: int = 1  # the most of them that ran at the same moment
    sample: RequestSample = {}

    @property
    def structure(self) -> Structure:
        """What the statement asks."""
        return self.stats.parsed

    @property
    def line(self) -> SourceLine | None:
        """The line that asks most."""
        return next(iter(lines_of(self.places)), None)

    @property
    def share(self) -> float:
        """The shape's part of the time that the route's requests take."""
        if not self.route.elapsed_ns:
            return 0.0
        return self.stats.duration_ns * self.route.wall_share / self.route.elapsed_ns

    def cost(self, queries: float, avoidable: float, loop_ms: float = 0.0) -> Cost:
        """The cost of `avoidable` queries per request: their median time, the work around each, and
        their assumed way.
        """
        query_ms = self.stats.query_ns / 1e6
        way_ms = self.context.settings.network_latency_ms
        # Of queries that run at the same time, those that remain still take their whole time.
        remaining = queries - avoidable
        gone_ms = max((queries * self.wall_share - remaining) * query_ms, 0.0)
        saving_ms = gone_ms + avoidable * (self.around_ns / 1e6 + way_ms) * self.wall_share
        request_ms = request_ms_of(self.sample, self.requests, self.route, way_ms)
        if request_ms:
            saving_ms = min(saving_ms, self.route.most_saved_ms(remaining, way_ms, request_ms))
        if loop_ms:
            saving_ms = min(saving_ms, loop_ms + avoidable * way_ms)
        return Cost(
            queries=queries,
            avoidable=avoidable,
            query_ms=query_ms,
            database_ms=gone_ms,
            saving_ms=saving_ms,
            share=saving_ms / request_ms if request_ms else 0.0,
            total_ms=saving_ms * self.requests * self.route.scale,
            loop_ms=loop_ms,
        )

    def _concurrency(self) -> tuple[str, ...]:
        return (f"up to {self.at_once} of them run at the same time",) if self.at_once > 1 else ()

    def finding(self, rule: Rule, claim: FindingDraft) -> Finding:
        """A finding about the shape in the route, still without advice."""
        stats, route, load = self.stats, self.route, self.stats.load
        lines = lines_of(self.places)
        severity, unsure = severity_in(route.kind, claim.severity), claim.caveats
        if route.kind in _VAGUE:
            unsure = (*unsure, _VAGUE[route.kind])
        return Finding(
            key=finding_key(rule.id, route.route, cause_of(stats)),
            pattern=rule.id,
            variant=claim.variant,
            severity=severity,
            route=route.route,
            title=claim.title,
            evidence=claim.evidence,
            evidence_details=(*claim.evidence_details, *self._concurrency(), *_examined(stats)),
            cost=claim.cost,
            requests=self.requests,
            shape=stats.shape.digest,
            sql=self.context.sql(stats),
            tables=structure.tables if (structure := stats.structure) is not None else (),
            lines=lines,
            path=path_of(self.places),
            advice=(),
            caveats=unsure,
            source=claim.source,
            source_role=claim.source_role,
            callers=claim.callers,
            summary=claim.summary or claim.title,
            relation=f"{load.model}.{load.relation}" if load is not None and load.relation else "",
        )


# Kinds of requests that may be several, or a part of one.
_VAGUE = {
    BLENDED: "the program is a server, and these queries are outside of any identified request",
    PAUSED: "requests were separated only by pauses: this may be several requests",
}


def met_of(
    tally: ShapeTally, route: RouteStats, context: Context, stats: ShapeStats | None = None
) -> Match:
    """Where a tally was met. `stats`: which of its shapes, if not its main one."""
    around_ns = tally.around_ns / tally.timed if tally.timed else 0.0
    wall_share = tally.wall_ns / tally.summed_ns if tally.summed_ns else 1.0
    return Match(
        route,
        stats or tally.stats,
        context,
        tally.places,
        tally.requests,
        around_ns,
        wall_share,
        tally.at_once,
        tally.sample,
    )


def with_sample(diagnosis: Diagnosis, tally: ShapeTally) -> Diagnosis:
    """A diagnosis with the requests that its tally was met in."""
    return msgspec.structs.replace(diagnosis, sample=tally.sample)


def request_ms_of(sample: RequestSample, requests: int, route: RouteStats, way_ms: float) -> float:
    """The median time of so many requests of a route of which this is a sample, each of their
    queries with an assumed way to the database on top.
    """
    if not sample or requests >= route.requests:
        return route.request_ms(way_ms)
    took_ms = [one.duration_ns / 1e6 + one.queries * way_ms for one in sample.values()]
    return median(took_ms)


def own_queries(request: Request) -> int:
    """The queries of a request without the noise, those included that were not kept."""
    statements = request.tables.statements
    noise = {number for number in set(request.statements) if statements[number].shape.noise}
    own = len(request.statements)
    if noise:
        own = sum(number not in noise for number in request.statements)
    beyond = sum(
        total.count
        for (number, *_), total in request.beyond.items()
        if not statements[number].shape.noise
    )
    return own + request.more + beyond


def around(request: Request, indices: Collection[int]) -> float:
    """The application's own work that goes with each of these queries, in ns: from the end of the
    query before it.

    The lower quartile, as a page may do other things between some of them, which would be done all
    the same; and no more than that of all of the request's queries.
    """
    own_ns = lower_gap_ns(request.starts_ns, request.durations_ns, indices)
    return float(min(own_ns, request.usual_gap_ns))


def summed(costs: Sequence[Cost]) -> Cost:
    """What several shapes of one loop cost together; the median is that of the first."""
    return msgspec.structs.replace(
        costs[0],
        queries=sum(cost.queries for cost in costs),
        avoidable=sum(cost.avoidable for cost in costs),
        database_ms=sum(cost.database_ms for cost in costs),
        saving_ms=sum(cost.saving_ms for cost in costs),
        share=min(sum(cost.share for cost in costs), 1.0),
        total_ms=sum(cost.total_ms for cost in costs),
    )


def spared(queries: float, saving_ms: float) -> str:
    """What a request is spared, in words."""
    return f"about {plural(queries, 'query')} and {milliseconds(saving_ms)} ms per request"


def call_path(request: Request, i: int) -> tuple[str, ...]:
    """The lines that led to a query, innermost first; a line that calls itself again counts once.

    Two calls of one helper from different lines are different code, however deep the helper lies;
    what walks a tree is one line, however deep the tree.
    """
    place = request.place(i)
    if place is not None and leads_back(request.load(i)):
        return (str(place),)
    steps: list[str] = []
    for step in place.path() if place is not None else ():
        if not steps or steps[-1] != str(step):
            steps.append(str(step))
    return tuple(steps)


def by_code(request: Request, indices: list[int]) -> list[list[int]]:
    """Executions grouped by the code that asked."""
    numbers = {request.places[i] for i in indices}
    if len(numbers) == 1:
        return [indices]
    paths = {
        number: call_path(request, next(i for i in indices if request.places[i] == number))
        for number in numbers
    }
    groups: dict[tuple[str, ...], list[int]] = {}
    for i in indices:
        groups.setdefault(paths[request.places[i]], []).append(i)
    return list(groups.values())


def writes_of(view: RequestView) -> list[tuple[int, str]]:
    """(query, table) of all writes in a request, tables in lower case; found once a request."""
    if view.writes is None:
        request, statements = view.request, view.request.tables.statements
        written = {
            number: tables
            for number in set(request.statements)
            if (tables := tables_written(statements[number]))
        }
        numbered = enumerate(request.statements) if written else ()
        view.writes = [(i, table) for i, number in numbered for table in written.get(number, ())]
    return view.writes


def tables_written(statement: Statement) -> tuple[str, ...]:
    """The tables that a statement writes; EVERYTHING for one that can't be read, unless it is sure
    not to write.
    """
    if statement.written is None:
        statement.written = _written(statement)
    return statement.written


def _written(statement: Statement) -> tuple[str, ...]:
    text = statement.shape.text
    if (statement.shape.noise or text.startswith("select ")) and _MAY_WRITE.search(text) is None:
        return ()
    structure = statement.structure
    return structure.writes if structure is not None else (EVERYTHING,)


def written_between(view: RequestView, first: int, last: int, tables: Collection[str]) -> bool:
    """Whether a query between two others writes one of these tables (in lower case)."""
    return any(
        first < i < last and (table in tables or table == EVERYTHING)
        for i, table in writes_of(view)
    )


def add_counts(totals: dict[CallSite, int], others: dict[CallSite, int]) -> None:
    """Add another piece's counts of places."""
    for place, count in others.items():
        totals[place] = totals.get(place, 0) + count


def add_places(totals: dict[CallSite, int], request: Request, indices: Iterable[int]) -> None:
    """Count the places of some queries of a request."""
    for i in indices:
        place = request.place(i)
        if place is not None:
            totals[place] = totals.get(place, 0) + 1


def eager_path(load: Load | None, route: RouteStats) -> tuple[Load, ...]:
    """The relations that are loaded eagerly, from the first query down to one of them: advice must
    name the whole path. () for any other load.
    """
    results: list[Load] = []
    while load is not None and load.kind == "eager" and load.relation and load not in results:
        results.insert(0, load)
        wanted = load.model
        load = next(
            (
                above
                for stats in route.loaded_shapes()
                if (above := stats.load) and above.kind == "eager" and above.target == wanted
            ),
            None,
        )
    return tuple(results)


def lines_of(places: Mapping[CallSite, int]) -> tuple[SourceLine, ...]:
    """The lines of code, those that ask most first."""
    counts: dict[tuple[str, int, str], int] = {}
    digests: dict[tuple[str, int, str], int] = {}
    for place, count in places.items():
        key = (place.file, place.line, place.function)
        counts[key] = counts.get(key, 0) + count
        digests[key] = place.digest
    ordered = sorted(counts.items(), key=lambda item: (-item[1], item[0]))
    return tuple(SourceLine(*key, count, digests[key]) for key, count in ordered)


def path_of(places: dict[CallSite, int]) -> tuple[SourceLine, ...]:
    """The call path of the place that asks most, innermost first."""
    if not places:
        return ()
    most = max(places, key=lambda place: (places[place], str(place)))
    return tuple(
        SourceLine(place.file, place.line, place.function, 0, place.digest) for place in most.path()
    )


def cause_of(stats: ShapeStats) -> str:
    """What a statement does to which table, and the columns that it compares: what stays of it when
    its columns, its joins, its values or the code around it change.
    """
    structure = stats.structure
    if structure is None or not structure.main:
        return stats.shape.digest
    kind = "exists" if structure.exists else "aggregate" if structure.aggregates else structure.kind
    columns = {predicate.column.name.lower() for predicate in structure.predicates}
    return f"{kind} {structure.main.lower()} by {', '.join(sorted(columns))}"
