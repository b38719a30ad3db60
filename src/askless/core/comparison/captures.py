"""Before against after: two summaries side by side, and what became of the findings."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import msgspec

from askless.core.aggregation.route_rows import RouteRow, route_row
from askless.core.aggregation.summary import RouteStats, Summary
from askless.core.findings.finding import Cost, Finding
from askless.core.statistics import Ratio
from askless.core.verdicts import Outcome, Verdict, direction

ENOUGH = 5  # requests a side below which no verdict on time is given


class _Measured(msgspec.Struct, frozen=True):
    """One route on both sides; None if it was not asked."""

    route: str
    before: RouteRow | None
    after: RouteRow | None
    quartiles_before: tuple[float, float, float, int] | None  # low, median, high in ms; requests
    quartiles_after: tuple[float, float, float, int] | None
    ratio: Ratio | None
    same_work: bool  # both sides ask the same statements, as often, for as many rows


class RouteComparison(_Measured, frozen=True, kw_only=True):
    """One route on both sides, and what that comes to."""

    verdict: Verdict


class Changes(msgspec.Struct, frozen=True):
    """Findings by what became of them. A finding on a route that the other side never asked is
    neither fixed nor new. What is improved remains, and costs less.
    """

    fixed: tuple[Finding, ...]
    new: tuple[Finding, ...]
    improved: tuple[Finding, ...]
    remaining: tuple[Finding, ...]


def _quartiles(route: RouteStats | None) -> tuple[float, float, float, int] | None:
    if route is None or not route.requests:
        return None
    low, middle, high = (route.durations.at(share) / 1e6 for share in (0.25, 0.5, 0.75))
    return low, middle, high, route.requests


def _same_work(one: RouteStats | None, two: RouteStats | None) -> bool:
    """Whether a route asks the same on both sides: then it is a control, and what its time does is
    drift.
    """
    if one is None or two is None or not one.requests or not two.requests:
        return False
    rows = [route_row(side) for side in (one, two)]
    counted = [
        {stats.shape.digest: stats.count / side.requests for stats in side.own_shapes()}
        for side in (one, two)
    ]
    alike = (rows[0].queries, rows[0].rows, rows[0].bytes) == (
        rows[1].queries,
        rows[1].rows,
        rows[1].bytes,
    )
    return alike and counted[0] == counted[1]


FAR = 3.0  # times the middle control's change (on a logarithmic scale) from which one has changed
FAR_LEAST = 1.25  # the least factor that counts as a change


def controls_of(rows: Sequence[_Measured]) -> dict[str, float]:
    """The routes that ask the same on both sides, with the factor by which their time moved, either
    way. One that moved far more than the middle one has changed for another reason, as by an index,
    and is none of them.
    """
    moved = {
        row.route: max(row.ratio.value, 1 / row.ratio.value)
        for row in rows
        if row.ratio is not None and row.same_work
    }
    if not moved:
        return {}
    middle = sorted(moved.values())[(len(moved) - 1) // 2]
    return {name: one for name, one in moved.items() if one <= max(middle**FAR, FAR_LEAST)}


def drift_of(controls: Mapping[str, float]) -> float | None:
    """The largest factor by which the time of a control moved between the two runs; None without
    one.

    The runs are not interleaved, so the interval of one route does not know of it.
    """
    return max(controls.values(), default=None)


def _verdict(row: _Measured, drift: float, is_control: bool) -> Verdict:
    ratio = row.ratio
    if row.before is None:
        return Verdict(Outcome.ONLY_AFTER, "only after")
    if row.after is None:
        return Verdict(Outcome.ONLY_BEFORE, "only before")
    if ratio is None:
        return Verdict(Outcome.TOO_FEW, "too few requests to judge")
    interval = f"(×{ratio.low:.2f} to ×{ratio.high:.2f})"
    if is_control:
        return Verdict(Outcome.SAME_WORK, f"same queries {interval}")
    outcome = direction(ratio)
    if outcome is Outcome.UNDECIDED:
        return Verdict(outcome, f"no measurable difference {interval}")
    if ratio.low <= drift and ratio.high >= 1 / drift:
        return Verdict(Outcome.WITHIN_DRIFT, f"within the variation between runs {interval}")
    slower = "slower: " if outcome is Outcome.SLOWER else ""
    same = ", with the same queries" if row.same_work else ""
    return Verdict(outcome, f"{slower}×{ratio.value:.2f}{same} {interval}")


def compare_routes(before: Summary, after: Summary) -> list[RouteComparison]:
    """Every route of either side, by name; routes that were only warmed up are omitted."""
    results = []
    for name in sorted({*before.routes, *after.routes}):
        one, two = before.routes.get(name), after.routes.get(name)
        if not any(side is not None and side.requests for side in (one, two)):
            continue
        ratio = None
        if one is not None and two is not None and min(one.requests, two.requests) >= ENOUGH:
            ratio = one.durations.ratio_to(two.durations)
        results.append(
            _Measured(
                name,
                route_row(one) if one is not None and one.requests else None,
                route_row(two) if two is not None and two.requests else None,
                _quartiles(one),
                _quartiles(two),
                ratio,
                _same_work(one, two),
            )
        )
    controls = controls_of(results)
    drift = drift_of(controls) or 1.0
    return [
        RouteComparison(
            *msgspec.structs.astuple(row), verdict=_verdict(row, drift, row.route in controls)
        )
        for row in results
    ]


def compare_findings(
    before: Sequence[Finding],
    after: Sequence[Finding],
    routes_before: set[str],
    routes_after: set[str],
) -> Changes:
    """What became of the findings."""
    by_key, keys_after = {f.key: f for f in before}, {f.key for f in after}
    improved: list[Finding] = []
    remaining: list[Finding] = []
    for finding in after:
        if finding.key in by_key:
            is_less = _costs_less(finding.cost, by_key[finding.key].cost)
            (improved if is_less else remaining).append(finding)
    return Changes(
        fixed=tuple(f for f in before if f.key not in keys_after and f.route in routes_after),
        new=tuple(f for f in after if f.key not in by_key and f.route in routes_before),
        improved=tuple(improved),
        remaining=tuple(remaining),
    )


IMPROVED = 0.9  # of the queries, rows or bytes that a finding has cost; none of them may be more


def _costs_less(now: Cost, before: Cost) -> bool:
    pairs = [(getattr(now, name), getattr(before, name)) for name in ("avoidable", "rows", "bytes")]
    return all(new <= old for new, old in pairs) and any(new < IMPROVED * old for new, old in pairs)
