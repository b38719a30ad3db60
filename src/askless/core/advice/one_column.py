"""Advice for objects of which one column is read: ask for that column."""

from __future__ import annotations

from askless.core.advice import rewriting
from askless.core.advice.orm import model_of, words_of
from askless.core.context import Context
from askless.core.findings import Advice
from askless.core.recipes import OneColumn


def advise(recipe: OneColumn, context: Context) -> tuple[Advice, ...]:
    """The column alone: values come back, no objects."""
    stats, column = recipe.stats, recipe.column
    load = stats.load
    words, model = words_of(load), model_of(load, load.target, context.models) if load is not None else None
    code = (
        words.values_of(model, column) if words is not None and model is not None and column in model.attributes else ""
    )
    names = [output.name or output.column.name for output in recipe.structure.outputs]
    others = [
        name for name, output in zip(names, recipe.structure.outputs, strict=True) if output.column.name != column
    ]
    return (
        Advice(
            title=f"ask for {column} alone, not for the objects",
            why="no object is built and tracked for a value that a row of the result has by itself",
            sql=rewriting.projected(context.sql(stats), stats.statement.system, others),
            code=code,
            at=recipe.line,
            saving=recipe.saving,
            trade_off="what comes back are values: methods and properties of the objects are not there",
            check=("nothing that is handed on expects the object", "the order does not change"),
        ),
    )
