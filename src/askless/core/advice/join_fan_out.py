"""Advice for a join that multiplies rows: queries of their own, or a condition that only asks
whether there is a row.
"""

from __future__ import annotations

import re

from askless.core.advice import alternative_sql
from askless.core.advice.orm import by_table, words_of
from askless.core.findings.finding import Advice
from askless.core.findings.remedies import SplitJoin
from askless.core.inference.context import Context
from askless.core.records.model import Load


def advise(remedy: SplitJoin, context: Context) -> tuple[Advice, ...]:
    """Ask apart for what multiplies; EXISTS for a join that only filters."""
    return (
        (_exists(remedy, context),)
        if remedy.variant == "parents again"
        else (_apart(remedy, context),)
    )


def _exists(remedy: SplitJoin, context: Context) -> Advice:
    stats, structure = remedy.stats, remedy.structure
    return Advice(
        title="use EXISTS instead of the join: test whether such a row exists",
        why=f"each row of {structure.main} is returned once, and the search stops at the first "
        "match",
        sql=alternative_sql.by_existence(context.sql(stats), stats.statement.system),
        at=remedy.line,
        saving=remedy.saving,
        trade_offs="DISTINCT returns the same rows without a new condition, but sorts or hashes "
        "all of them first",
        verify=(
            f"is each row of {structure.main} wanted once? the page then shows fewer rows, and "
            "counts and sums change too",
            "a LIMIT now counts each row once, so it cuts differently",
        ),
    )


def _apart(remedy: SplitJoin, context: Context) -> Advice:
    structure, load = remedy.structure, remedy.stats.load
    named = remedy.tables[-1] if remedy.tables else "the children"
    code = _batched(remedy, context, named)
    return Advice(
        title=f"read {named} in a separate query, by the keys of {structure.main} that the first "
        "one returned",
        why="rows then add up instead of multiplying; parent columns are sent once",
        sql=alternative_sql.children_of(structure, named),
        code=code,
        at=remedy.line if code or load is None else None,
        saving=remedy.saving,
        trade_offs="one more query, and the application combines the rows",
        verify=(
            f"rows of {structure.main} without {named} are still returned",
            "sums or counts over the joined rows were too high before: they change",
        ),
    )


def _batched(remedy: SplitJoin, context: Context, table: str) -> str:
    """The call that loads a relation with a query of its own, if the ORM itself joined it in and
    only one can be meant.
    """
    load, structure = remedy.stats.load, remedy.structure
    words = words_of(load)
    model = context.models.get((load.orm, load.target)) if load is not None else None
    if (
        words is None
        or model is None
        or load is None
        or load.kind != "query"
        or not words.joins_many()
    ):
        return ""
    target = by_table(load, table, context.models)
    aliased = any(
        name != table and re.fullmatch(rf"{re.escape(table)}_\d+", name)
        for name, _ in structure.names
    )
    relation = model.relation_to(target.name) if target is not None else None
    if relation is None or not relation.many or not aliased or target is None:
        return ""
    return words.apart(Load(load.orm, "eager", model.name, relation.name, target.name, True))
