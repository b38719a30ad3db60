"""Advice for values that are written into the text of a statement: bind them."""

from __future__ import annotations

from askless.core.findings.finding import Advice
from askless.core.findings.remedies import BindParameters
from askless.core.inference.context import Context
from askless.core.sql.masking import masked


def advise(recipe: BindParameters, context: Context) -> tuple[Advice, ...]:
    """The same statement with placeholders."""
    stats = recipe.stats
    return (
        Advice(
            title="bind the values: one text with placeholders, and the values beside it",
            why="one text is parsed once and can be prepared; a value that is only a value can't end the statement and begin another",
            sql=masked(stats.statement.text.strip(), stats.statement.system),
            at=recipe.line,
            trade_offs="a plan that serves all values may be worse for a rare one",
            verify=(
                "every value that comes from outside is bound, the harmless ones too",
                f"what planning takes each time: askless plan CAPTURE --shape {stats.shape.digest} --db URL (PostgreSQL tells)",
            ),
        ),
    )
