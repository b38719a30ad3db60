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
        title="let every transaction lock its rows in the same order (by primary key, say), and try the whole transaction again",
        why="two transactions that lock the same rows in two orders wait for each other until one is sent away",
        trade_offs="rows are sorted before they are written; the retry runs the transaction's other work once more",
        verify=("which two statements met: the server's log names both", "the retry begins with BEGIN, not with the statement that failed"),
    ),
    Failure.COLLISION: Advice(
        title="try the whole transaction again, a few times, with a short pause that grows",
        why="at this isolation level one of two transactions that touch the same rows must give way: that is its price",
        trade_offs="the transaction's work is done twice; what it did outside of the database too",
        verify=("the retry begins with BEGIN, not with the statement that failed",),
    ),
    Failure.TIME_OUT: Advice(
        title="find out what it waits for: a lock that another transaction holds, or its own plan",
        why="a longer limit makes more requests wait; a shorter transaction, or an index, makes none",
        trade_offs="",
        verify=("transactions that write the same rows are short", "the plan of the statement: askless plan CAPTURE --db URL"),
    ),
    Failure.CONFLICT: Advice(
        title="say in the statement what becomes of a row that is there already",
        why="one statement decides without an error; on PostgreSQL an error also ends the transaction around it",
        trade_offs="it must name the unique key that it means",
        verify=("is the error a part of how it works (a race that is caught)? then it may stay",),
    ),
    Failure.CONSTRAINT: Advice(
        title="check what is sent before it is sent",
        why="the database refuses it, rightly, after a way there and back",
        trade_offs="",
        verify=("the constraint stays: the check in code is for the message, not in its place",),
    ),
    Failure.CONNECTION: Advice(
        title="let the pool test a connection before it lends it, and not keep it longer than the server does",
        why="a connection that the other side closed fails with the first query that is asked over it",
        trade_offs="one small query more for each loan",
        verify=("the server's log tells why it closed: idle for too long, restarted, out of memory",),
    ),
    Failure.MISTAKE: Advice(
        title="mend the statement, or do not send it",
        why="",
        trade_offs="",
        verify=("who catches the error, and what the page shows then",),
    ),
    Failure.OTHER: Advice(
        title="see what the error says, and who catches it",
        why="",
        trade_offs="",
        verify=("what the page shows when it fails",),
    ),
}  # fmt: skip
_ALWAYS = "every execution in the capture failed: it has never done its work"
_SOMETIMES = "it works with some values and fails with others"


def advise(recipe: FixFailure, context: Context) -> tuple[Advice, ...]:
    """What to do about this kind of failure; for a conflict the statement that decides by itself."""
    advice = _BY_FAILURE[recipe.failure]
    structure = recipe.stats.structure
    sql = ""
    if (
        recipe.failure is Failure.CONFLICT
        and structure is not None
        and structure.kind == "insert"
        and structure.written
    ):
        sql = upsert(recipe.stats.statement.system, structure.main, structure.written, (":unique_key",), changes=False)
    return (
        msgspec.structs.replace(
            advice,
            why=advice.why or (_ALWAYS if recipe.always else _SOMETIMES),
            sql=sql,
            at=recipe.line,
        ),
    )
