"""Advice for a read that is made again: read once and pass it on."""

from __future__ import annotations

from askless.core.advice.orm import words_of
from askless.core.findings.finding import Advice
from askless.core.findings.remedies import ShareResult
from askless.core.formatting import location_text
from askless.core.inference.context import Context

CALLERS_MOST = 4  # that are named


def advise(remedy: ShareResult, context: Context) -> tuple[Advice, ...]:
    """Read once; if the callers are far apart, keep the value for the length of the request."""
    lines = remedy.callers
    load, words = remedy.stats.load, words_of(remedy.stats.load)
    if (
        words is not None
        and load is not None
        and remedy.line is not None
        and remedy.structure.counts
    ):
        code = words.counted_once(remedy.line.file, load.target)
        if code:
            return (_counted(remedy, code),)
    first = Advice(
        title="read it once and pass the result on",
        why=_why(remedy),
        at=lines[0] if lines else None,
        saving=remedy.saving,
        trade_offs="none, as long as nothing writes to the table in between",
        verify=(
            "no code changes the shared object",
            "no write between the reads must become visible",
        ),
    )
    second = Advice(
        title="or cache it for the duration of the request",
        why="if the callers are independent",
        saving=remedy.saving,
        trade_offs="the cache must end with the request, or users see stale data",
        verify=("the cache is per request and per user",),
    )
    return (first, second)


def _why(remedy: ShareResult) -> str:
    lines = remedy.callers
    if len(lines) > 1:
        return "sent from " + ", ".join(
            location_text(line.file, line.line) for line in lines[:CALLERS_MOST]
        )
    if lines and lines[0].line:
        return "sent again from the same line"
    return "sent again with the same parameters"


def _counted(remedy: ShareResult, code: str) -> Advice:
    return Advice(
        title="count once",
        why="the framework counts all rows in addition to those it shows",
        code=code,
        at=remedy.line,
        saving=remedy.saving,
        trade_offs="the page changes: it offers to show all rows, and no longer says how many "
        "there are while it is filtered",
        verify=("that number is not needed",),
    )
