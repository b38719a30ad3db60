"""Advice for rows that are fetched and thrown away: the filter or the count moves into SQL."""

from __future__ import annotations

from collections.abc import Sequence

from askless.core.advice.orm import Models, model_of, words_of
from askless.core.findings import Advice, Line
from askless.core.shape_stats import ShapeStats
from askless.core.words import plural


def advise(
    stats: ShapeStats, variant: str, columns: Sequence[str], line: Line | None, rows: float, models: Models
) -> tuple[Advice, ...]:
    """Count, or filter, in the database."""
    words = words_of(stats.load)
    model = model_of(stats.load, stats.load.target, models) if stats.load is not None else None
    saving = f"about {plural(rows, 'row')} a request; time is for a trial to tell"
    if variant == "counted":
        code = words.number_of(model) if words is not None and model is not None else ""
        return (
            Advice(
                title="count in the database",
                why="the number travels instead of the rows",
                code=code,
                at=line,
                saving=saving,
                trade_off="one query more where the rows are needed later on after all",
                check=(
                    "the same conditions stand on the count",
                    "an emptiness test needs no count: ask whether one exists",
                ),
            ),
        )
    code = words.filtered(model, columns) if words is not None and model is not None else ""
    return (
        Advice(
            title="filter by " + ", ".join(columns) + " in the database",
            why="the condition that the loop tests becomes a WHERE, and a cut a LIMIT",
            code=code,
            at=line,
            saving=saving,
            trade_off="the condition moves from code to SQL; without an index the database reads the rows all the same",
            check=("upper and lower case, NULLs and time zones compare in SQL as they did in the code", "rows and their order are the same"),
        ),
    )  # fmt: skip
