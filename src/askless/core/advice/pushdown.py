"""Advice for rows that are fetched and thrown away: the filter or the count moves into SQL."""

from __future__ import annotations

from askless.core.advice.orm import model_of, words_of
from askless.core.findings.finding import Advice
from askless.core.findings.remedies import PushDown
from askless.core.inference.context import Context


def advise(recipe: PushDown, context: Context) -> tuple[Advice, ...]:
    """Count, or filter, in the database."""
    load = recipe.stats.load
    words = words_of(load)
    model = model_of(load, load.target, context.models) if load is not None else None
    if not recipe.columns:
        code = words.number_of(model) if words is not None and model is not None else ""
        return (
            Advice(
                title="count in the database",
                why="the number travels instead of the rows",
                code=code,
                at=recipe.line,
                saving=recipe.saving,
                trade_offs="one query more where the rows are needed later on after all",
                verify=(
                    "the same conditions stand on the count",
                    "an emptiness test needs no count: ask whether one exists",
                ),
            ),
        )
    code = words.filtered(model, recipe.columns) if words is not None and model is not None else ""
    return (
        Advice(
            title="filter by " + ", ".join(recipe.columns) + " in the database",
            why="the condition that the loop tests becomes a WHERE, and a cut a LIMIT",
            code=code,
            at=recipe.line,
            saving=recipe.saving,
            trade_offs="the condition moves from code to SQL; without an index the database reads the rows all the same",
            verify=("upper and lower case, NULLs and time zones compare in SQL as they did in the code", "rows and their order are the same"),
        ),
    )  # fmt: skip
