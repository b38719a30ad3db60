"""Whole objects of which one column is read: of each in a list, or of the one that a lookup gives.
Known from over-wide.

Not flagged: what is written in the same route (an object that is saved must be there), relations
that are followed, few rows.
"""

from __future__ import annotations

from askless.core.aggregation.shape_stats import ShapeStats, UseTotals
from askless.core.findings.finding import Cost, SourceLine
from askless.core.findings.remedies import SelectColumn
from askless.core.formatting import plural, size
from askless.core.inference.shared_lines import levels_of
from askless.core.patterns.base import (
    Diagnosis,
    FindingDraft,
    Match,
    Rule,
    lines_of,
    tables_written,
    taken,
)
from askless.core.settings import Settings
from askless.core.sql.structure import EVERYTHING, Structure

_COLUMNS_LEAST = 3  # of the result, for one of them to be few
_TOUCHED_LEAST = 0.9  # of the objects
_RESULTS_LEAST = 20  # single rows in the capture


def one_column(rule: Rule, met: Match, structure: Structure) -> Diagnosis | None:
    """What is wrong with a query whose objects are read for one column; None where more is read."""
    stats = met.stats
    load = stats.load
    totals = stats.used.get(load.target) if load is not None else None
    if load is None or totals is None or load.kind not in ("query", "lazy") or len(stats.used) != 1:
        return None
    column = _only(totals)
    outputs = {
        output.column.name for output in structure.outputs if output.column.table == structure.main
    }
    if column not in outputs or len(stats.columns) < _COLUMNS_LEAST or _is_written(met, structure):
        return None
    single = totals.objects <= totals.results
    if not _is_much(stats, totals, single, met.context.settings):
        return None
    line = _line_alone(met, structure, column)
    return _diagnosis(rule, met, structure, column, single, line) if line is not None else None


def _is_much(stats: ShapeStats, totals: UseTotals, single: bool, settings: Settings) -> bool:
    """Whether wide rows come one by one often enough, or lists are long enough."""
    if stats.bytes < stats.requests:
        return False
    if single:
        wide = stats.bytes / stats.count >= settings.wide_row_bytes
        return wide and totals.results >= _RESULTS_LEAST
    return totals.objects / totals.results >= settings.discarded_rows_least


def _line_alone(met: Match, structure: Structure, column: str) -> SourceLine | None:
    """The innermost line none of whose queries gives objects of which more columns are read."""
    others = [
        f"{output.column.table}.{output.column.name}"
        for output in structure.outputs
        if output.column.name != column
    ]
    for places in levels_of(met.stats.places):
        if not any(met.context.readers_of(places, name) for name in others):
            return next(iter(lines_of(places)), None)
    return None


def _only(totals: UseTotals) -> str:
    """The one column that was read of nearly all objects; '' where there are more, or relations
    were followed.
    """
    if (
        totals.relations
        or len(totals.columns) != 1
        or totals.touched < _TOUCHED_LEAST * totals.objects
    ):
        return ""
    return next(iter(totals.columns)).rsplit(".", 1)[-1]


def _is_written(met: Match, structure: Structure) -> bool:
    """Whether the route writes at all to the table, or to one that may refer to the object."""
    main = structure.main.lower()
    written = {
        table for stats in met.route.own_shapes() for table in tables_written(stats.statement)
    }
    return bool(written & {main, EVERYTHING}) or any(
        stats.shape.text.startswith("insert") for stats in met.route.own_shapes()
    )


def _diagnosis(
    rule: Rule, met: Match, structure: Structure, column: str, single: bool, line: SourceLine
) -> Diagnosis:
    stats = met.stats
    load = stats.load
    assert load is not None
    totals = stats.used[load.target]
    objects = totals.objects / totals.results
    widths, measured = met.context.widths_of(stats)
    own = [
        width / measured
        for output, width in zip(structure.outputs, widths, strict=False)
        if measured and output.column.name == column
    ]
    per_request = stats.count / stats.requests
    spare = max(stats.bytes / stats.requests - sum(own[:1]) * stats.rows / stats.requests, 0.0)
    whole = f"{len(stats.columns)} columns"
    built = plural(objects * per_request, "object")
    if single:
        title = (
            f"a whole {load.target} ({whole}) is read for its {column} only: "
            f"{size(spare, 'bytes')} per request wasted"
        )
    else:
        title = f"{built} of {load.target} ({whole}) are built for their {column} alone"
    claim = FindingDraft(
        variant="one-value" if single else "one-column",
        severity="minor",
        title=title,
        evidence="traced",
        evidence_details=(
            f"of {plural(stats.used[load.target].objects, 'object')} the application read "
            f"{column}, and nothing else",
            *taken(met.route),
        ),
        cost=Cost(queries=per_request, query_ms=stats.query_ns / 1e6, bytes=spare),
        caveats=("not read in this capture; other requests may read it",),
    )
    saving = (
        f"about {size(spare, 'bytes')} and {built} per request; run a trial to measure the time"
    )
    remedy = SelectColumn(stats=stats, line=line, saving=saving, column=column)
    return Diagnosis(met.finding(rule, claim), remedy)
