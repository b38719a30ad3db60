"""Interleaved timing: every side runs in turn, who goes first changing, so that drift hits all of them alike."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from typing import Any

from sqlalchemy.engine import Connection
from sqlalchemy.exc import DBAPIError

from askless.database.sending import Query

WARM_UPS = 2
REPETITIONS_LEAST, REPETITIONS_MOST = 7, 200
BUDGET_S = 1.5  # for the measured repetitions of all sides together

Rows = list[tuple[Any, ...]]


def interleaved(
    sides: Sequence[Callable[[], object]], budget_s: float | None = None, least: int = REPETITIONS_LEAST
) -> tuple[tuple[float, ...], ...]:
    """Times of each side in milliseconds, one a repetition. `budget_s` is for all sides together (None: BUDGET_S)."""
    budget_s = BUDGET_S if budget_s is None else budget_s
    times: list[list[float]] = [[] for _ in sides]
    order = list(range(len(sides)))
    spent = 0.0
    for turn in range(-WARM_UPS, REPETITIONS_MOST):
        for side in order if turn % 2 else reversed(order):
            start = time.perf_counter()
            sides[side]()
            taken = time.perf_counter() - start
            if turn >= 0:
                times[side].append(taken * 1e3)
                spent += taken
        if turn + 1 >= least and spent > budget_s:
            break
    return tuple(map(tuple, times))


def fetch(connection: Connection, query: Query) -> Rows:
    """All rows of a query, from the driver's own cursor: what is measured is the database, not a layer above it.

    Raises DBAPIError, as SQLAlchemy's own layer does.
    """
    raw: Any = connection.connection.driver_connection
    cursor = raw.cursor()
    try:
        cursor.execute(query.sql, query.arguments)
        return list(cursor.fetchall())
    except connection.dialect.loaded_dbapi.Error as error:
        raise DBAPIError(query.sql, None, error) from error
    finally:
        cursor.close()


def runner(connection: Connection, queries: Sequence[Query]) -> Callable[[], object]:
    """One side of a measurement: all rows of some queries, one after the other."""

    def run() -> None:
        for query in queries:
            fetch(connection, query)

    return run


def fetch_named(connection: Connection, query: Query) -> tuple[list[str], Rows]:
    """The names of the columns, and all rows."""
    result = connection.exec_driver_sql(query.sql, query.arguments)
    return list(result.keys()), [tuple(row) for row in result.all()]


def bytes_of(rows: Rows) -> int:
    """About how many bytes the values of a result have."""
    return sum(_bytes(value) for row in rows for value in row)


def _bytes(value: object) -> int:
    if value is None:
        return 0
    return len(value) if isinstance(value, str | bytes) else 8
