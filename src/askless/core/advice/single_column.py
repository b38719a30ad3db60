"""Advice for objects of which one column is read: ask for that column."""

from __future__ import annotations

from askless.core.advice.orm import model_of, words_of
from askless.core.advice.rewriting import statements
from askless.core.findings.finding import Advice
from askless.core.findings.remedies import SelectColumn
from askless.core.inference.context import Context


def advise(remedy: SelectColumn, context: Context) -> tuple[Advice, ...]:
    """The column alone. The call keeps the objects, with nothing else in them: the code around it
    need not change.
    """
    stats, structure, column = remedy.stats, remedy.structure, remedy.column
    load = stats.load
    words, model = (
        words_of(load),
        model_of(load, load.target, context.models) if load is not None else None,
    )
    code = ""
    if words is not None and load is not None and model is not None and column in model.attributes:
        wanted = dict.fromkeys([*model.keys, column])
        fetched = [(structure.main, output.column.name) for output in structure.outputs]
        spare = [one for one in fetched if one[1] not in wanted]
        named = words.named_by(load, spare, context.models)
        if named:
            code = words.unnamed(named)
        else:
            columns = [(structure.main, name) for name in wanted]
            code = words.only_columns(load, columns, context.models, ())
            code = words.placed(remedy.line, load.target, code)
    others = [
        output.name or output.column.name
        for output in structure.outputs
        if output.column.name != column
    ]
    return (
        Advice(
            title=f"select only {column}",
            why="the other columns are fetched but unused; if no objects are needed, a values "
            "query also avoids building them",
            sql=statements.projected(context.sql(stats), stats.statement.system, others),
            code=code,
            at=remedy.line,
            saving=remedy.saving,
            trade_offs="objects without these columns load them later, one query each, if they "
            "are used after all",
            verify=(
                "no code that receives the objects reads more columns",
                "the order does not change",
            ),
        ),
    )
