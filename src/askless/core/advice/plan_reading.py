"""Advice for a statement that takes most of a request: its plan says what it waits for."""

from __future__ import annotations

from askless.core.findings.finding import Advice
from askless.core.findings.remedies import ReadPlan
from askless.core.inference.context import Context


def advise(remedy: ReadPlan, context: Context) -> tuple[Advice, ...]:
    """Read the plan, and have indexes proposed."""
    digest = remedy.stats.shape.digest
    index = ", ".join(remedy.missing)
    return (
        Advice(
            title=f"read its plan; an index on {index} may help" if index else "read its plan",
            why="the plan shows whether it reads a whole table, sorts, or spills to disk",
            code=f"askless plan CAPTURE --shape {digest} --db URL",
            at=remedy.line,
            trade_offs="an index takes room and slows each write to its columns",
            verify=("what helps here: askless indexes CAPTURE --db URL --test",),
        ),
    )
