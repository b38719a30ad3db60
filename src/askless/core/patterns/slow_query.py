"""slow-query: one statement that takes most of what its route takes, and that nothing else
explains.

What would help is in its plan, which no capture holds: the finding says where to look. Not flagged:
short requests, a statement that another finding is about.
"""

from __future__ import annotations

from collections.abc import Iterable

from askless.core.aggregation.request_view import RequestView
from askless.core.aggregation.summary import LUMPED, RouteStats
from askless.core.findings.finding import Cost
from askless.core.findings.remedies import ReadPlan
from askless.core.findings.severities import SEVERITIES
from askless.core.formatting import milliseconds, number, plural
from askless.core.inference.context import Context
from askless.core.patterns.base import Diagnosis, FindingDraft, Match, Rule
from askless.core.records.schema import Schema
from askless.core.settings import Settings
from askless.core.sql.structure import Structure

RULE = Rule(
    "slow-query",
    "one statement takes most of the request",
    "a statement that takes half of its route's time, and 200 ms or more of a request, and that no "
    "other finding is about",
    "short requests, what another finding explains",
)
ALONE_MS = 1000.0  # of a statement that ran once
URGENT_SLOW_SHARE, URGENT_SLOW_MS = 0.8, 500.0


class SlowQuery:
    """See the module."""

    rule = RULE

    def look(self, view: RequestView, settings: Settings) -> None:
        """Nothing: totals are enough."""

    def judge(
        self, route: RouteStats, context: Context, diagnoses: list[Diagnosis]
    ) -> Iterable[Diagnosis]:
        """At most one a route: there is room for one such statement."""
        costliest = max(route.own_shapes(), key=lambda stats: stats.duration_ns, default=None)
        if costliest is None or costliest.shape.digest in LUMPED:
            return
        # A minor finding, of some bytes say, does not explain where the time goes.
        explained = {
            one.finding.shape for one in diagnoses if one.finding.severity != SEVERITIES[-1]
        }
        if costliest.shape.digest in explained or not costliest.requests:
            return
        met = Match(route, costliest, context, costliest.places, costliest.requests)
        per_request = costliest.count / costliest.requests * route.wall_share
        each_ms = costliest.duration_ns * route.wall_share / costliest.requests / 1e6
        # A machine that was busy for a moment makes one execution slow, not most of them.
        mostly_ms = costliest.durations.at(0.25) * per_request / 1e6
        settings = context.settings
        least_ms = settings.slow_ms if costliest.count > 1 else max(settings.slow_ms, ALONE_MS)
        if met.share >= settings.slow_share and mostly_ms >= least_ms:
            yield _diagnosis(met, each_ms)


def _diagnosis(met: Match, each_ms: float) -> Diagnosis:
    stats, route = met.stats, met.route
    request_ms = route.elapsed_ns / max(route.requests, 1) / 1e6
    structure = stats.structure
    kind = structure.kind.upper() if structure is not None else "a statement"
    main = structure.main if structure is not None else ""
    what = f"{kind} of {main}" if main else kind
    queries = stats.count / stats.requests
    schema = met.context.schema
    missing = _without_index(structure, schema) if structure and schema else ()
    because = [
        f"{number(100 * met.share)} % of what the route takes; {plural(queries, 'query')} per "
        f"request, median {milliseconds(stats.query_ns / 1e6)} ms each"
    ]
    if missing:
        because.append(
            f"no index of {main} begins with a column that it compares: {', '.join(missing)}"
        )
    urgent = met.share >= URGENT_SLOW_SHARE and each_ms >= URGENT_SLOW_MS
    claim = FindingDraft(
        severity="urgent" if urgent else "worthwhile",
        title=f"one statement takes {milliseconds(each_ms)} of {milliseconds(request_ms)} ms: "
        f"{what}",
        evidence="keyed" if missing else "repeated",
        evidence_details=tuple(because),
        cost=Cost(queries=queries, query_ms=stats.query_ns / 1e6),
        summary=f"{what} takes most of the request",
    )
    remedy = ReadPlan(stats=stats, line=met.line, saving="", missing=missing)
    return Diagnosis(met.finding(RULE, claim), remedy)


def _without_index(structure: Structure, schema: Schema) -> tuple[str, ...]:
    """The columns of its main table that it compares, if no index begins with any of them."""
    table = schema.table(structure.main)
    if table is None:
        return ()
    compared = tuple(
        dict.fromkeys(
            predicate.column.name.lower()
            for predicate in structure.predicates
            if predicate.required
            and not predicate.inside
            and predicate.column.table.lower() in ("", structure.main.lower())
        )
    )
    first = {
        key[0].lower() for key in (table.primary_key, *(i.columns for i in table.indexes)) if key
    }
    return () if first & set(compared) else compared


PATTERN = SlowQuery()
