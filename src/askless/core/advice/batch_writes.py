"""Advice for rows that are written one by one: one statement for all of them, or at least one
transaction.
"""

from __future__ import annotations

from askless.core.advice.orm import by_table, words_of
from askless.core.findings.finding import Advice
from askless.core.findings.remedies import BatchWrites
from askless.core.inference.context import Context
from askless.core.records.model import Load
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
    if words is not None and load is not None and not remedy.parted:
        model = context.models.get((load.orm, load.target)) or by_table(
            load, structure.main, context.models
        )
        if model is not None:
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
    if structure.kind == "delete":
        keys = [
            str(predicate.column.name)
            for predicate in structure.predicates
            if predicate.operator == "="
        ]
        return f"DELETE FROM {structure.main}\nWHERE {keys[0]} IN (:keys)" if len(keys) == 1 else ""
    return ""


def hooks_passed_by(load: Load | None) -> str:
    """What of an ORM's is not run where many rows are written at once; '' without an ORM."""
    if load is None or load.orm == "":
        return ""
    bypass = {
        "django": "save() and its signals are not run",
        "sqlalchemy": "the session's events are not run",
    }
    return bypass.get(load.orm, "hooks of the ORM are not run")
