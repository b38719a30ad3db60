"""discarded-rows: most of the rows fetched are never used. Known only where use was tracked.

`counted`: no object was touched at all, so that only their number can have mattered. `filtered`: some columns were
read of nearly all objects, all others of few: the application chose in a loop what SQL could have chosen.
"""

from __future__ import annotations

from askless.core.advice import moving
from askless.core.findings import Cost, Finding, severity
from askless.core.patterns.base import ByTotals, Context, finding_of, lines_of
from askless.core.shape_stats import ShapeStats, UseTotals
from askless.core.sql.structure import Structure
from askless.core.summary import RouteStats
from askless.core.words import number, plural

NAME = "discarded-rows"


class DiscardedRows(ByTotals):
    """See the module."""

    name = NAME

    def judge_shape(
        self, route: RouteStats, stats: ShapeStats, structure: Structure, context: Context
    ) -> Finding | None:
        """One finding a query whose rows are thrown away."""
        load = stats.load
        totals = stats.used.get(load.target) if load is not None else None
        if load is None or totals is None or load.kind not in ("query", "lazy"):
            return None
        each = totals.objects / totals.results
        if each < context.settings.discarded_rows_least:
            return None
        if not totals.touched:
            if totals.relations:
                return None
            return self._finding(route, stats, context, totals, "counted", 0.0, [])
        tested, kept = _split(totals, context.settings.discarded_read_most)
        if not tested or kept is None:
            return None
        return self._finding(route, stats, context, totals, "filtered", kept / totals.results, tested)

    def _finding(
        self,
        route: RouteStats,
        stats: ShapeStats,
        context: Context,
        totals: UseTotals,
        variant: str,
        kept: float,
        tested: list[str],
    ) -> Finding:
        rows = totals.objects / totals.results
        main = stats.load.target if stats.load is not None else ""
        names = ", ".join(column.rsplit(".", 1)[-1] for column in tested)
        if variant == "counted":
            title = f"{plural(rows, 'row')} of {main} fetched, none looked at: only their number can have mattered"
            because = (f"no attribute of {plural(totals.objects, 'object')} was read",)
        else:
            title = f"{plural(rows, 'row')} of {main} fetched, {number(kept)} used: the others were only looked at for {names}"
            because = (
                f"{names} was read of nearly all {totals.objects:,} objects, every other column of at most {number(kept)} of {number(rows)}",
            )
        spare_rows = rows - kept
        spare = stats.bytes / stats.count * spare_rows / rows if stats.count and rows else 0.0
        share = stats.duration_ns / route.elapsed_ns if route.elapsed_ns else 0.0
        lines = lines_of(stats.places)
        return finding_of(
            NAME, route, stats, context, stats.places, stats.requests,
            variant=variant,
            severity=severity(share, 0),
            title=title,
            evidence="traced",
            because=because,
            cost=Cost(queries=stats.count / stats.requests, query_ms=stats.query_ns / 1e6, rows=spare_rows, bytes=spare),
            advice=moving.advise(stats, variant, [column.rsplit(".", 1)[-1] for column in tested],
                                 lines[0] if lines else None, spare_rows, context.models),
            unsure=("it is not always faster in SQL: a trial decides",),
        )  # fmt: skip


def _split(totals: UseTotals, most: float) -> tuple[list[str], int | None]:
    """Columns that were read of nearly all objects, and the most objects of which any other one was read."""
    tested = sorted(column for column, count in totals.columns.items() if count >= 0.9 * totals.objects)
    others = [count for column, count in totals.columns.items() if column not in tested]
    others += list(totals.relations.values())
    if not others or max(others) > most * totals.objects:
        return tested, None
    return tested, max(others)


PATTERN = DiscardedRows()
