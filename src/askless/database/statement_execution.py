"""The one way by which a statement of the application's, or of the user's, reaches a database.

It is checked, then sent through the driver's own cursor: what is measured is the database, not a
layer above it. The server itself takes one statement at a time and writes nothing: see `only_reads`
and `begin` of each server.
"""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from typing import Any

from sqlalchemy.engine import Connection
from sqlalchemy.exc import DBAPIError

from askless.database import preflight
from askless.database.driver_query import DriverQuery
from askless.database.servers import server_of

Rows = list[tuple[Any, ...]]


def execute(connection: Connection, query: DriverQuery) -> tuple[list[str], Rows]:
    """Run a SELECT: the names of its columns, and all rows.

    Raises DBAPIError, as SQLAlchemy's own layer does, and AskLessError if the statement is refused
    before it is sent.
    """
    preflight.check(connection, query, runs=True)
    return _send(connection, query.sql, query.arguments)


def explain(
    connection: Connection,
    query: DriverQuery,
    prefix: str,
    *,
    runs: bool = False,
    types: Sequence[str] = (),
) -> Rows:
    """The rows of `prefix` (an EXPLAIN of the server's) before a statement; `runs` where that
    executes the statement.

    Raises what `execute` raises.
    """
    preflight.check(connection, query, runs=runs, types=types)
    return _send(connection, prefix + query.sql, query.arguments)[1]


def prepare(connection: Connection, query: DriverQuery, name: str) -> None:
    """Let PostgreSQL parse a statement, its placeholders being the server's own `$1`, `$2`, …;
    nothing is planned or run.

    Anyone who goes on with it checks it by the types that the server has found.
    """
    _send(connection, f"PREPARE {name} AS {query.sql}", ())


def _send(connection: Connection, sql: str, arguments: Sequence[Any]) -> tuple[list[str], Rows]:
    raw: Any = connection.connection.driver_connection
    cursor = raw.cursor()
    try:
        with server_of(connection).only_reads(connection):
            cursor.execute(sql, arguments)
            names = [column[0] for column in cursor.description or ()]
            return names, [tuple(row) for row in cursor.fetchall()] if cursor.description else []
    except connection.dialect.loaded_dbapi.Error as error:
        raise DBAPIError.instance(
            sql, None, error, connection.dialect.loaded_dbapi.Error
        ) from error
    except Exception:
        raise
    except BaseException as interrupt:
        # Ctrl-C in the middle of a statement: the session is of no more use
        connection.invalidate(interrupt)
        raise
    finally:
        with suppress(connection.dialect.loaded_dbapi.Error):
            cursor.close()
