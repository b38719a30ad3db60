"""subquery-per-row: a column of the result is a subquery that is evaluated for each row, and the
query takes its time.

Not flagged: EXISTS (it ends with the first row), few rows, quick queries, the rows of a list of
keys. With the schema it is
reported whether an index finds the rows of each evaluation; only a plan says how the server goes
about it.
"""

from __future__ import annotations

from askless.core.aggregation.shape_stats import ShapeStats
from askless.core.findings.finding import URGENT_SHARE, Cost
from askless.core.findings.remedies import Decorrelate
from askless.core.formatting import plural
from askless.core.inference.context import Context
from askless.core.patterns.base import ByTotals, Diagnosis, FindingDraft, Match, Rule
from askless.core.sql.structure import Correlation, Structure

RULE = Rule(
    "subquery-per-row",
    "a subquery that is evaluated for each row",
    "a subquery among the columns of 20 or more rows, in a query of 20 ms or more (5 ms without a "
    "suitable index)",
    "EXISTS, few rows, quick queries, the rows of a list of keys",
)
_TABLE_ROWS_LEAST = 500  # in a smaller table a scan costs as much as an index


class SubqueryPerRow(ByTotals):
    """See the module."""

    rule = RULE

    def worth_parsing(self, stats: ShapeStats, context: Context) -> bool:
        """Whether there is a second SELECT, and rows and time enough."""
        settings = context.settings
        return (
            stats.shape.text.count("select ") > 1
            and stats.rows_most >= settings.per_row_rows_least
            and stats.query_ns >= settings.per_row_scan_ms * 1e6
        )

    def judge_shape(self, met: Match, structure: Structure) -> Diagnosis | None:
        """One a query, for all its subqueries."""
        shown = [one for one in structure.correlations if one.per_row and one.shown]
        if not shown or structure.group_by:
            return None
        scanned = [one for one in shown if _is_scanned(one, met.context)]
        if not scanned and _is_by_keys(structure):
            return None
        least_ms = (
            met.context.settings.per_row_scan_ms if scanned else met.context.settings.per_row_ms
        )
        if met.stats.query_ns < least_ms * 1e6:
            return None
        return _diagnosis(met, structure, shown, scanned)


def _is_by_keys(structure: Structure) -> bool:
    """Whether it asks for the rows of a list of keys: those of a page, each evaluated once as any
    other query by these keys would do.
    """
    return any(
        one.required and one.operator in ("in", "any") and one.column.table == structure.main
        for one in structure.predicates
    )


def _is_scanned(one: Correlation, context: Context) -> bool:
    """Whether it is known that no index finds the rows of one evaluation, in a table that is not
    small.
    """
    table = context.schema.table(one.inner.table) if context.schema is not None else None
    if table is None or (table.rows or 0) < _TABLE_ROWS_LEAST:
        return False
    keys = [table.primary_key, *(index.columns for index in table.indexes if index.serves_equality)]
    return not any(key and key[0].lower() == one.inner.name.lower() for key in keys)


def _diagnosis(
    met: Match, structure: Structure, shown: list[Correlation], scanned: list[Correlation]
) -> Diagnosis:
    stats, schema = met.stats, met.context.schema
    rows = stats.rows / stats.count
    tables = ", ".join(dict.fromkeys(one.inner.table for one in shown))
    because = [
        f"{one.inner} = {one.around} refers to the row around it: {plural(rows, 'row')}, as many "
        "evaluations"
        for one in shown
    ]
    because += [
        f"no index starts with {one.inner}: each evaluation reads all "
        f"{plural(table.rows or 0, 'row')} of {table.name}"
        for one in scanned
        if schema is not None and (table := schema.table(one.inner.table)) is not None
    ]
    claim = FindingDraft(
        variant="each scans its table" if scanned else "",
        severity="urgent" if scanned and met.share >= URGENT_SHARE else "worthwhile",
        title=f"a subquery on {tables} for each of {plural(rows, 'row')} of {structure.main}: "
        f"{stats.query_ns / 1e6:,.0f} ms per query",
        summary=f"subquery on {tables} for each of {plural(rows, 'row')} of {structure.main}",
        evidence="keyed" if schema is not None else "repeated",
        evidence_details=tuple(because),
        cost=Cost(queries=stats.count / max(stats.requests, 1), query_ms=stats.query_ns / 1e6),
        caveats=("the server's plan shows how it is executed: askless plan CAPTURE --db URL",),
    )
    saving = f"a part of {stats.query_ns / 1e6:,.0f} ms per query; run a trial to measure how much"
    remedy = Decorrelate(
        stats=stats, line=met.line, saving=saving, scanned=tuple(one.inner for one in scanned)
    )
    return Diagnosis(met.finding(RULE, claim), remedy)


PATTERN = SubqueryPerRow()
