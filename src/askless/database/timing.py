"""Interleaved timing: every side runs in turn, who goes first changing, so that drift hits all of
them alike.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence

from sqlalchemy.engine import Connection

from askless.database.driver_query import DriverQuery
from askless.database.statement_execution import Rows, execute

WARM_UPS = 2
REPETITIONS_LEAST, REPETITIONS_MOST = 7, 200
BUDGET_S = 1.5  # for the measured repetitions of all sides together


def interleaved(
    sides: Sequence[Callable[[], object]],
    budget_s: float | None = None,
    least: int = REPETITIONS_LEAST,
) -> tuple[tuple[float, ...], ...]:
    """Times of each side in milliseconds, one a repetition. `budget_s` is for all sides together
    (None: BUDGET_S).
    """
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


def runner(connection: Connection, queries: Sequence[DriverQuery]) -> Callable[[], object]:
    """One side of a measurement: all rows of some queries, one after the other."""

    def run() -> None:
        for query in queries:
            execute(connection, query)

    return run


def bytes_of(rows: Rows) -> int:
    """About how many bytes the values of a result have."""
    return sum(_bytes(value) for row in rows for value in row)


def _bytes(value: object) -> int:
    if value is None:
        return 0
    return len(value) if isinstance(value, str | bytes) else 8
