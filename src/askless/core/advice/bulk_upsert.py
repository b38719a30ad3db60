"""Advice for rows that are looked for and inserted one by one: one lookup and one INSERT, or one
statement for both.
"""

from __future__ import annotations

from askless.core.advice.batch_writes import hooks_passed_by
from askless.core.findings.finding import Advice
from askless.core.findings.remedies import BulkUpsert
from askless.core.inference.context import Context
from askless.core.systems import REGISTRY, system_of


def advise(remedy: BulkUpsert, context: Context) -> tuple[Advice, ...]:
    """A batched lookup and one INSERT of what is missing; if a unique key is, the upsert."""
    structure, written = remedy.structure, remedy.insert.parsed.written
    keys = remedy.columns
    price = hooks_passed_by(remedy.insert.load or remedy.stats.load)
    named = ", ".join(keys)
    existing = (
        "update the existing rows and insert the others"
        if remedy.changes
        else "insert those that are missing"
    )
    batched = Advice(
        title=f"look up all rows at once, by a list of {named}, then {existing} with one statement",
        why="two round trips, however many rows there are",
        sql=_batched(remedy, written),
        at=remedy.line,
        saving=remedy.saving,
        trade_offs=price,
        verify=(
            "a key that comes twice in the input is inserted once",
            "another request may insert a row in between, as it can today",
        ),
    )
    unique = _is_unique(context, structure.main, keys)
    if unique is False:
        return (batched,)
    decided = Advice(
        title="let one statement decide: insert, and "
        f"{'change' if remedy.changes else 'leave alone'} what is there",
        why="atomic, and no lookup is needed",
        sql=upsert(remedy.insert.statement.system, structure.main, written, keys, remedy.changes),
        at=remedy.line,
        saving=remedy.saving,
        trade_offs="; ".join(filter(None, ["it reports less about which rows were new", price])),
        verify=()
        if unique
        else (
            f"({named}) must have a unique index; without one, the same row is inserted twice or "
            "the statement fails",
        ),
    )
    return (decided, batched) if remedy.changes and unique else (batched, decided)


def upsert(
    system: str, table: str, written: tuple[str, ...], keys: tuple[str, ...], changes: bool
) -> str:
    """An INSERT of many rows that leaves alone, or changes, those that are there; '' where the
    system has no such words.
    """
    words = system_of(system).upsert if system in REGISTRY else None
    others = [column for column in written if column not in keys]
    if words is None or not written or not keys or (changes and not others):
        return ""
    assignments = ", ".join(words.assignment.format(column=column) for column in others)
    form = words.change if changes else words.leave
    return f"{_insert(table, written)}\n{form.format(keys=', '.join(keys), first=keys[0], assignments=assignments)}"


def _insert(table: str, written: tuple[str, ...]) -> str:
    row = "(" + ", ".join("?" * len(written)) + ")"
    return f"INSERT INTO {table} ({', '.join(written)})\nVALUES {row}, {row}, ..."


def _batched(remedy: BulkUpsert, written: tuple[str, ...]) -> str:
    table, keys = remedy.structure.main, remedy.columns
    row_values = system_of(remedy.stats.statement.system).row_values
    if not keys or (len(keys) > 1 and not row_values):
        return ""
    names = ", ".join(keys)
    listed = f"{names} IN (:keys)" if len(keys) == 1 else f"({names}) IN ({row_values})"
    look = f"SELECT {names} FROM {table} WHERE {listed};"
    return f"{look}\n{_insert(table, written)}" if written else look


def _is_unique(context: Context, table: str, keys: tuple[str, ...]) -> bool | None:
    """Whether a unique index is on these columns; None if the schema is not known."""
    known = context.schema.table(table) if context.schema is not None else None
    if known is None:
        return None
    unique = [
        known.primary_key,
        *(index.columns for index in known.indexes if index.unique and index.is_plain),
    ]
    wanted = {key.lower() for key in keys}
    return any({name.lower() for name in columns} == wanted for columns in unique)
