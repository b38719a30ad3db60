"""Advice for rows that are fetched and discarded: the filter or the count moves into SQL."""

from __future__ import annotations

from askless.core.advice.orm import model_of, words_of
from askless.core.findings.finding import Advice
from askless.core.findings.remedies import PushDown
from askless.core.inference.context import Context


def advise(remedy: PushDown, context: Context) -> tuple[Advice, ...]:
    """Count, or filter, in the database."""
    load, structure = remedy.stats.load, remedy.structure
    words = words_of(load)
    model = model_of(load, load.target, context.models) if load is not None else None
    if not remedy.columns:
        whole = not structure.predicates and not structure.joins and not structure.has_limit
        code = words.number_of(model, whole) if words is not None and model is not None else ""
        return (
            Advice(
                title="count in the database",
                why="the database returns a number instead of the rows",
                code=code,
                at=remedy.line,
                saving=remedy.saving,
                trade_offs="one more query if the rows are needed later",
                verify=(
                    "the count has the same conditions",
                    "a test for emptiness needs no count: use EXISTS",
                ),
            ),
        )
    code = words.filtered(model, remedy.columns) if words is not None and model is not None else ""
    return (
        Advice(
            title="filter by " + ", ".join(remedy.columns) + " in the database",
            why="the loop's condition becomes a WHERE, and a slice becomes a LIMIT",
            code=code,
            at=remedy.line,
            saving=remedy.saving,
            trade_offs="the condition moves from code to SQL; without an index, the database "
            "still reads the rows",
            verify=(
                "case, NULLs and time zones compare the same in SQL as in the code",
                "rows and their order are unchanged",
            ),
        ),
    )
