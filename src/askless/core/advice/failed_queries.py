"""Advice for queries that fail: another one for each kind of failure."""

from __future__ import annotations

import msgspec

from askless.core.advice.bulk_upsert import upsert
from askless.core.findings.finding import Advice
from askless.core.findings.remedies import FixFailure
from askless.core.inference.context import Context
from askless.core.inference.failures import Failure

_BY_FAILURE = {
    Failure.DEADLOCK: Advice(
        title="let every transaction lock its rows in the same order (by primary key, say), and "
        "try the whole transaction again",
        why="two transactions that lock the same rows in two orders wait for each other until the "
        "server aborts one",
        trade_offs="rows must be sorted before they are written; a retry repeats the "
        "transaction's other work",
        verify=(
            "which two statements collided: the server's log names both",
            "the retry starts with BEGIN, not with the failed statement",
        ),
    ),
    Failure.COLLISION: Advice(
        title="try the whole transaction again, a few times, with a short, growing pause",
        why="at this isolation level, one of two transactions that touch the same rows is aborted",
        trade_offs="the transaction's work is repeated, including its effects outside the database",
        verify=("the retry starts with BEGIN, not with the failed statement",),
    ),
    Failure.TIME_OUT: Advice(
        title="find the cause of the wait: a lock held by another transaction, or its own plan",
        why="a longer limit makes more requests wait; a shorter transaction or an index avoids "
        "the wait",
        trade_offs="",
        verify=(
            "transactions that write the same rows are short",
            "the plan of the statement: askless plan CAPTURE --db URL",
        ),
    ),
    Failure.CONFLICT: Advice(
        title="handle existing rows in the statement",
        why="a single statement avoids the error; on PostgreSQL an error also aborts the "
        "surrounding transaction",
        trade_offs="it must name the unique key",
        verify=("is the error expected (a race that is caught)? then it can stay",),
    ),
    Failure.CONSTRAINT: Advice(
        title="validate the values before sending them",
        why="the database rejects them after a full round trip",
        trade_offs="",
        verify=(
            "keep the constraint: validation in code improves the message but does not replace it",
        ),
    ),
    Failure.CONNECTION: Advice(
        title="let the pool test connections before use, and expire them before the server does",
        why="a connection that the server closed fails on its next query",
        trade_offs="one small extra query per checkout",
        verify=(
            "the server's log tells why it closed: idle for too long, restarted, out of memory",
        ),
    ),
    Failure.MISTAKE: Advice(
        title="fix the statement, or do not send it",
        why="",
        trade_offs="",
        verify=("where the error is caught, and what the page then shows",),
    ),
    Failure.OTHER: Advice(
        title="read the error and find where it is caught",
        why="",
        trade_offs="",
        verify=("what the page shows when it fails",),
    ),
}
_ALWAYS = "every execution in the capture failed: it never worked"
_SOMETIMES = "it succeeds with some values and fails with others"


def advise(remedy: FixFailure, context: Context) -> tuple[Advice, ...]:
    """What to do about this kind of failure; for a conflict the statement that decides by
    itself.
    """
    advice = _BY_FAILURE[remedy.failure]
    structure = remedy.stats.structure
    sql = ""
    if (
        remedy.failure is Failure.CONFLICT
        and structure is not None
        and structure.kind == "insert"
        and structure.written
    ):
        sql = upsert(
            remedy.stats.statement.system,
            structure.main,
            structure.written,
            (":unique_key",),
            changes=False,
        )
    return (
        msgspec.structs.replace(
            advice,
            why=advice.why or (_ALWAYS if remedy.always else _SOMETIMES),
            sql=sql,
            at=remedy.line,
        ),
    )
