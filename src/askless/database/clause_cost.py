"""Which part of a statement costs what: it runs again and again, each time with one part
omitted.
"""

from __future__ import annotations

import time
from collections.abc import Sequence

import msgspec
from sqlalchemy.engine import URL, Connection

from askless.core.errors import AskLessError
from askless.core.progress import Progress, quiet
from askless.core.sql.clauses import Part, parts_of
from askless.core.sql.slots import Value, name_of, slots_of, values_of
from askless.core.sql.statements import checked_select, tables_in
from askless.core.statistics import Ratio, ratio_of_turns
from askless.database.connecting import connect
from askless.database.driver_query import DriverQuery
from askless.database.explaining import attempt, query_of
from askless.database.preflight import check_quiet
from askless.database.servers import Limits, server_of
from askless.database.statement_execution import execute
from askless.database.timing import bytes_of, interleaved, runner

BUDGET_S = 4.0
SLOW_S = 2.0  # a statement that takes so long without a part is not run again


class ClauseCost(msgspec.Struct, frozen=True):
    """A part and what the statement does without it: one time where that takes long. `error` where
    it can't run without.
    """

    part: Part
    times_ms: tuple[float, ...] = ()
    ratio: Ratio | None = None
    rows: int = 0
    bytes: int = 0
    error: str = ""


class ClauseCosts(msgspec.Struct, frozen=True):
    """A statement whole, and without each of its parts, the dearest part first."""

    system: str
    sql: str
    times_ms: tuple[float, ...]
    rows: int
    bytes: int
    parts: tuple[ClauseCost, ...]


def weigh(
    url: URL,
    text: str,
    parameters: Sequence[Value] = (),
    names: Sequence[str] = (),
    limits: Limits | None = None,
    progress: Progress = quiet,
    system: str = "",
) -> ClauseCosts:
    """Weigh the parts of one SELECT. Raises AskLessError: not-a-select, no-parts, server-busy, and
    what the database says.
    """
    limits = limits or Limits()
    written = system or url.get_backend_name()
    tree = checked_select(text, written)
    parts = parts_of(text, written)
    if not parts:
        raise AskLessError(
            "no-parts",
            "no clause can be removed: no join, condition, subquery or sort",
            "choose a larger statement",
        )
    with connect(url, limits) as connection:
        own = server_of(connection).system(connection)
        check_quiet(connection, tables_in(tree), limits)
        values = values_of(slots_of(text, written), parameters, names)
        whole = query_of(connection, text, parameters, names, written)
        with attempt(connection, limits):
            _, result = execute(connection, whole)
        runnable: list[tuple[Part, DriverQuery, int, int]] = []
        failed: list[ClauseCost] = []
        slow: list[tuple[Part, float, int, int]] = []
        for turn, part in enumerate(parts, 1):
            progress(f"without part {turn} of {len(parts)}")
            query = _without(connection, part, values, written)
            try:
                start = time.perf_counter()
                with attempt(connection, limits):
                    _, rows = execute(connection, query)
                taken = time.perf_counter() - start
            except AskLessError as error:
                failed.append(ClauseCost(part, error=error.message))
                continue
            if taken > SLOW_S:
                slow.append((part, taken * 1e3, len(rows), bytes_of(rows)))
            else:
                runnable.append((part, query, len(rows), bytes_of(rows)))
        progress("measuring")
        sides = [
            runner(connection, [query])
            for query in [whole, *(query for _, query, _, _ in runnable)]
        ]
        times = interleaved(sides, BUDGET_S, least=5)
    weights = [
        ClauseCost(part, repeated, ratio_of_turns(times[0], repeated), rows, size)
        for (part, _, rows, size), repeated in zip(runnable, times[1:], strict=True)
    ]
    weights += [
        ClauseCost(part, (taken_ms,), None, rows, size) for part, taken_ms, rows, size in slow
    ]
    weights.sort(key=lambda weight: -(weight.ratio.value if weight.ratio is not None else 0.0))
    return ClauseCosts(own, text, times[0], len(result), bytes_of(result), (*weights, *failed))


def _without(
    connection: Connection, part: Part, values: Sequence[Value], written: str
) -> DriverQuery:
    named = {f"slot{number}": value for number, value in enumerate(values)}
    used = [name for name in map(name_of, slots_of(part.sql, written)) if name in named]
    return query_of(connection, part.sql, [named[name] for name in used], used, written)
