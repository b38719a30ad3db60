"""Advice for values that are written into the text of a statement: bind them."""

from __future__ import annotations

from askless.core.findings.finding import Advice
from askless.core.findings.remedies import BindParameters
from askless.core.inference.context import Context
from askless.core.sql.masking import masked


def advise(remedy: BindParameters, context: Context) -> tuple[Advice, ...]:
    """The same statement with placeholders."""
    stats = remedy.stats
    return (
        Advice(
            title="bind the values: one text with placeholders, and the values as parameters",
            why="the text is parsed once and can be prepared; a bound value can't inject SQL",
            sql=masked(stats.statement.text.strip(), stats.statement.system),
            at=remedy.line,
            trade_offs="a plan that serves all values may be worse for a rare one",
            verify=(
                "bind every external value, including harmless ones",
                f"planning time: askless plan CAPTURE --shape {stats.shape.digest} --db URL (on "
                "PostgreSQL)",
            ),
        ),
    )
