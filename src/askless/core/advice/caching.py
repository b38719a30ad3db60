"""Advice for rows that every request reads: keep them for a while, or until they are written."""

from __future__ import annotations

from askless.core.findings.finding import Advice
from askless.core.findings.remedies import CacheResult
from askless.core.inference.context import Context


def advise(recipe: CacheResult, context: Context) -> tuple[Advice, ...]:
    """By time first; by event where the application itself writes."""
    named = recipe.structure.main or "these rows"
    by_time = Advice(
        title=f"keep what {named} gave for {recipe.live_s:,} s, and read it again after that",
        why="the rows held for longer than that while they were watched",
        at=recipe.line,
        saving=recipe.saving,
        trade_offs="a change is seen late, by each process on its own; the rows take memory; the first read after each time still waits",
        verify=(
            "the rows do not depend on who asks: on a user, a tenant, a language, a right",
            "a page that has just written them reads them past what is kept",
        ),
    )
    if not recipe.writes:
        return (by_time,)
    by_event = Advice(
        title="or drop what is kept where it is written: " + "; ".join(recipe.writes),
        why="nobody sees old rows for longer than the write takes",
        at=recipe.line,
        trade_offs="every place that writes must know of it, other programs and hands at a prompt too; with several processes they "
        "must share what is kept",
        verify=("no other program writes to these tables",),
    )
    return by_time, by_event
