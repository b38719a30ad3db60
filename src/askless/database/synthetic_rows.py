"""Harder data than today's, planted in private copies of a statement's tables.

Only what the schema allows is planted: rows like others but for their key, which nothing refers to;
NULL where a column may be NULL; equal values in a column that rows are ordered by; gaps in the keys;
the rows stored in the reverse order; no rows at all.
"""

from __future__ import annotations

import uuid
from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import contextmanager
from typing import Any

import msgspec
from sqlalchemy.engine import Connection
from sqlalchemy.exc import DBAPIError

from askless.core.records.schema import Schema, Table, TableColumn
from askless.database.driver_query import MARKS
from askless.database.servers import server_of

COPIES = 9  # rows of a table of which more are made
_WORDS = ("CHAR", "TEXT", "CLOB", "STRING")

Row = dict[str, Any]


class _NotPlanted(Exception):
    """The data does not let it be planted: no value is free, no row may go, or no order changes."""


class SyntheticRows(msgspec.Struct, frozen=True):
    """One way to make the data harder: in words, and what does it to the copies."""

    words: str
    plant: Callable[[Connection], None]


def plantings(
    schema: Schema,
    tables: Sequence[str],
    used: Sequence[tuple[str, str]],
    ordered: Collection[str] = (),
) -> list[SyntheticRows]:
    """What can be planted. `used` are the columns, with their tables, that the statements name, in
    lower case; `ordered` are the names of those that they order by.
    """
    known = [table for name in tables if (table := schema.table(name)) is not None]
    results = []
    for table in known:
        if _can_repeat(table):
            words = f"rows of {table.name} like others, without children"
            results.append(SyntheticRows(words, _more_of(table, ())))
        for column in table.columns:
            named = {(table.name.lower(), column.name.lower()), ("", column.name.lower())} & {*used}
            if not named or column.name in table.primary_key:
                continue
            if column.nullable and _can_repeat(table):
                words = f"NULL as {column.name} in rows of {table.name}"
                results.append(SyntheticRows(words, _more_of(table, (column.name,))))
            if column.name.lower() in ordered and not _is_unique(table, column):
                words = f"equal {column.name} in rows of {table.name}"
                results.append(SyntheticRows(words, _tied(table, column.name)))
        if len(table.primary_key) == 1:
            words = f"gaps in the keys of {table.name}"
            results.append(SyntheticRows(words, _with_gaps(table, known)))
        words = f"the rows of {table.name} stored in the reverse order"
        results.append(SyntheticRows(words, reverse(table)))
        if not _is_needed(table, known):
            results.append(SyntheticRows(f"no rows in {table.name}", _emptied(table)))
    return results


@contextmanager
def planted(connection: Connection, planting: SyntheticRows) -> Iterator[bool]:
    """The data with something planted, for a while; whether it could be."""
    run = connection.exec_driver_sql
    name = f"askless_{uuid.uuid4().hex}"  # MySQL forgets a savepoint when another takes its name
    run(f"SAVEPOINT {name}")
    try:
        try:
            planting.plant(connection)
            done = True
        except (DBAPIError, _NotPlanted):  # a condition that the schema does not tell of
            run(f"ROLLBACK TO SAVEPOINT {name}")
            done = False
        yield done
    finally:
        run(f"ROLLBACK TO SAVEPOINT {name}")


def _is_needed(table: Table, known: Sequence[Table]) -> bool:
    """Whether rows of another of the tables refer to rows of this one."""
    return any(
        other is not table and key.table.lower() == table.name.lower()
        for other in known
        for key in other.foreign_keys
    )


def _unique_columns(table: Table) -> list[TableColumn]:
    names = [index.columns for index in table.indexes if index.unique and len(index.columns) == 1]
    single = [name for (name,) in names] + (
        list(table.primary_key) if len(table.primary_key) == 1 else []
    )
    return [column for name in dict.fromkeys(single) if (column := table.column(name)) is not None]


def _can_repeat(table: Table) -> bool:
    """Whether more rows like those that are there may are in a table: what must differ can be made
    up.
    """
    if len(table.primary_key) != 1 or any(
        index.unique and len(index.columns) > 1 for index in table.indexes
    ):
        return False
    references = {name for key in table.foreign_keys for name in key.columns}
    return all(
        (column.name not in references and _is_made_up(column)) or column.nullable
        for column in _unique_columns(table)
    )


def _is_made_up(column: TableColumn) -> bool:
    kind = column.type.upper()
    return (
        "INT" in kind or "SERIAL" in kind or "UUID" in kind or any(word in kind for word in _WORDS)
    )


