"""Advice for an eager load that is never read: omit it."""

from __future__ import annotations

from askless.core.advice.orm import words_of
from askless.core.findings.finding import Advice
from askless.core.findings.remedies import DropEagerLoad
from askless.core.formatting import listed
from askless.core.inference.context import Context


def advise(remedy: DropEagerLoad, context: Context) -> tuple[Advice, ...]:
    """Take the relation out of what is loaded, or load it only if it is read."""
    words = words_of(remedy.load)
    what = f"{remedy.load.model}.{remedy.load.relation}"
    code = words.dropped([remedy.load], remedy.joined) if words is not None else ""
    if code and remedy.needed_by:
        readers = listed(remedy.needed_by, 1)
        code = f"{readers} read it: where the line serves this route alone, {code}"
    return (
        Advice(
            title=f"do not load {what} here",
            why="its objects were built and never read",
            code=code,
            at=remedy.line,
            saving=remedy.saving,
            trade_offs="if another code path does read it, it becomes one query per object",
            verify=(
                f"no template, serialiser or property on this page reads {what}",
                "the page is the same without it",
            ),
        ),
    )
