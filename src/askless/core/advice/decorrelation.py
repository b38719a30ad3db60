"""Advice for a subquery that is evaluated for each row: join what is grouped once, or let an index
find its rows.
"""

from __future__ import annotations

from askless.core.advice.rewriting.grouped_join import grouped_join
from askless.core.findings.finding import Advice
from askless.core.findings.remedies import Decorrelate
from askless.core.inference.context import Context
from askless.core.records.index_ddl import plain_index


def advise(remedy: Decorrelate, context: Context) -> tuple[Advice, ...]:
    """The join first; if no index finds the rows of one evaluation, the index next to it."""
    stats = remedy.stats
    example = stats.examples[0] if stats.examples else None
    values = (
        example.statement.values(example.parameters, example.literals)
        if example is not None
        else ()
    )
    sql = grouped_join(context.sql(stats), stats.statement.system, values)
    title = "group once and outer-join: the subquery's result is computed for all rows at once"
    by_place = any(slot.placeholder and slot.text in ("?", "%s") for slot in stats.statement.slots)
    checks = ["rows without a partner are still returned, with 0 or NULL as before"]
    if by_place and sql:
        checks.append("the order of positional parameters changes")
    joined = Advice(
        title=title
        if sql
        else "read that value separately, for all rows of the page at once, by their keys",
        why="the table is read once instead of once per row",
        sql=sql,
        at=remedy.line,
        saving=remedy.saving,
        trade_offs="it groups the whole table: for a page with few rows the subqueries may be "
        "faster"
        if sql
        else "one more query, and the application combines the rows",
        verify=tuple(checks),
    )
    schema = context.schema
    indexed = [
        Advice(
            title=f"or an index on {column.table} ({column.name}), so that each evaluation finds "
            "its rows",
            why="it reads a few rows each time instead of the whole table",
            sql=plain_index(table, (column.name,), schema.system),
            saving=remedy.saving,
            trade_offs="every write to the table has to maintain the index",
            verify=("test it first: askless trial CAPTURE --index DDL --db URL",),
        )
        for column in dict.fromkeys(remedy.scanned)
        if schema is not None and (table := schema.table(column.table)) is not None
    ]
    return (joined, *indexed)
