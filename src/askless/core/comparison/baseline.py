"""Nothing worse than before: what two captures of an application ask, by counts. Times are left to
people.
"""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from askless.core.aggregation.summary import Summary
from askless.core.comparison.budgets import seen_in
from askless.core.findings.finding import Finding

# Counts that may differ a little with the rows that a page happens to show: how much more is worse.
SLACK = {"rows": (1.1, 10.0), "bytes": (1.1, 4096.0)}


class BaselineRow(msgspec.Struct, frozen=True):
    """One count of one route, before and now. `over`: it is worse."""

    route: str
    measure: str
    before: float
    now: float
    over: bool


class BaselineResult(msgspec.Struct, frozen=True):
    """A capture against one from before: counts, findings that are new, and routes that only one
    side has.
    """

    counts: tuple[BaselineRow, ...]
    new: tuple[Finding, ...]
    only_before: tuple[str, ...]
    only_now: tuple[str, ...]


def compare_baseline(
    before: Summary, now: Summary, found_before: Sequence[Finding], found_now: Sequence[Finding]
) -> BaselineResult:
    """What is worse now than before, on the routes that both have."""
    asked_before, asked_now = before.requested, now.requested
    counts = []
    for name in sorted(asked_before & asked_now):
        seen = [seen_in(one.routes[name]) for one in (before, now)]
        for measure in ("queries", "rows", "bytes"):
            factor, least = SLACK.get(measure, (1.0, 0.0))
            old, new = seen[0][measure], seen[1][measure]
            over = new > old * factor and new - old > least
            counts.append(BaselineRow(name, measure, old, new, over))
    known = {finding.key for finding in found_before}
    fresh = tuple(f for f in found_now if f.key not in known and f.route in asked_before)
    return BaselineResult(
        tuple(counts),
        fresh,
        tuple(sorted(asked_before - asked_now)),
        tuple(sorted(asked_now - asked_before)),
    )
