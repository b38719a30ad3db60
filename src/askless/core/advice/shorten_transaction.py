"""Advice for a transaction that is held open while the application does something else."""

from __future__ import annotations

from askless.core.findings.finding import Advice
from askless.core.findings.remedies import ShortenTransaction
from askless.core.inference.context import Context


def advise(remedy: ShortenTransaction, context: Context) -> tuple[Advice, ...]:
    """Do the other thing before, or after; if an answer is needed in between, two short
    transactions.
    """
    what = "the call" if remedy.known else "what is done in between"
    first = Advice(
        title=f"move {what} out of the transaction: before its first query, or after its commit",
        why="locks are held during the call and block other requests"
        if remedy.locking
        else "a pool connection is blocked meanwhile, and the server keeps old row versions for "
        "the transaction's snapshot",
        at=remedy.line,
        saving=remedy.saving,
        trade_offs="effects outside the transaction are not rolled back: they can remain even if "
        "the rest fails",
        verify=(
            "rows read before the call may have changed by the time of the write: read them "
            "again, or write conditionally",
            "the call does not need uncommitted rows",
        ),
    )
    if not remedy.locking:
        return (first,)
    second = Advice(
        title="or split it into two short transactions: record the pending call, commit, make the "
        "call, then store its result",
        why="a row with the status 'pending' replaces the lock, so others can see it and need not "
        "wait",
        at=remedy.line,
        saving=remedy.saving,
        trade_offs="one more commit, and an intermediate state that the application must handle",
        verify=(
            "a crash between the two leaves 'pending' rows: something must find and retry them",
        ),
    )
    return first, second
