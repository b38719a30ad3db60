"""Advice for a read that is made again: read once and pass it on."""

from __future__ import annotations

from askless.core.advice.orm import words_of
from askless.core.findings.finding import Advice
from askless.core.findings.remedies import ShareResult
from askless.core.formatting import whereabouts
from askless.core.inference.context import Context


def advise(recipe: ShareResult, context: Context) -> tuple[Advice, ...]:
    """Read once; if the callers are far apart, keep the value for the length of the request."""
    lines = recipe.callers
    callers = ", ".join(whereabouts(line.file, line.line) for line in lines[:4])
    load, words = recipe.stats.load, words_of(recipe.stats.load)
    if words is not None and load is not None and recipe.line is not None and recipe.structure.counts:
        code = words.counted_once(recipe.line.file, load.target)
        if code:
            return (_counted(recipe, code),)
    first = Advice(
        title="read it once and pass the result on",
        why=f"sent from {callers}" if len(lines) > 1 else "sent again from the same line",
        at=lines[0] if lines else None,
        saving=recipe.saving,
        trade_offs="none, as long as nothing writes to the table in between",
        verify=("nobody changes the shared object", "no write between the reads must become visible"),
    )
    second = Advice(
        title="or cache it for the duration of the request",
        why="if the callers are independent",
        saving=recipe.saving,
        trade_offs="the cache must end with the request, or users see stale data",
        verify=("the cache is per request and per user",),
    )
    return (first, second)


def _counted(recipe: ShareResult, code: str) -> Advice:
    return Advice(
        title="count once",
        why="the framework counts all rows in addition to those it shows",
        code=code,
        at=recipe.line,
        saving=recipe.saving,
        trade_offs="the total number of rows is not shown while a list is filtered",
        verify=("that number is not needed",),
    )
