"""Advice for aggregates that differ in one constant: all of them in one query."""

from __future__ import annotations

from askless.core.advice.orm import words_of
from askless.core.advice.rewriting import statements
from askless.core.findings.finding import Advice
from askless.core.findings.remedies import Group
from askless.core.inference.context import Context


def advise(remedy: Group, context: Context) -> tuple[Advice, ...]:
    """One GROUP BY; or one row with a condition in each aggregate."""
    if remedy.buckets:
        return (_buckets(remedy),)
    column, counts = remedy.key.column.name, remedy.structure.counts
    lookup = statements.LookUp(
        context.sql(remedy.stats), remedy.stats.statement.system, remedy.table, column
    )
    sql = statements.counted(lookup)
    nothing = "0" if counts else "the result for an empty group"
    grouped = Advice(
        title=f"get all of them with one GROUP BY {column}",
        why="one pass over the rows covers every value",
        sql=sql,
        code=_code(remedy, context),
        at=remedy.line,
        saving=remedy.saving,
        trade_offs="the code picks its values out of the groups",
        verify=(f"values without rows have no group: they must remain, with {nothing}",),
    )
    conditional = Advice(
        title="or one row, with a condition in each aggregate",
        why="if the values are few and fixed, and the page shows them next to each other: "
        f"{'COUNT' if counts else 'SUM'}(CASE WHEN {column} = … THEN … END) for each of them",
        at=remedy.line,
        saving=remedy.saving,
        trade_offs="a new value needs a new column; do not load all rows to count them in memory, "
        "which grows with the table",
        verify=("exclude rows with other values by a WHERE, or do not count them",),
    )
    return (grouped, conditional)


def _code(remedy: Group, context: Context) -> str:
    """The ORM's call, if the key is all that the count asks for."""
    load, words = remedy.stats.load, words_of(remedy.stats.load)
    column = remedy.key.column.name
    if (
        load is None
        or words is None
        or not remedy.structure.counts
        or len(remedy.structure.predicates) > 1
    ):
        return ""
    model = context.models.get((load.orm, load.target))
    if (
        model is None
        or remedy.table != model.table
        or column not in model.attributes
        or remedy.structure.joins
    ):
        return ""
    return words.grouped(model, column)


def _buckets(remedy: Group) -> Advice:
    column = remedy.key.column.name
    what = "COUNT(*)" if remedy.structure.counts else "the aggregate"
    return Advice(
        title=f"get all ranges of {column} with one GROUP BY",
        why="one pass over the rows from the first range's start to the last range's end covers "
        "every range",
        code=f"group by the range that {column} falls into: date_trunc('month', {column}) for "
        f"months, days and similar ranges; CASE WHEN {column} < ... THEN ... END otherwise; "
        f"and select that and {what}",
        at=remedy.line,
        saving=remedy.saving,
        trade_offs="the code picks its ranges out of the groups",
        verify=(
            "ranges without rows have no group: they must remain, with the result for an empty "
            "range",
            "a row on a boundary falls into the same range as before; days have the same time "
            "zone as before",
        ),
    )
