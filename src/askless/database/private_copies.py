"""Copies of a statement's tables that one session alone sees: a temporary table hides the table of
its name, and the live tables are only read.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager

from sqlalchemy.engine import URL, Connection
from sqlalchemy.exc import DBAPIError

from askless.core.errors import AskLessError
from askless.core.records.schema import Schema, Table
from askless.database.connecting import connect, reason_of
from askless.database.reflecting import reflect
from askless.database.servers import Limits, server_of

ROWS_MOST = 2000  # of a table that are copied


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
