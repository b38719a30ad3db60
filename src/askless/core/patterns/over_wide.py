"""over-wide: a list query that fetches wide columns, or every column there is.

Width is measured on the result (bytes of each column), or taken from the catalog's averages where it was not.
Where the recorder tracked what is read, columns that were read are never flagged, and columns that nobody read are
flagged for what they weigh together. Elsewhere it is not known whether the application reads the column; the finding
says so.
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
    yields_to = (*ByTotals.yields_to, "discarded-rows", "unused-load")

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


def _read(stats: ShapeStats, structure: Structure) -> set[str] | None:
    """The result's columns of which the application read at least one value; None where that was not tracked."""
    if not any(totals.objects for totals in stats.used.values()) or len(structure.outputs) != len(stats.columns):
        return None
    seen = {column for totals in stats.used.values() for column in totals.columns}
    return {
        name
        for name, output in zip(stats.columns, structure.outputs, strict=True)
        if f"{output.column.table}.{output.column.name}" in seen or not output.column.name
    }


def _some(names: str) -> str:
    listed = names.split(", ")
    return names if len(listed) <= 4 else ", ".join(listed[:3]) + f" and {len(listed) - 3} more columns"


def _judge(route: RouteStats, stats: ShapeStats, structure: Structure, context: Context) -> Finding | None:
    settings = context.settings
    rows = stats.rows / stats.count if stats.count else 0.0
    if rows < settings.wide_rows_least or not stats.requests:
        return None
    widths = _widths(stats, structure, context)
    keep = projection.keys_to_keep(structure, context.schema)
    read = _read(stats, structure)
    star = any(output.star for output in structure.outputs)
    per_request = stats.bytes / stats.requests
    if read is None:
        wide = {name: width for name, width in widths.items() if width >= settings.wide_column_bytes}
    else:
        wide = {name: width for name, width in widths.items() if name not in read}
        if sum(wide.values()) * rows < max(settings.wide_result_bytes, per_request / 2):
            return None
    kept = keep | {
        name
        for name, output in zip(stats.columns, structure.outputs, strict=False)
        if output.column.name in keep and len(structure.outputs) == len(stats.columns)
    }
    wide = {name: width for name, width in wide.items() if name not in kept}
    if per_request < settings.wide_result_bytes or not (wide or star):
        return None
    if not wide and len(stats.columns) < 4:
        return None
    rows_each_request = stats.rows / stats.requests
    spare = sum(wide.values()) * rows_each_request
    lines = lines_of(stats.places)
    names = ", ".join(sorted(wide, key=lambda name: -wide[name]))
    if wide and read is not None:
        title = (
            f"{plural(rows, 'row')} with {_some(names)}, which nobody read: "
            f"{size(spare, 'bytes')} of {size(per_request, 'bytes')} a request"
        )
    elif wide:
        title = (
            f"{plural(rows, 'row')} with {names} ({size(max(wide.values()), 'bytes')} each): "
            f"{size(spare, 'bytes')} of {size(per_request, 'bytes')} a request"
        )
    else:
        title = f"all {len(stats.columns)} columns of {structure.main} for {plural(rows, 'row')}: {size(per_request, 'bytes')} a request"
    request_bytes = sum(s.bytes for s in route.asked()) / max(route.requests, 1)
    share = spare / request_bytes if request_bytes else 0.0
    because = []
    if read is not None:
        objects = sum(totals.objects for totals in stats.used.values())
        because.append(
            f"of {plural(objects, 'object')} the application read {', '.join(sorted(read)) or 'no column'}, and nothing else"
        )
    because += [
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
        severity=severity(share / 4, 0) if max(wide.values(), default=0) >= settings.wide_column_bytes else "minor",
        title=title,
        evidence="traced"
        if read is not None
        else "keyed"
        if context.schema is not None and not stats.widths_rows
        else "repeated",
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
            context.models,
            read is not None,
        ),
        unsure=(
            ("read in no request of this capture; another one may",)
            if read is not None
            else ("whether the page reads these columns is not known; look before you leave them out",)
        ),
    )


PATTERN = OverWide()
