"""Advice for a read that is made again: read once and pass it on."""

from __future__ import annotations

from askless.core.advice.orm import Models, model_of, words_of
from askless.core.findings import Advice, Line
from askless.core.shape_stats import ShapeStats


def advise(lines: tuple[Line, ...], saving: str) -> tuple[Advice, ...]:
    """Read once; where the callers are far apart, keep the value for the length of the request."""
    callers = ", ".join(f"{line.file}:{line.line}" for line in lines[:4])
    first = Advice(
        title="read it once and pass the result on",
        why=f"asked from {callers}" if len(lines) > 1 else "asked again from the same line",
        at=lines[0] if lines else None,
        saving=saving,
        trade_off="none, while nothing writes to the table in between",
        check=("nobody changes the shared object", "no write between the reads is meant to be seen"),
    )
    second = Advice(
        title="or keep it for the length of the request",
        why="where the callers do not know of each other",
        saving=saving,
        trade_off="what is kept must end with the request, or users see stale data",
        check=("the store is per request and per user",),
    )
    return (first, second)


def of_loaded(
    stats: ShapeStats, source: ShapeStats | None, column: str, line: Line | None, saving: str, models: Models
) -> tuple[Advice, ...]:
    """Use the rows that are there: the relation where the ORM loaded one, else a dict by the key."""
    load = source.load if source is not None else None
    words = words_of(load)
    code = f"keep the earlier rows in a dict by {column}, and look there"
    if words is not None and load is not None and load.relation:
        model = model_of(load, load.model, models)
        relation = model.relations.get(load.relation) if model is not None else None
        if model is not None and relation is not None:
            code = words.relation_of(model.name.lower(), relation)
    return (
        Advice(
            title="use what is loaded already",
            why="the code builds a new query for rows that the request holds",
            code=code,
            at=line,
            saving=saving,
            trade_off="the loaded rows are as old as the first query",
            check=("conditions and order of the look-up are kept, in code", "nothing changed the rows in between"),
        ),
    )
