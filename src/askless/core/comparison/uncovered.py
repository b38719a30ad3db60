"""Findings that a change has uncovered: they were there before, behind something larger.

A batch fetches at once what the lookups fetched one by one, so its wide columns are no news; a loop
that was a part of a larger one gets a finding of its own once that one is fixed.
"""

from __future__ import annotations

from collections.abc import Sequence

from askless.core.aggregation.summary import RouteStats, Summary
from askless.core.findings.finding import Finding
from askless.core.patterns.base import cause_of

OF_SIZE = ("over-wide", "unbounded", "discarded-rows", "row-multiplication")
AS_MUCH = 1.1  # times what was asked before, so that it counts as the same


def uncovered(
    before: Summary, now: Summary, found_before: Sequence[Finding], found_now: Sequence[Finding]
) -> dict[str, str]:
    """By the name of a finding that only the capture of now has, where it was before, in words."""
    known, present = {one.key for one in found_before}, {one.key for one in found_now}
    fixed = [one for one in found_before if one.key not in present]
    reasons = {}
    for finding in found_now:
        old, new = before.routes.get(finding.route), now.routes.get(finding.route)
        if finding.key in known or old is None or new is None or not old.requests:
            continue
        if not _was_there(finding, old, new):
            continue
        larger = max(
            (one for one in fixed if one.route == finding.route),
            key=lambda one: one.cost.total_ms,
            default=None,
        )
        if larger is not None:
            reasons[finding.key] = f"was hidden by {larger.key} ({larger.pattern})"
    return reasons


def _was_there(finding: Finding, old: RouteStats, new: RouteStats) -> bool:
    """Whether the route asked the same before: as many bytes, for a finding about size; else as
    many queries of its cause.
    """
    if finding.pattern in OF_SIZE:
        sizes = zip(_fetched(new), _fetched(old), strict=True)
        return all(now <= AS_MUCH * then for now, then in sizes)
    stats = new.shapes.get(finding.shape)
    if stats is None:
        return False
    cause = cause_of(stats)
    return 0 < _queries(new, cause) <= AS_MUCH * _queries(old, cause)


def _fetched(route: RouteStats) -> tuple[float, float]:
    """Rows and bytes per request."""
    own = route.own_shapes()
    rows, size = sum(stats.rows for stats in own), sum(stats.bytes for stats in own)
    return rows / route.requests, size / route.requests


def _queries(route: RouteStats, cause: str) -> float:
    """Queries of a cause per request."""
    same = (stats.count for stats in route.own_shapes() if cause_of(stats) == cause)
    return sum(same) / route.requests
