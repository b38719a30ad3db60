"""over-wide: a list query that fetches wide columns, or every column there is.

Width is measured on the result (bytes of each column), or taken from the catalog's averages where it was not.
Whether the application reads the column is not known here, and the finding says so.
"""

from __future__ import annotations

from askless.core.advice import projection
from askless.core.findings import Cost, Finding, severity
from askless.core.patterns.base import ByTotals, Context, finding_of, lines_of, shown_sql
from askless.core.shape_stats import ShapeStats
from askless.core.sql.structure import Structure
from askless.core.summary import RouteStats
from askless.core.words import number, plural, size

NAME = "over-wide"


class OverWide(ByTotals):
    """See the module."""

    name = NAME

    def judge_shape(
        self, route: RouteStats, stats: ShapeStats, structure: Structure, context: Context
    ) -> Finding | None:
        """One finding a query that is too wide."""
        return _judge(route, stats, structure, context)


def _widths(stats: ShapeStats, structure: Structure, context: Context) -> dict[str, float]:
    """Mean bytes of a value, by column: as measured, else as the catalog says."""
    if stats.widths_rows and stats.columns:
        return {name: size / stats.widths_rows for name, size in zip(stats.columns, stats.widths, strict=False)}
    table = context.schema.table(structure.main) if context.schema else None
    if table is None:
        return {}
    wanted = {output.column.name.lower() for output in structure.outputs}
    return {
        column.name: column.width_bytes
        for column in table.columns
        if column.width_bytes is not None and ("*" in wanted or column.name.lower() in wanted)
    }


def _judge(route: RouteStats, stats: ShapeStats, structure: Structure, context: Context) -> Finding | None:
    settings = context.settings
    rows = stats.rows / stats.count if stats.count else 0.0
    if rows < settings.wide_rows_least or not stats.requests:
        return None
    widths = _widths(stats, structure, context)
    wide = {name: width for name, width in widths.items() if width >= settings.wide_column_bytes}
    keep = projection.keys_to_keep(structure, context.schema)
    wide = {name: width for name, width in wide.items() if name not in keep}
    star = any(output.star for output in structure.outputs)
    per_request = stats.bytes / stats.requests
    if per_request < settings.wide_result_bytes or not (wide or star):
        return None
    if not wide and len(stats.columns) < 4:
        return None
    rows_each_request = stats.rows / stats.requests
    spare = sum(wide.values()) * rows_each_request
    lines = lines_of(stats.places)
    names = ", ".join(sorted(wide, key=lambda name: -wide[name]))
    if wide:
        title = (
            f"{plural(rows, 'row')} with {names} ({size(max(wide.values()), 'bytes')} each): "
            f"{size(spare, 'bytes')} of {size(per_request, 'bytes')} a request"
        )
    else:
        title = f"all {len(stats.columns)} columns of {structure.main} for {plural(rows, 'row')}: {size(per_request, 'bytes')} a request"
    request_bytes = sum(s.bytes for s in route.asked()) / max(route.requests, 1)
    share = spare / request_bytes if request_bytes else 0.0
    because = [
        f"{name}: {size(width, 'bytes')} a row, measured on the result"
        for name, width in sorted(wide.items(), key=lambda w: -w[1])
    ]
    if star:
        because.append("the statement selects *, so it also fetches columns added later")
    return finding_of(
        NAME,
        route,
        stats,
        context,
        stats.places,
        stats.requests,
        variant="wide-columns" if wide else "star",
        severity=severity(share / 4, 0) if wide else "minor",
        title=title,
        evidence="keyed" if context.schema is not None and not stats.widths_rows else "repeated",
        because=tuple(because),
        cost=Cost(queries=stats.count / stats.requests, query_ms=stats.query_ns / 1e6, bytes=spare, rows=0.0),
        advice=projection.advise(
            shown_sql(stats, context.settings),
            stats.statement.system,
            structure,
            stats.columns,
            sorted(wide, key=lambda name: -wide[name]),
            stats.load,
            lines[0] if lines else None,
            f"about {size(spare, 'bytes')} a request ({number(100 * share)} % of its bytes); time is for a trial to tell",
            context.schema,
        ),
        unsure=("whether the page reads these columns is not known; look before you leave them out",),
    )


PATTERN = OverWide()