def _more_of(table: Table, nulls: Sequence[str]) -> Callable[[Connection], None]:
    """Rows like others of the table, with keys of their own, and NULL in some columns."""

    def plant(connection: Connection) -> None:
        quote = connection.dialect.identifier_preparer.quote
        result = connection.exec_driver_sql(f"SELECT * FROM {quote(table.name)}")  # noqa: S608
        names = list(result.keys())
        rows: list[Row] = [dict(zip(names, row, strict=True)) for row in result.all()]
        unique = _unique_columns(table)
        step = max(len(rows) // COPIES, 1)
        mark = MARKS[server_of(connection).paramstyle]
        columns, places = ", ".join(map(quote, names)), ", ".join(mark for _ in names)
        for turn, row in enumerate(rows[::step][:COPIES], 1):
            changed = (
                row
                | {column.name: _other(column, rows, turn, table) for column in unique}
                | dict.fromkeys(nulls)
            )
            connection.exec_driver_sql(
                f"INSERT INTO {quote(table.name)} ({columns}) VALUES ({places})",  # noqa: S608
                tuple(changed[name] for name in names),
            )

    return plant


def _other(column: TableColumn, rows: Sequence[Row], turn: int, table: Table) -> Any:
    """A value that no row has."""
    kind = column.type.upper()
    if column.name not in table.primary_key and column.nullable:
        return None
    if "UUID" in kind:
        return uuid.uuid4()
    values = [row[column.name] for row in rows if row[column.name] is not None]
    if all(isinstance(value, int) for value in values):
        return max(values, default=0) + turn
    result = f"{turn} planted"[: min(map(len, map(str, values)), default=9)]
    if result in values:
        raise _NotPlanted
    return result


def _is_unique(table: Table, column: TableColumn) -> bool:
    """Whether equal values in the column alone may break a unique index."""
    return any(index.unique and column.name in index.columns for index in table.indexes)


def _tied(table: Table, column: str) -> Callable[[Connection], None]:
    """The first values of a column become the first of them."""

    def plant(connection: Connection) -> None:
        quote = connection.dialect.identifier_preparer.quote
        name, wanted = quote(table.name), quote(column)
        values = (
            connection.exec_driver_sql(
                f"SELECT DISTINCT {wanted} FROM {name} WHERE {wanted} IS NOT NULL "  # noqa: S608
                f"ORDER BY {wanted} LIMIT {2 * COPIES}"
            )
            .scalars()
            .all()
        )
        if len(values) < 2:
            raise _NotPlanted
        mark = MARKS[server_of(connection).paramstyle]
        marks = ", ".join([mark] * (len(values) - 1))
        connection.exec_driver_sql(
            f"UPDATE {name} SET {wanted} = {mark} WHERE {wanted} IN ({marks})",  # noqa: S608
            tuple(values),
        )

    return plant


def _with_gaps(table: Table, known: Sequence[Table]) -> Callable[[Connection], None]:
    """Some of the first rows are deleted, of those that no row refers to."""

    def plant(connection: Connection) -> None:
        quote, (key,) = connection.dialect.identifier_preparer.quote, table.primary_key
        run = connection.exec_driver_sql
        referred = {
            value
            for other in known
            for foreign in other.foreign_keys
            if foreign.table.lower() == table.name.lower() and len(foreign.columns) == 1
            for value in run(
                f"SELECT DISTINCT {quote(foreign.columns[0])} FROM {quote(other.name)}"  # noqa: S608
            ).scalars()
        }
        keys = run(f"SELECT {quote(key)} FROM {quote(table.name)} ORDER BY {quote(key)}").scalars()  # noqa: S608
        free = [value for value in keys if value not in referred][1::3][: 2 * COPIES]
        if not free:
            raise _NotPlanted
        marks = ", ".join([MARKS[server_of(connection).paramstyle]] * len(free))
        run(f"DELETE FROM {quote(table.name)} WHERE {quote(key)} IN ({marks})", tuple(free))  # noqa: S608

    return plant


def reverse(table: Table) -> Callable[[Connection], None]:
    """The same rows, stored from the last to the first. A table that its server keeps in the order
    of the key can't be stored so.
    """

    def plant(connection: Connection) -> None:
        quote, run = connection.dialect.identifier_preparer.quote, connection.exec_driver_sql
        name, copy = quote(table.name), quote(f"askless_{uuid.uuid4().hex}")
        order = ", ".join(f"{quote(column)} DESC" for column in table.primary_key)
        if not order:
            raise _NotPlanted
        columns = ", ".join(map(quote, table.primary_key))
        before = run(f"SELECT {columns} FROM {name}").all()  # noqa: S608
        run(f"CREATE TEMPORARY TABLE {copy} AS SELECT * FROM {name} ORDER BY {order}")  # noqa: S608
        run(f"DELETE FROM {name}")  # noqa: S608
        run(f"INSERT INTO {name} SELECT * FROM {copy}")  # noqa: S608
        if run(f"SELECT {columns} FROM {name}").all() == before:  # noqa: S608
            raise _NotPlanted

    return plant


def _emptied(table: Table) -> Callable[[Connection], None]:
    def plant(connection: Connection) -> None:
        connection.exec_driver_sql(
            f"DELETE FROM {connection.dialect.identifier_preparer.quote(table.name)}"  # noqa: S608  (quoted)
        )

    return plant
