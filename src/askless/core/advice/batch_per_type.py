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
    code, named = _of_subclasses(remedy, context)
    if not code:
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


def _of_subclasses(remedy: BatchPerType, context: Context) -> tuple[str, str]:
    """(the ORM's call that loads the columns of a model's classes, its title); '' if the tables are
    not those of such classes.
    """
    root = remedy.root.load
    words = words_of(root)
    loads = [stats.load for stats, _ in remedy.kinds]
    if words is None or root is None or any(one is None for one in loads):
        return "", ""
    classes = [one.target for one in loads if one is not None and one.kind == "refresh"]
    known = [context.models.get((root.orm, name)) for name in classes]
    if len(classes) < len(loads) or any(m is None or m.base != root.target for m in known):
        return "", ""
    code = words.subclasses(root.target, classes, remedy.path)
    return code, f"load the columns of {' and '.join(classes)} with the query" if code else ""


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
