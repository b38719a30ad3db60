"""Advice for a query without an end: the filter in the database, or a page of the rows."""

from __future__ import annotations

from askless.core.advice.orm import model_of, words_of
from askless.core.advice.rewriting import statements
from askless.core.findings.finding import Advice
from askless.core.findings.remedies import Paginate
from askless.core.inference.context import Context
from askless.core.inference.joined_rows import joins_one_each
from askless.core.records.schema import Schema
from askless.core.settings import PAGE_ROWS
from askless.core.sql.structure import Structure


def page_key(structure: Structure, schema: Schema | None) -> tuple[str, bool]:
    """The column that tells the rows of a list apart, and whether that is known and no guess."""
    table = schema.table(structure.main) if schema is not None else None
    key = table.primary_key[0] if table is not None and len(table.primary_key) == 1 else "id"
    return key, table is not None or key in {output.column.name for output in structure.outputs}


def advise(remedy: Paginate, context: Context) -> tuple[Advice, ...]:
    """What the page makes of the rows first, in the database; then a part of them, by key, if it
    shows a part.
    """
    structure, schema, load = remedy.structure, context.schema, remedy.stats.load
    key, known = page_key(structure, schema)
    words, model = (
        words_of(load),
        model_of(load, load.target, context.models) if load is not None else None,
    )
    code = (
        words.paged(model, key, PAGE_ROWS)
        if words is not None and model is not None and known
        else ""
    )
    ordered = ", ".join(str(column) for column, _ in structure.order_by)
    paged = Advice(
        title=f"or show {PAGE_ROWS} rows at a time, by key",
        why="a page by key costs the same at any depth; OFFSET reads and discards what it skips",
        # A LIMIT on a join to children would cut children.
        sql=statements.paged(
            context.sql(remedy.stats), remedy.stats.statement.system, key, PAGE_ROWS
        )
        if known and joins_one_each(structure, context)
        else "",
        code=code,
        at=remedy.line,
        saving=remedy.saving,
        trade_offs="users can't jump to a page; the order must end in a unique column; reading "
        "all pages sends more queries, not fewer",
        verify=(
            f"the page's order is {ordered}: paginate by that column and {key} together"
            if ordered and key not in ordered
            else "all pages together contain the same rows as before",
        ),
    )
    filtered = Advice(
        title="filter, count or sum in the database if the page does not show every row",
        why="rows that the application only iterates over need not be fetched",
        at=remedy.line,
        saving=remedy.saving,
        trade_offs="the condition moves from code to SQL",
        verify=("case, NULLs and time zones compare the same in SQL as in the code",),
    )
    return (filtered, paged)
