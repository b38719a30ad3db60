"""stable-read: over many requests the same query with the same values gives the same rows, and
takes its time in total.

Told over routes. Not flagged: what only one address was asked for again and again (anyone who
records visits a page several times), results that change, clocks, locks, what is quick in total.
Repeats inside one request are duplicates.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from hashlib import blake2b

from askless.core.aggregation.request_view import RequestView
from askless.core.aggregation.shape_stats import ShapeStats
from askless.core.aggregation.summary import RouteStats, Summary, Tally
from askless.core.findings.finding import Cost
from askless.core.findings.remedies import CacheResult, Paginate
from askless.core.formatting import number, plural
from askless.core.inference.context import Context
from askless.core.patterns.base import (
    Diagnosis,
    FindingDraft,
    Match,
    Rule,
    add_counts,
    tables_written,
)
from askless.core.records.model import CallSite
from askless.core.settings import Settings
from askless.core.sql.structure import EVERYTHING

RULE = Rule(
    "stable-read",
    "the same rows read for every request",
    "ten or more requests from three or more addresses run the same query with the same values "
    "and get the same rows for a second or more, taking a tenth of their time",
    "one address requested repeatedly, results that change, clocks, queries that take little time "
    "in total",
    "minor",
)
_KEYS_MOST = 100  # queries with their values that are remembered of a route
_KEYS_IN_ALL = 16_000  # and of all routes together, about
_KEYS_LEAST = 12  # with fewer, what comes again is released before it does
_ADDRESSES_MOST = 64
_READS_LEAST, _ADDRESSES_LEAST = 10, 3
_CHANGES_MOST = 0.1  # of the reads
_SHARE_LEAST = 0.1  # of the time of the requests that ask
_WORTH_SHARE = 0.25  # of that time
_LIVES_S = (1, 2, 5, 10, 30, 60, 120, 300, 600, 1800, 3600)


def _let_go(known: dict[tuple[str, ...], Tally]) -> bool:
    """Forget the first query of those that were read but once; False if there is none."""
    once = next(
        (
            name
            for name, tally in known.items()
            if isinstance(tally, ReadTotals) and tally.seen_once
        ),
        None,
    )
    if once is None:
        return False
    del known[once]
    return True


class ReadTotals:
    """One query with one set of values, in the requests of a route that were looked at.

    `held_ns` is the shortest time between two changes of its result, 0 if it never changed.
    """

    __slots__ = (
        "addresses",
        "changes",
        "digest",
        "first_ns",
        "held_ns",
        "last_ns",
        "places",
        "reads",
        "since_ns",
        "stats",
    )

    def __init__(self, stats: ShapeStats, digest: int, at_ns: int) -> None:
        self.stats = stats
        self.digest = digest
        self.reads = self.changes = self.held_ns = 0
        self.first_ns = self.last_ns = self.since_ns = at_ns
        self.addresses: set[str] = set()
        self.places: dict[CallSite, int] = {}

    @property
    def seen_once(self) -> bool:
        """Whether nothing says yet that it is asked again and again."""
        return self.reads == 1

    def read(self, digest: int, at_ns: int, address: str, place: CallSite | None) -> None:
        """One more read."""
        self.reads += 1
        if len(self.addresses) < _ADDRESSES_MOST:
            self.addresses.add(address)
        if digest != self.digest:
            held_ns = at_ns - self.since_ns
            self.held_ns = min(self.held_ns, held_ns) if self.held_ns else held_ns
            self.changes += 1
            self.digest, self.since_ns = digest, at_ns
        self.first_ns, self.last_ns = min(self.first_ns, at_ns), max(self.last_ns, at_ns)
        if place is not None:
            self.places[place] = self.places.get(place, 0) + 1

    def merge(self, other: Tally) -> None:
        """Add another piece's reads, or another route's. Two pieces that end and begin differently
        have one change between.
        """
        assert isinstance(other, ReadTotals)
        self.changes += other.changes + (self.digest != other.digest)
        held = [ns for ns in (self.held_ns, other.held_ns) if ns]
        self.held_ns = min(held, default=0)
        self.reads += other.reads
        self.first_ns, self.last_ns = (
            min(self.first_ns, other.first_ns),
            max(self.last_ns, other.last_ns),
        )
        self.addresses |= other.addresses
        add_counts(self.places, other.places)


class StableRead:
    """See the module."""

    rule = RULE

    def look(self, view: RequestView, settings: Settings) -> None:
        """Note what a request reads."""
        route, request = view.route, view.request
        if not settings.looks_at(route.requests):
            return
        most = min(_KEYS_MOST, _KEYS_IN_ALL // view.routes)
        if most < _KEYS_LEAST:
            return
        route.looked += 1
        known = route.tallies.setdefault(RULE.id, {})
        seen: set[tuple[str, ...]] = set()
        address = f"{request.route} {request.path}"
        statements = request.tables.statements
        reads = _reads_of(view)
        digests, starts = request.digests, request.starts_ns
        parameters, literals = request.parameters, request.literals
        for i, index in enumerate(request.statements):
            of_shape = reads.get(index, "")
            if not of_shape or not digests[i] or i in request.errors:
                continue
            given = repr((parameters[i], literals[i] or statements[index].parts[1::2]))
            name = (of_shape, blake2b(given.encode("utf-8", "replace"), digest_size=8).hexdigest())
            if name in seen:
                continue
            seen.add(name)
            tally = known.get(name)
            if tally is None:
                if len(known) >= most and not _let_go(known):
                    continue
                tally = known[name] = ReadTotals(route.shapes[of_shape], digests[i], starts[i])
            assert isinstance(tally, ReadTotals)
            tally.read(digests[i], starts[i], address, request.place(i))

    def judge(
        self, route: RouteStats, context: Context, diagnoses: list[Diagnosis]
    ) -> Iterable[Diagnosis]:
        """Nothing: see `judge_all`."""
        return ()

    def judge_all(
        self, summary: Summary, context: Context, diagnoses: Sequence[Diagnosis]
    ) -> Iterable[Diagnosis]:
        """One a query with its values, over all routes that ask it."""
        repeated = {
            (one.finding.route, one.finding.shape)
            for one in diagnoses
            if not isinstance(one.remedy, Paginate)
        }
        by_name: dict[tuple[str, ...], list[tuple[RouteStats, ReadTotals]]] = {}
        for route in summary.routes.values():
            for name, tally in route.tallies.get(RULE.id, {}).items():
                assert isinstance(tally, ReadTotals)
                if (route.route, name[0]) not in repeated:
                    by_name.setdefault(name, []).append((route, tally))
        for routes in by_name.values():
            diagnosis = _judged(routes, summary, context)
            if diagnosis is not None:
                yield diagnosis


def _reads_of(view: RequestView) -> dict[int, str]:
    """The statements of a request that read, without those of a loop that is to go anyway; with the
    digests of their shapes.
    """
    statements = view.request.tables.statements
    reads = {}
    for index in set(view.request.statements):
        shape = statements[index].shape
        known = shape.digest in view.route.shapes and shape.digest not in view.claimed
        if known and not shape.noise and shape.text.startswith(("select ", "with ")):
            reads[index] = shape.digest
    return reads


def _is_read_often(tallies: list[ReadTotals]) -> bool:
    """Whether enough requests from enough addresses read it."""
    addresses = set().union(*(tally.addresses for tally in tallies))
    reads = sum(tally.reads for tally in tallies)
    return reads >= _READS_LEAST and len(addresses) >= _ADDRESSES_LEAST


def _merged(tallies: list[ReadTotals]) -> ReadTotals:
    """The totals of several routes, added up in the order of time."""
    in_time = sorted(tallies, key=lambda tally: tally.first_ns)
    whole = ReadTotals(tallies[0].stats, in_time[0].digest, in_time[0].first_ns)
    for tally in in_time:
        whole.merge(tally)
    return whole


def _judged(
    read_by: list[tuple[RouteStats, ReadTotals]], summary: Summary, context: Context
) -> Diagnosis | None:
    structure = read_by[0][1].stats.structure
    if structure is None or not structure.repeatable or structure.clock not in ("", "day"):
        return None
    if not _is_read_often([tally for _, tally in read_by]):
        return None
    reads = spent_ns = 0.0
    for route, tally in read_by:
        of_route = tally.reads * route.requests / max(route.looked, 1)
        reads += of_route
        spent_ns += of_route * tally.stats.query_ns
    elapsed_ns = sum(route.elapsed_ns for route, _ in read_by)
    if not elapsed_ns or spent_ns < _SHARE_LEAST * elapsed_ns:
        return None
    read_by = sorted(read_by, key=lambda pair: (-pair[1].reads, pair[0].route))
    whole = _merged([tally for _, tally in read_by])
    live_s = _live_s(
        whole.held_ns / 2e9 if whole.changes else (whole.last_ns - whole.first_ns) / 1e9
    )
    if whole.changes > _CHANGES_MOST * whole.reads or not live_s:
        return None
    routes = [route for route, _ in read_by]
    return _diagnosis(routes, whole, live_s, reads, spent_ns / elapsed_ns, summary, context)


def _diagnosis(
    routes: list[RouteStats],
    whole: ReadTotals,
    live_s: int,
    reads: float,
    share: float,
    summary: Summary,
    context: Context,
) -> Diagnosis:
    """`reads` are made in the capture, and take this share of the time of the requests that ask."""
    stats = whole.stats
    met = Match(routes[0], stats, context, whole.places, whole.reads)
    structure = met.structure
    span_s = (whole.last_ns - whole.first_ns) / 1e9
    held_s = whole.held_ns / 1e9
    spared = max(reads - span_s / live_s, 0.0)
    query_ms = stats.query_ns / 1e6
    writes = _writes(summary, {table.lower() for table in structure.tables})
    others = f" and {plural(len(routes) - 1, 'more route')}" if len(routes) > 1 else ""
    because = [
        f"{number(whole.reads)} reads of {plural(len(whole.addresses), 'address')} looked at, "
        + (
            f"{plural(whole.changes, 'change')} of the result"
            if whole.changes
            else "the same result each time"
        ),
        f"it was unchanged for at least {_seconds(held_s)}"
        if whole.changes
        else f"it was unchanged for {_seconds(span_s)}, the whole recording",
        "writes to "
        + ", ".join(structure.tables)
        + ": "
        + (", ".join(writes) if writes else "none in the capture"),
        f"kept for {_seconds(live_s)}: {number(round(spared))} of {number(round(reads))} reads "
        f"are avoided ({spared * query_ms:,.0f} ms in the capture); changes become visible up to "
        f"{_seconds(live_s)} late",
    ]
    saved_ms = spared / reads * query_ms
    request_ms = routes[0].request_ms(context.settings.network_latency_ms)
    claim = FindingDraft(
        severity="worthwhile" if share >= _WORTH_SHARE else "minor",
        title=f"{plural(round(reads), 'read')} of {structure.main or 'the same rows'} with the "
        "same values return the same "
        f"{plural(stats.rows / stats.count, 'row')}{others and ', on this' + others}: "
        f"{100 * share:.0f} % of these requests' time",
        summary=f"{structure.main}: the same rows for "
        f"{plural(round(reads), 'read')}{others and ', on this' + others}",
        evidence="traced",
        evidence_details=tuple(because),
        cost=Cost(
            queries=1.0,
            avoidable=spared / reads,
            query_ms=query_ms,
            database_ms=saved_ms,
            saving_ms=saved_ms,
            share=min(saved_ms / request_ms, 1.0) if request_ms else 0.0,
            total_ms=spared * query_ms,
        ),
        caveats=(
            "decide whether changes may become visible late, and whether the rows depend on the "
            "user",
        ),
    )
    remedy = CacheResult(
        stats=stats, line=met.line, saving=because[-1], live_s=live_s, writes=tuple(writes)
    )
    return Diagnosis(met.finding(RULE, claim), remedy)


def _live_s(longest_s: float) -> int:
    """A round time to live of at most so many seconds; 0 if it is less than one."""
    return max((live for live in _LIVES_S if live <= longest_s), default=0)


def _seconds(seconds: float) -> str:
    return f"{seconds:,.0f} s" if seconds >= 10 else f"{seconds:,.1f} s"


def _writes(summary: Summary, tables: set[str]) -> list[str]:
    """The statements of the capture that write to tables, with the routes that send them."""
    counts: dict[tuple[str, str], int] = {}
    for route in summary.routes.values():
        for stats in route.own_shapes():
            written = tables_written(stats.statement)
            if tables & set(written) or EVERYTHING in written:
                kind = stats.shape.text.split(" ", 1)[0].upper()
                counts[kind, route.route] = counts.get((kind, route.route), 0) + stats.count
    ordered = sorted(counts.items(), key=lambda item: (-item[1], item[0]))
    return [f"{kind} {count:,} times on {route}" for (kind, route), count in ordered[:4]]


PATTERN = StableRead()
