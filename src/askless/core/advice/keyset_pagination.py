"""Advice for a page far after the first one: by the last key that was shown, instead of by
counting.
"""

from __future__ import annotations

from askless.core.advice.pagination import page_key
from askless.core.advice.rewriting import statements
from askless.core.findings.finding import Advice
from askless.core.findings.remedies import SeekByKey
from askless.core.inference.context import Context


def advise(remedy: SeekByKey, context: Context) -> tuple[Advice, ...]:
    """The page after the last row seen, in the order that it has now."""
    structure, stats = remedy.structure, remedy.stats
    key, known = page_key(structure, context.schema)
    ordered = ", ".join(str(column) for column, _ in structure.order_by)
    by_key = not structure.order_by or [
        column.name.lower() for column, _ in structure.order_by
    ] == [key.lower()]
    name = key if known else "a unique column"
    order = (
        ordered if structure.order_by and by_key else f"{ordered} and {name}" if ordered else name
    )
    checks = [
        "a page starts where the previous one ended, whatever was added or deleted meanwhile: is "
        "that expected?"
    ]
    if structure.joins or not by_key:
        checks.append("the order must be unique, or rows are skipped or shown twice")
    if not by_key:
        checks.append(
            f"if {ordered} can be NULL, handle those rows separately: no comparison finds them"
        )
    return (
        Advice(
            title="paginate by key: read the rows after the last one shown, in the order of "
            f"{order}",
            why="with an index in that order, every page costs the same",
            sql=statements.behind(
                context.sql(stats), stats.statement.system, structure.order_by, key
            )
            if known
            else "",
            at=remedy.line,
            saving=remedy.saving,
            trade_offs="pages are reached one after the other, not by number",
            verify=tuple(checks),
        ),
    )
