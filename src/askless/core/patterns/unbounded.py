"""unbounded: no LIMIT and many rows, or as many rows as the table has.

Not flagged: aggregates, look-ups by a unique key, batches of an eager load, look-ups that an n-plus-one explains.
"""

from __future__ import annotations

from askless.core.advice import pagination
from askless.core.findings import Cost, Finding
from askless.core.patterns.base import ByTotals, Context, finding_of, lines_of, shown_sql
from askless.core.shape_stats import ShapeStats
from askless.core.sql.structure import Structure
from askless.core.summary import RouteStats
from askless.core.words import plural, size

NAME = "unbounded"


class Unbounded(ByTotals):
    """See the module."""

    name = NAME
    yields_to = (*ByTotals.yields_to, "discarded-rows", "unused-load")

    def judge_shape(
        self, route: RouteStats, stats: ShapeStats, structure: Structure, context: Context
    ) -> Finding | None:
        """One finding a query without an end."""
        if not _may_grow(stats, structure):
            return None
        return _judge(route, stats, structure, context)


def _may_grow(stats: ShapeStats, structure: Structure) -> bool:
    if structure.has_limit or structure.exists:
        return False
    load = stats.load
    if load is not None and load.kind in ("eager", "lazy"):
        return False
    return not any(predicate.operator == "in" and len(predicate.slots) > 1 for predicate in structure.predicates)


def _judge(route: RouteStats, stats: ShapeStats, structure: Structure, context: Context) -> Finding | None:
    settings = context.settings
    table = context.schema.table(structure.main) if context.schema else None
    total = table.rows if table is not None else None
    whole = total is not None and total >= settings.unbounded_table_least and stats.rows_most >= total
    if stats.rows_most < settings.unbounded_rows_least and not whole:
        return None
    rows = stats.rows / max(stats.requests, 1)
    per_request = stats.bytes / max(stats.requests, 1)
    lines = lines_of(stats.places)
    filtered = bool(structure.predicates)
    what = "the whole table " if whole else ""
    title = f"{plural(rows, 'row')} of {what}{structure.main} in one query without LIMIT ({size(per_request, 'bytes')} a request)"
    share = stats.duration_ns / route.elapsed_ns if route.elapsed_ns else 0.0
    because = [f"up to {plural(stats.rows_most, 'row')} from one query, and no LIMIT"]
    if total is not None:
        because.append(f"{structure.main} has {plural(total, 'row')} now")
    if not filtered:
        because.append("no condition either: it grows with the table")
    return finding_of(
        NAME,
        route,
        stats,
        context,
        stats.places,
        stats.requests,
        variant="whole-table" if whole or not filtered else "filtered",
        severity="urgent" if rows >= 10 * settings.unbounded_rows_least or share >= 0.25 else "worthwhile",
        title=title,
        evidence="keyed" if whole else "repeated",
        because=tuple(because),
        cost=Cost(
            queries=stats.count / max(stats.requests, 1),
            query_ms=stats.query_ns / 1e6,
            rows=max(rows - pagination.PAGE_ROWS, 0),
            bytes=per_request * max(rows - pagination.PAGE_ROWS, 0) / rows if rows else 0.0,
        ),
        advice=pagination.advise(
            shown_sql(stats, context.settings),
            stats.statement.system,
            structure,
            stats.load,
            lines[0] if lines else None,
            f"up to {plural(max(rows - pagination.PAGE_ROWS, 0), 'row')} a request; time is for a trial to tell",
            context.schema,
            context.models,
        ),
        unsure=("whether the page needs all rows at once is not known",),
    )


PATTERN = Unbounded()
