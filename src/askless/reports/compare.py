"""Two captures of the same pages side by side, before and after a change."""

from __future__ import annotations

from pathlib import Path

from askless.core.comparison.captures import RouteComparison, compare_findings, compare_routes, drift_of
from askless.reports import documents
from askless.reports.findings import open_findings
from askless.reports.loading import load


def compare(before_path: Path, after_path: Path, project: Path | None = None) -> documents.CompareDocument:
    """Routes and findings of both. What the project accepts is no finding on either side.

    `project` is its file. Raises AskLessError project-file-bad.
    """
    (before, notes_before), (after, notes_after) = load(before_path), load(after_path)
    results = [open_findings(summary, project) for summary in (before, after)]
    changes = compare_findings(results[0].open, results[1].open, before.asked, after.asked)
    rows = compare_routes(before, after)
    return documents.CompareDocument(
        format="askless compare",
        before=str(before_path),
        after=str(after_path),
        routes=tuple(map(_row, rows)),
        drift=drift_of(rows),
        gone=changes.gone,
        new=changes.new,
        left=changes.left,
        accepted=len(results[1].accepted),
        damage="; ".join(filter(None, (before.damage, after.damage))),
        notes=tuple(dict.fromkeys((*notes_before, *notes_after))),
    )


def _row(row: RouteComparison) -> documents.CompareRow:
    before, after = row.before, row.after
    return documents.CompareRow(
        route=row.route,
        queries=(before.queries if before else None, after.queries if after else None),
        rows=(before.rows if before else None, after.rows if after else None),
        bytes=(before.bytes if before else None, after.bytes if after else None),
        time=(_spread(row.quartiles_before), _spread(row.quartiles_after)),
        ratio=(row.ratio.value, row.ratio.low, row.ratio.high) if row.ratio else None,
        verdict=row.verdict,
        objects=(before.objects if before else None, after.objects if after else None),
        memory_bytes=(before.memory_bytes if before else None, after.memory_bytes if after else None),
    )


def _spread(quartiles: tuple[float, float, float, int] | None) -> documents.Spread | None:
    if quartiles is None:
        return None
    low, middle, high, count = quartiles
    return documents.Spread(middle, low, high, count)
