"""duplicate: the same statement with the same parameters again in one request, and no write to its
tables in between.

Not flagged: a read again after a write, a result that has changed, functions whose value changes,
locks, polling spread over time, repeats that an n-plus-one explains; if nothing but pauses
distinguishes requests, repeats that did not run in one transaction.
"""

from __future__ import annotations

import itertools

from askless.core.aggregation.request_view import Group, RequestView
from askless.core.aggregation.shape_stats import ShapeStats
from askless.core.aggregation.summary import Tally
from askless.core.findings.finding import SourceLine, severity
from askless.core.findings.remedies import ShareResult
from askless.core.findings.unavailable_fields import results_hidden
from askless.core.formatting import number, plural
from askless.core.inference.transactions import in_one
from askless.core.patterns.base import (
    ByRequests,
    Diagnosis,
    FindingDraft,
    Match,
    Rule,
    ShapeTally,
    lines_of,
    spared,
    writes_of,
)
from askless.core.patterns.polling import waits_between
from askless.core.records.model import VAGUE, CallSite, Request
from askless.core.settings import Settings
from askless.core.sql.structure import EVERYTHING, Structure

RULE = Rule(
    "duplicate",
    "the same read again",
    "the same statement with the same parameters and the same result",
    "a read after a write, functions that change, polling",
)


class RepeatTotals(ShapeTally):
    """Duplicates of one shape in one route: of each run of them, all but one are avoidable.

    `unseen` is the doubt where no one saw the results.
    """

    def __init__(self, stats: ShapeStats) -> None:
        super().__init__(stats)
        self.unseen = ""

    def merge(self, other: Tally) -> None:
        """Add another piece's tally of the same repeats."""
        super().merge(other)
        assert isinstance(other, RepeatTotals)
        self.unseen = self.unseen or other.unseen


class Duplicate(ByRequests[RepeatTotals]):
    """See the module."""

    rule = RULE

    def look(self, view: RequestView, settings: Settings) -> None:
        """Find repeats in one request."""
        for group in view.groups:
            stats = group.stats
            if stats.shape.digest in view.claimed:
                continue
            same = _same(view.request, group)
            if not same:
                continue
            structure = stats.structure
            if (
                structure is None
                or not structure.repeatable
                or not _clock_stands(view.request, group, structure)
            ):
                continue
            tables = {table.lower() for table in structure.tables}
            writes = sorted(
                i for i, table in writes_of(view) if table in tables or table == EVERYTHING
            )
            for indices in same:
                repeated = _unbroken(view.request, indices, writes, settings)
                if len(repeated) >= settings.duplicate_least:
                    self._add(view, stats, repeated)

    def _add(self, view: RequestView, stats: ShapeStats, indices: list[int]) -> None:
        tally = self.tallies(view.route).setdefault((stats.shape.digest,), RepeatTotals(stats))
        tally.add(view.request, indices)
        tally.unseen = tally.unseen or results_hidden(view.request.tables)

    def diagnose(self, tally: RepeatTotals, met: Match) -> Diagnosis:
        """One a shape."""
        return _diagnosis(tally, met)


def _clock_stands(request: Request, group: Group, structure: Structure) -> bool:
    """Whether a clock that the statement looks at, if any, shows all these queries the same
    time.
    """
    if structure.clock == "transaction":
        return all(request.in_transaction[i] for i in group.indices)
    return structure.clock in ("", "day")


def _same(request: Request, group: Group) -> list[list[int]]:
    """Executions with equal text and equal parameters, if there are at least two; none where the
    parameters were not seen.
    """
    if request.hides_values(group.indices):
        return []
    keys: dict[object, list[int]] = {}
    for i, given in zip(group.indices, request.given(group.indices), strict=True):
        keys.setdefault(given, []).append(i)
    if len(keys) == len(group.indices):
        return []
    same = [indices for indices in keys.values() if len(indices) > 1]
    # it may be several requests: what ran in one transaction belongs together
    if request.kind in VAGUE:
        same = [run for indices in same for run in in_one(request, indices) if len(run) > 1]
    return same


def _unbroken(
    request: Request, indices: list[int], writes: list[int], settings: Settings
) -> list[int]:
    """The longest run with no write, no change of the result and no long pause between two
    neighbours.
    """
    best: list[int] = []
    run = [indices[0]]
    for before, after in itertools.pairwise(indices):
        written = any(before < i < after for i in writes)
        changed = (
            request.digests[before] != request.digests[after]
            or request.rows[before] != request.rows[after]
        )
        if written or changed or waits_between(request, before, after, settings):
            best = max(best, run, key=len)
            run = []
        run.append(after)
    return max(best, run, key=len)


def _callers(tally: RepeatTotals) -> tuple[SourceLine, ...]:
    """The lines that ask; if they all go through one helper, the lines that call it."""
    callers = tally.places
    while len({(place.file, place.line) for place in callers}) == 1 and all(
        place.caller for place in callers
    ):
        above: dict[CallSite, int] = {}
        for place, count in callers.items():
            if place.caller is not None:
                above[place.caller] = above.get(place.caller, 0) + count
        callers = above
    return lines_of(callers if len({(p.file, p.line) for p in callers}) > 1 else tally.places)


def _diagnosis(tally: RepeatTotals, met: Match) -> Diagnosis:
    requests = max(tally.requests, 1)
    queries, avoidable = tally.queries / requests, (tally.queries - tally.requests) / requests
    cost = met.cost(queries, avoidable)
    callers = _callers(tally)
    what = met.structure.main or "the same rows"
    results = "results that were not recorded" if tally.unseen else "equal results"
    again = "counted" if met.structure.counts else "read"
    claim = FindingDraft(
        severity=severity(cost.share, cost.avoidable),
        title=f"{plural(queries, 'query')} where 1 would do: {what} {again} again with the same "
        "parameters",
        evidence="traced" if any(met.stats.loads) or met.stats.rows else "repeated",
        evidence_details=(
            f"{number(queries)} executions per request with equal text and parameters, {results}, "
            "no write in between",
        ),
        caveats=(tally.unseen,) if tally.unseen else (),
        cost=cost,
        callers=callers if callers != lines_of(tally.places) else (),
    )
    remedy = ShareResult(
        stats=met.stats, line=met.line, saving=spared(avoidable, cost.saving_ms), callers=callers
    )
    return Diagnosis(met.finding(RULE, claim), remedy)


PATTERN = Duplicate()
