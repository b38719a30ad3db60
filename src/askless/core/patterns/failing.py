"""failing: queries that end in an error, with those that were asked again; deadlocks and timeouts
apart from mistakes.

They are shown, and never counted as repetition. What the error says is reported without its values.
"""

from __future__ import annotations

from collections import Counter

from askless.core.aggregation.request_view import RequestView
from askless.core.aggregation.shape_stats import ShapeStats
from askless.core.aggregation.summary import Tally
from askless.core.findings.finding import URGENT_SHARE, Cost
from askless.core.findings.remedies import FixFailure
from askless.core.formatting import plural
from askless.core.inference.failures import Failure, failure_of, masked_error
from askless.core.patterns.base import (
    ByRequests,
    Diagnosis,
    FindingDraft,
    Match,
    Rule,
    ShapeTally,
    call_path,
)
from askless.core.records.model import Request
from askless.core.settings import Settings

RULE = Rule(
    "failing",
    "queries that end in an error",
    "a query that ended in an error: deadlocks, timeouts, conflicts, mistakes, each separately, "
    "with retries",
    "retries of one query are not a repetition",
)
_MESSAGES_MOST = 20
_WORDS = {
    Failure.DEADLOCK: "a deadlock",
    Failure.COLLISION: "a collision with another transaction",
    Failure.TIME_OUT: "a timeout",
    Failure.CONFLICT: "a duplicate row",
    Failure.CONSTRAINT: "a violated constraint",
    Failure.CONNECTION: "a lost connection",
    Failure.MISTAKE: "a mistake in the statement",
    Failure.OTHER: "an error",
}
_MINOR = (Failure.CONFLICT, Failure.CONSTRAINT)


class FailureTotals(ShapeTally):
    """Failures of one kind of one shape. `again` were asked again in their request, and `recovered`
    went well then.
    """

    def __init__(self, stats: ShapeStats, failure: Failure) -> None:
        super().__init__(stats)
        self.failure = failure
        self.again = self.recovered = self.lost_ns = 0
        self.messages: Counter[str] = Counter()

    def merge(self, other: Tally) -> None:
        """Add another piece's tally."""
        super().merge(other)
        assert isinstance(other, FailureTotals)
        self.again += other.again
        self.recovered += other.recovered
        self.lost_ns += other.lost_ns
        self.messages.update(other.messages)


class Failing(ByRequests[FailureTotals]):
    """See the module."""

    rule = RULE

    def look(self, view: RequestView, settings: Settings) -> None:
        """Add the failures of one request."""
        request = view.request
        failures: dict[tuple[str, ...], tuple[Failure, list[int]]] = {}
        for i in sorted(request.errors):
            failure = failure_of(request.errors[i])
            name = (request.statement(i).shape.digest, failure, *call_path(request, i))
            failures.setdefault(name, (failure, []))[1].append(i)
        for name, (failure, indices) in failures.items():
            stats = view.route.shapes.get(name[0])
            if stats is None:
                continue
            tally = self.tallies(view.route).setdefault(name, FailureTotals(stats, failure))
            tally.add(request, indices)
            for i in indices:
                later = _asked_again(request, i)
                tally.again += bool(later)
                tally.recovered += any(j not in request.errors for j in later)
                tally.lost_ns += request.durations_ns[i]
                if len(tally.messages) < _MESSAGES_MOST:
                    tally.messages[masked_error(request.errors[i])] += 1

    def diagnose(self, tally: FailureTotals, met: Match) -> Diagnosis:
        """One a kind of failure of a shape at one place."""
        return _diagnosis(tally, met)


def _asked_again(request: Request, i: int) -> list[int]:
    """Later queries that ask the same as a failed one."""
    number = request.statements[i]
    later = [j for j in range(i + 1, len(request)) if request.statements[j] == number]
    if not later or request.hides_values([i, *later]):
        return []
    given = request.given([i, *later])
    return [j for j, same in zip(later, given[1:], strict=True) if same == given[0]]


def _diagnosis(tally: FailureTotals, met: Match) -> Diagnosis:
    stats, failure = met.stats, tally.failure
    share = tally.lost_ns / met.route.elapsed_ns if met.route.elapsed_ns else 0.0
    all_fail = stats.errors >= stats.count
    structure = stats.structure
    what = (
        f"{structure.kind.upper()} {structure.main}".strip()
        if structure is not None and structure.kind != "other"
        else stats.shape.text.split(" ", 1)[0].upper()
    )
    lost_ms = tally.lost_ns / tally.queries / 1e6
    because = [f"{plural(times, 'time')}: {said}" for said, times in tally.messages.most_common(3)]
    if lost_ms >= 1:
        because.append(f"{lost_ms:,.0f} ms until it fails (mean)")
    if tally.again:
        because.append(
            f"{tally.again:,} of {tally.queries:,} were asked again in their request, "
            f"{tally.recovered:,} of them with success"
        )
    claim = FindingDraft(
        variant=failure,
        severity="minor"
        if failure in _MINOR
        else "urgent"
        if share >= URGENT_SHARE
        else "worthwhile",
        title=f"{tally.queries:,} of {plural(stats.count, 'execution')} of {what} "
        f"{'fails' if tally.queries == 1 else 'fail'}: {_WORDS[failure]}",
        summary=f"{what}: {_WORDS[failure]}, {tally.queries:,} of "
        f"{plural(stats.count, 'execution')}",
        evidence="traced",
        evidence_details=tuple(because),
        cost=Cost(queries=tally.queries / tally.requests, query_ms=lost_ms),
    )
    remedy = FixFailure(stats=stats, line=met.line, saving="", failure=failure, always=all_fail)
    return Diagnosis(met.finding(RULE, claim), remedy)


PATTERN = Failing()
