"""Advice for lookups whose table follows a type column: one batch for each kind."""

from __future__ import annotations

from askless.core.advice.orm import words_of
from askless.core.advice.rewriting.statements import LookUp, batched
from askless.core.findings.finding import Advice
from askless.core.findings.remedies import BatchPerType
from askless.core.inference.context import Context


def advise(remedy: BatchPerType, context: Context) -> tuple[Advice, ...]:
    """The relation with its query, if the ORM has one for it; else a batch for each kind."""
    statements = [
        batched(
            LookUp(context.sql(stats), stats.statement.system, stats.parsed.main, column),
            drop_limit=True,
        )
        for stats, column in remedy.kinds
    ]
    code, named = _with_the_query(remedy)
    plain = f"collect the keys by {remedy.kind} first, then read each kind's rows with one query"
    return (
        Advice(
            title=named or plain,
            why=f"one query per kind ({len(remedy.kinds)} here), regardless of the number of rows",
            sql=";\n".join(one for one in statements if one),
            code=code,
            at=(remedy.at if code else remedy.line) or remedy.line,
            saving=remedy.saving,
            trade_offs="all rows of a kind are in memory at once",
            verify=(
                "rows with an unknown kind, or without a partner, are treated as before",
                "load related rows that a kind's objects read as well, or they are queried row by "
                "row",
            ),
        ),
    )


def _with_the_query(remedy: BatchPerType) -> tuple[str, str]:
    """(the ORM's call that loads the relation with the query above it, its title); '' without
    one.
    """
    load, root = remedy.load, remedy.root.load
    words = words_of(load)
    if words is None or load is None or root is None:
        return "", ""
    if root.kind != "query" or root.target != load.model:
        return "", ""
    code = words.batched([load])
    return code, f"load {load.model}.{load.relation} with the query" if code else ""
