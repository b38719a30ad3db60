"""Harder data than today's: copies of a statement's tables that one session alone sees, with rows
planted in them.

A temporary table hides the table of its name. Only what the schema allows is planted: rows like
others but for their key, which nothing refers to; NULL where a column may be NULL; no rows at all.
The live tables are only read.
"""

from __future__ import annotations

import uuid
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any

import msgspec
from sqlalchemy.engine import URL, Connection
from sqlalchemy.exc import DBAPIError

from askless.core.errors import AskLessError
from askless.core.records.schema import Schema, Table, TableColumn
from askless.database.connecting import connect, reason_of
from askless.database.reflecting import reflect
from askless.database.servers import Limits, server_of

ROWS_MOST = 2000  # of a table that are copied
COPIES = 9  # rows of a table of which more are made
_WORDS = ("CHAR", "TEXT", "CLOB", "STRING")

Row = dict[str, Any]


class _NoneLeft(Exception):
    """No value could be made up that no row has."""


class SyntheticRows(msgspec.Struct, frozen=True):
    """One way to make the data harder: in words, and what does it to the copies."""

    words: str
    plant: Callable[[Connection], None]


@contextmanager
def copies(url: URL, limits: Limits, tables: Sequence[str]) -> Iterator[tuple[Connection, Schema]]:
    """A connection that sees copies of these tables in their place, and the schema. All of it is
    gone at the end.

    Raises AskLessError no-copies if they can't be made, and what the database says.
    """
    with connect(url, limits, write=True) as connection:
        schema = reflect(connection)
        known = {name: schema.table(name) for name in tables}
        lacking = next((name for name, table in known.items() if table is None), None)
        if lacking is not None:
            raise AskLessError(
                "no-copies",
                f"{lacking} is not a table of this database, so synthetic rows can't "
                "be added to a copy",
                "omit --synthetic-rows",
            )
        server_of(connection).allow_copies(connection)
        copied = _parents_first([table for table in known.values() if table is not None])
        for table in copied:
            _copy(connection, table, {one.name.lower(): one for one in copied})
        yield connection, schema


def plantings(
    schema: Schema, tables: Sequence[str], used: Sequence[tuple[str, str]]
) -> list[SyntheticRows]:
    """What can be planted. `used` are the columns, with their tables, that the statements name, in
    lower case.
    """
    known = [table for name in tables if (table := schema.table(name)) is not None]
    results = []
    for table in known:
        if _can_repeat(table):
            words = f"rows of {table.name} like others, without children"
            results.append(SyntheticRows(words, _more_of(table, ())))
        for column in table.columns:
            named = (table.name.lower(), column.name.lower()) in used or (
                "",
                column.name.lower(),
            ) in used
            if (
                named
                and column.nullable
                and column.name not in table.primary_key
                and _can_repeat(table)
            ):
                words = f"NULL as {column.name} in rows of {table.name}"
                results.append(SyntheticRows(words, _more_of(table, (column.name,))))
        if not _is_needed(table, known):
            results.append(SyntheticRows(f"no rows in {table.name}", _emptied(table)))
    return results


@contextmanager
def planted(connection: Connection, planting: SyntheticRows) -> Iterator[bool]:
    """The data with something planted, for a while; whether it could be."""
    run = connection.exec_driver_sql
    run("SAVEPOINT askless_planted")
    try:
        try:
            planting.plant(connection)
            done = True
        except (DBAPIError, _NoneLeft):  # a condition that the schema does not tell of
            run("ROLLBACK TO SAVEPOINT askless_planted")
            done = False
        yield done
    finally:
        run("ROLLBACK TO SAVEPOINT askless_planted")


def _parents_first(tables: list[Table]) -> list[Table]:
    results: list[Table] = []
    while tables:
        names = {table.name.lower() for table in tables}
        free = [
            table
            for table in tables
            if not any(
                key.table.lower() in names - {table.name.lower()} for key in table.foreign_keys
            )
        ] or tables[:1]
        results += free
        tables = [table for table in tables if table not in free]
    return results


def _copy(connection: Connection, table: Table, copied: Mapping[str, Table]) -> None:
    """The first rows of a table; of those that refer to a copied one, only rows that still can."""
    quote, server = connection.dialect.identifier_preparer.quote, server_of(connection)
    name, conditions, orphans = quote(table.name), [], []
    seen: set[str] = set()
    for key in table.foreign_keys:
        parent = copied.get(key.table.lower())
        if (
            parent is not None
            and parent is not table
            and len(key.columns) == len(parent.primary_key) == 1
        ):
            column = quote(key.columns[0])
            there = f"SELECT {quote(parent.primary_key[0])} FROM {quote(parent.name)}"  # noqa: S608
            if parent.name in seen:  # MySQL reads a temporary table only once in a statement
                orphans.append(f"{column} IS NOT NULL AND {column} NOT IN ({there})")
            else:
                conditions.append(f"({column} IS NULL OR {column} IN ({there}))")
            seen.add(parent.name)
    where = " WHERE " + " AND ".join(conditions) if conditions else ""
    live = server.live_name(connection, table.name)
    try:
        connection.exec_driver_sql(
            f"CREATE TEMPORARY TABLE {name} AS SELECT * FROM {live}{where} LIMIT {ROWS_MOST}"  # noqa: S608
        )
        for orphan in orphans:
            connection.exec_driver_sql(f"DELETE FROM {name} WHERE {orphan}")  # noqa: S608
        # what is grouped by the key may show other columns
        if table.primary_key and server.paramstyle != "qmark":
            connection.exec_driver_sql(
                f"ALTER TABLE {name} ADD PRIMARY KEY ({', '.join(map(quote, table.primary_key))})"
            )
    except DBAPIError as error:
        raise AskLessError(
            "no-copies",
            f"no copy of {table.name} can be made: {reason_of(error)}",
            "omit --synthetic-rows",
        ) from None


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
        mark = "?" if connection.dialect.paramstyle == "qmark" else "%s"
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
        raise _NoneLeft
    return result


def _emptied(table: Table) -> Callable[[Connection], None]:
    def plant(connection: Connection) -> None:
        connection.exec_driver_sql(
            f"DELETE FROM {connection.dialect.identifier_preparer.quote(table.name)}"  # noqa: S608  (quoted)
        )

    return plant
