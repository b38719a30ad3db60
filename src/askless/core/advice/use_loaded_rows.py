"""Advice for rows that an earlier query had fetched: use them."""

from __future__ import annotations

from askless.core.advice.orm import bare, model_of, words_of
from askless.core.findings.finding import Advice
from askless.core.findings.remedies import UseLoadedRows
from askless.core.inference.context import Context


def advise(remedy: UseLoadedRows, context: Context) -> tuple[Advice, ...]:
    """Use the rows that are there: the relation where the ORM loaded one, else a map by the key."""
    load = remedy.source.load if remedy.source is not None else None
    words = words_of(load)
    code = f"keep the earlier rows in a map by {remedy.column}, and look there"
    if words is not None and load is not None and load.relation:
        model = model_of(load, load.model, context.models)
        relation = model.relations.get(load.relation) if model is not None else None
        # Lookups by another column may be for other rows of the table than the relation's.
        is_its_own = relation is not None and not relation.link and remedy.column in relation.remote
        if model is not None and relation is not None and is_its_own:
            code = words.relation_of(bare(model.name).lower(), relation)
    return (
        Advice(
            title="use the rows that are already loaded",
            why="the code builds a new query for rows that the request has already loaded",
            code=code,
            at=remedy.line,
            saving=remedy.saving,
            trade_offs="the loaded rows are as of the first query",
            verify=(
                "the code applies the lookup's conditions and order",
                "nothing changed the rows in between",
            ),
        ),
    )
