"""Advice for rows that are written one by one: one statement for all of them, or at least one
transaction.
"""

from __future__ import annotations

from askless.core.advice.orm import by_table, words_of
from askless.core.findings.finding import Advice
from askless.core.findings.remedies import BatchWrites
from askless.core.inference.context import Context
from askless.core.records.model import Load, Model
from askless.core.sql.structure import Structure

_TITLES = {
    "insert": "insert all rows with one statement",
    "update": "change all rows with one statement",
    "delete": "delete all rows with one statement",
}


def advise(remedy: BatchWrites, context: Context) -> tuple[Advice, ...]:
    """One statement; if each write commits alone, one transaction around the loop as the smaller
    step.
    """
    structure, alone = remedy.structure, remedy.alone
    load = remedy.stats.load
    words = words_of(load)
    code = ""
    if structure.kind == "update" and not _is_by_key(structure):
        return (_executemany(remedy),)
    if words is not None and load is not None and not remedy.parted:
        model = context.models.get((load.orm, load.target)) or by_table(
            load, structure.main, context.models
        )
        if model is not None and (structure.kind == "insert" or _is_of(structure, model)):
            code = words.written(structure.kind, model, structure.written)
    whole = Advice(
        title=_TITLES[structure.kind],
        why="one round trip and one parse"
        + (" and one commit" if alone else "")
        + " for all of them",
        sql=_many(structure),
        code=code,
        at=remedy.line,
        saving=remedy.saving,
        trade_offs=f"{hooks_passed_by(load)}; send very many rows in chunks".removeprefix("; "),
        verify=(
            "hooks, signals and defaults that run per object in code still take effect",
            "one bad row now fails all of them",
        ),
    )
    if remedy.flushed:
        return (whole, _read_first(remedy))
    if not alone:
        return (whole,)
    around = Advice(
        title="or put one transaction around the loop",
        why="each write now waits for its own commit, which waits for the disk",
        at=remedy.line,
        saving="the round trips remain; the extra commits are avoided",
        trade_offs="all or nothing: an error rolls back the earlier rows",
        verify=("the transaction contains nothing slow, such as an external call",),
    )
    return (whole, around)


def _read_first(remedy: BatchWrites) -> Advice:
    return Advice(
        title="or keep reads from flushing the session row by row",
        why="each SELECT in the loop writes what is pending first; without it the session writes "
        "the rows at its next flush, together where the database gives back their keys in order",
        code="with session.no_autoflush: (around the loop), or read what it needs before the loop",
        at=remedy.line,
        saving=remedy.saving,
        trade_offs="until the end of the block, reads do not see the rows that were added",
        verify=("no read in the loop looks for a row that the loop has added",),
    )


def _many(structure: Structure) -> str:
    if structure.kind == "insert" and structure.written:
        row = "(" + ", ".join("?" * len(structure.written)) + ")"
        return (
            f"INSERT INTO {structure.main} ({', '.join(structure.written)})\nVALUES {row}, {row}, "
            "..."
        )
    if structure.kind == "delete" and _is_by_key(structure) and len(structure.predicates) == 1:
        key = structure.predicates[0].column.name
        return f"DELETE FROM {structure.main}\nWHERE {key} IN (:keys)"
    return ""


def _is_by_key(structure: Structure) -> bool:
    """Whether an UPDATE or DELETE finds its rows by equal values alone, and computes none."""
    only = all(one.operator == "=" and not one.inside for one in structure.predicates)
    more = structure.computed or structure.filters_more or structure.filters_by_query
    return only and bool(structure.predicates) and not more


def _is_of(structure: Structure, model: Model) -> bool:
    """Whether an UPDATE or DELETE finds its rows by the key of a model: its bulk calls do."""
    columns = {predicate.column.name for predicate in structure.predicates}
    return _is_by_key(structure) and columns == set(model.keys)


def _executemany(remedy: BatchWrites) -> Advice:
    """Values that the database computes, and rows chosen by more than a key, stay as they are."""
    return Advice(
        title="send all of these updates together",
        why="each computes a value from its row, or chooses its rows by more than equal values: it "
        "stays as it is, and is sent once with a list of values (executemany)",
        at=remedy.line,
        saving=remedy.saving,
        trade_offs="the number of rows that each update changed is no longer known",
        verify=("the code does not depend on how many rows each update changed",),
    )


def hooks_passed_by(load: Load | None) -> str:
    """What of an ORM's is not run where many rows are written at once; '' without an ORM."""
    if load is None or load.orm == "":
        return ""
    bypass = {
        "django": "save() and its signals are not run",
        "sqlalchemy": "the session's events are not run",
    }
    return bypass.get(load.orm, "hooks of the ORM are not run")
