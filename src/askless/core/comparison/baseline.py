"""Nothing worse than before: what two captures of an application ask, by counts. Times are left to
people.

A count that has risen is weighed against those that have fallen on the same route: a fix may ask
two queries more for a tenth of the bytes. A new finding counts only where the route costs more than
before, or where queries have risen and it says why.
"""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from askless.core.aggregation.summary import Summary
from askless.core.comparison.budgets import seen_in
from askless.core.comparison.uncovered import uncovered
from askless.core.findings.finding import Finding

# Counts that may differ a little with the rows that a page happens to show: how much more is worse.
SLACK = {"queries": (1.0, 0.0), "rows": (1.1, 10.0), "bytes": (1.1, 4096.0)}
# What a count weighs in queries where one rises and another falls: to fetch so many rows and build
# their objects, or to fetch so many bytes, takes about the millisecond of a query and its way.
WEIGHTS = {"queries": 1.0, "rows": 1 / 100, "bytes": 1 / 16384}


class BaselineRow(msgspec.Struct, frozen=True):
    """One count of one route, before and now. `over`: it is worse. `outweighed`: it has risen, and
    others have fallen by more.
    """

    route: str
    measure: str
    before: float
    now: float
    over: bool
    outweighed: bool = False


class BaselineResult(msgspec.Struct, frozen=True):
    """A capture against one from before: counts, findings that are new, and routes that only one
    side has. `listed` are new findings on routes that cost no more than before; `uncovered` are not
    new: each with where it was before, in words.
    """

    counts: tuple[BaselineRow, ...]
    new: tuple[Finding, ...]
    listed: tuple[Finding, ...]
    only_before: tuple[str, ...]
    only_now: tuple[str, ...]
    uncovered: tuple[tuple[Finding, str], ...] = ()


def compare_baseline(
    before: Summary, now: Summary, found_before: Sequence[Finding], found_now: Sequence[Finding]
) -> BaselineResult:
    """What is worse now than before, on the routes that both have."""
    routes_before, routes_now = before.requested, now.requested
    reasons = uncovered(before, now, found_before, found_now)
    known = {finding.key for finding in found_before} | reasons.keys()
    fresh = [f for f in found_now if f.key not in known and f.route in routes_before]
    counts = _counts(before, now, {finding.route for finding in fresh})
    failing = {row.route for row in counts if row.over}
    return BaselineResult(
        tuple(counts),
        tuple(finding for finding in fresh if finding.route in failing),
        tuple(finding for finding in fresh if finding.route not in failing),
        tuple(sorted(routes_before - routes_now)),
        tuple(sorted(routes_now - routes_before)),
        tuple((one, reasons[one.key]) for one in found_now if one.key in reasons),
    )


def _counts(before: Summary, now: Summary, has_new: set[str]) -> list[BaselineRow]:
    """The counts of the routes that both have."""
    return [
        row
        for name in sorted(before.requested & now.requested)
        for row in _weighed(
            name, seen_in(before.routes[name]), seen_in(now.routes[name]), name in has_new
        )
    ]


def _weighed(
    route: str, before: dict[str, float], now: dict[str, float], has_new: bool
) -> list[BaselineRow]:
    """The counts of a route. `has_new`: it has a finding that was not there before."""
    risen = {name for name in SLACK if _rises(name, before[name], now[name])}
    fallen = {name for name in SLACK if _rises(name, now[name], before[name])}
    weight = sum(factor * (now[name] - before[name]) for name, factor in WEIGHTS.items())
    # More queries with a finding that says why are a new loop, whatever else became less.
    outweighed = bool(fallen) and weight <= 0 and not ("queries" in risen and has_new)
    return [
        BaselineRow(
            route,
            name,
            before[name],
            now[name],
            name in risen and not outweighed,
            name in risen and outweighed,
        )
        for name in SLACK
    ]


def _rises(measure: str, old: float, new: float) -> bool:
    factor, least = SLACK[measure]
    return new > old * factor and new - old > least
