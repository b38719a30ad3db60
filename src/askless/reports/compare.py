"""Two captures of the same pages side by side, before and after a change."""

from __future__ import annotations

from pathlib import Path

from askless.core.comparison.baseline import compare_baseline
from askless.core.comparison.captures import (
    RouteComparison,
    compare_findings,
    compare_routes,
    controls_of,
    drift_of,
)
from askless.reports import documents
from askless.reports.findings import open_findings
from askless.reports.loading import load


def compare(
    before_path: Path, after_path: Path, project: Path | None = None
) -> documents.CompareDocument:
    """Routes and findings of both. What the project accepts is not a finding on either side.

    `project` is its file. Raises AskLessError project-file-bad.
    """
    (before, notes_before), (after, notes_after) = load(before_path), load(after_path)
    results = [open_findings(summary, project) for summary in (before, after)]
    changes = compare_findings(results[0].open, results[1].open, before.requested, after.requested)
    baseline = compare_baseline(before, after, results[0].open, results[1].open)
    uncovered = {one.key for one, _ in baseline.uncovered}
    rows = compare_routes(before, after)
    controls = controls_of(rows)
    return documents.CompareDocument(
        format="askless compare",
        before=str(before_path),
        after=str(after_path),
        routes=tuple(map(_row, rows)),
        variation=drift_of(controls),
        controls=tuple(controls),
        fixed=changes.fixed,
        new=tuple(one for one in changes.new if one.key not in uncovered),
        uncovered=tuple(
            documents.UncoveredFinding(one, reason) for one, reason in baseline.uncovered
        ),
        regressions=tuple(finding.key for finding in baseline.new),
        improved=changes.improved,
        remaining=changes.remaining,
        accepted=len(results[1].accepted),
        damage="; ".join(filter(None, (before.damage, after.damage))),
        notes=tuple(dict.fromkeys((*notes_before, *notes_after))),
    )


def _row(row: RouteComparison) -> documents.CompareRow:
    return documents.CompareRow(
        route=row.route,
        queries=_both(row, "queries"),
        rows=_both(row, "rows"),
        bytes=_both(row, "bytes"),
        time=documents.TimeBeforeAfter(_spread(row.quartiles_before), _spread(row.quartiles_after)),
        ratio=row.ratio,
        verdict=row.verdict,
        objects=_both(row, "objects"),
        memory_bytes=_both(row, "memory_bytes"),
    )


def _both(row: RouteComparison, count: str) -> documents.BeforeAfter:
    return documents.BeforeAfter(
        *(getattr(side, count) if side else None for side in (row.before, row.after))
    )


def _spread(quartiles: tuple[float, float, float, int] | None) -> documents.TimeSpread | None:
    if quartiles is None:
        return None
    low, middle, high, count = quartiles
    return documents.TimeSpread(middle, low, high, count)
