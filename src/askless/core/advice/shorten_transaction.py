"""Advice for a transaction that is held open while the application does something else."""

from __future__ import annotations

from askless.core.findings.finding import Advice
from askless.core.findings.remedies import ShortenTransaction
from askless.core.inference.context import Context


def advise(recipe: ShortenTransaction, context: Context) -> tuple[Advice, ...]:
    """Do the other thing before, or after; where an answer is needed in between, two short transactions."""
    what = "the call" if recipe.known else "what is done in between"
    first = Advice(
        title=f"move {what} out of the transaction: before its first query, or after its commit",
        why="whoever needs what it holds waits for the call as well; a slow answer to one request stops the others"
        if recipe.locking
        else "a connection of the pool waits with it, and the server keeps what older rows the transaction could still see",
        at=recipe.line,
        saving=recipe.saving,
        trade_offs="what is done outside is not undone by a rollback: it may have happened though the rest failed",
        verify=(
            "what was read before the call may have changed by the time of the write: read it again, or write under a condition",
            "nothing in the call needs rows that are not committed yet",
        ),
    )
    if not recipe.locking:
        return (first,)
    second = Advice(
        title="or make two short transactions of it: note that it is asked for, commit, ask, then write the answer",
        why="a row that says 'asked' replaces the lock: others see what is going on and need not wait",
        at=recipe.line,
        saving=recipe.saving,
        trade_offs="one commit more, and a state between the two that the rest of the application must know",
        verify=("a program that stops between the two leaves 'asked' behind: something must find and repeat it",),
    )
    return first, second
