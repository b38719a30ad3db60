"""Tries an index on a copy of an SQLite database: plans, interleaved times, and whether the result stays the same.

The user's file is opened for reading only; the copies live in a temporary folder that goes away whatever happens.
"""

from __future__ import annotations

import shutil
import sqlite3
import tempfile
import time
from collections import Counter
from collections.abc import Callable, Sequence
from contextlib import closing
from pathlib import Path
from typing import Any

import msgspec
import sqlglot
from sqlalchemy.engine import URL
from sqlglot import exp

from askless.core.errors import AskLessError
from askless.core.plans.tree import Node, walk
from askless.core.statistics import Ratio, ratio_of_medians
from askless.database.connecting import connect, file_of
from askless.database.explaining import Arguments, explain

WARM_UPS = 2
REPETITIONS_LEAST, REPETITIONS_MOST = 7, 200
BUDGET_S = 1.5  # for the measured repetitions of one statement, both sides together


class Measured(msgspec.Struct, frozen=True):
    """One statement before and after. Times in milliseconds, one a repetition."""

    sql: str
    before_ms: tuple[float, ...]
    after_ms: tuple[float, ...]
    ratio: Ratio
    rows: int
    same_result: bool
    difference: str
    plan_before: tuple[Node, ...]
    plan_after: tuple[Node, ...]
    uses_index: bool


class IndexTrial(msgspec.Struct, frozen=True):
    """A trial of an index."""

    ddl: str
    name: str
    build_ms: float
    size_bytes: int
    statements: tuple[Measured, ...]


def index_name(ddl: str) -> str:
    """The name in a CREATE INDEX statement. Raises AskLessError not-an-index where it is no such statement."""
    try:
        parsed = sqlglot.parse(ddl, read="sqlite")
    except sqlglot.errors.SqlglotError:
        parsed = []
    only = parsed[0] if len(parsed) == 1 else None
    if not isinstance(only, exp.Create) or only.kind != "INDEX":
        raise AskLessError(
            "not-an-index",
            "--index takes one CREATE INDEX statement",
            "for example: CREATE INDEX by_vessel ON port_call (vessel_id)",
        )
    named = only.this.this if only.this is not None else None
    return named.name if named is not None else ""


def checked_select(sql: str) -> None:
    """A trial runs the statement: only one SELECT. Raises AskLessError not-a-select."""
    try:
        parsed = sqlglot.parse(sql, read="sqlite")
    except sqlglot.errors.SqlglotError:
        parsed = []
    if len(parsed) != 1 or not isinstance(parsed[0], exp.Query):
        raise AskLessError(
            "not-a-select", "a trial runs the statement, so it takes one SELECT", "name a SELECT with --sql"
        )


def try_index(
    url: URL, ddl: str, statements: Sequence[tuple[str, Arguments]], progress: Callable[[str], None] = lambda text: None
) -> IndexTrial:
    """Try an index for some statements.

    Raises AskLessError: not-an-index, not-a-select, index-refused, cant-explain, database-missing, disk-full.
    """
    name = index_name(ddl)
    for sql, _ in statements:
        checked_select(sql)
    with tempfile.TemporaryDirectory(prefix="askless-trial-") as folder:
        plain, indexed = Path(folder) / "plain.db", Path(folder) / "indexed.db"
        progress("copying the database")
        _copy(url, plain)
        shutil.copyfile(plain, indexed)
        progress("building the index on the copy")
        build_ms, size = _build(indexed, ddl)
        measured = []
        for sql, arguments in statements:
            progress("measuring")
            measured.append(_measure(plain, indexed, sql, arguments, name))
    return IndexTrial(ddl, name, build_ms, size, tuple(measured))


def _copy(url: URL, target: Path) -> None:
    source = file_of(url)
    free = shutil.disk_usage(target.parent).free
    if source.stat().st_size * 2.5 > free:
        raise AskLessError(
            "disk-full",
            f"a trial needs two copies of {source} ({source.stat().st_size / 1024**2:,.0f} MiB each) in {target.parent}",
            "set TMPDIR to a folder with room",
        )
    with connect(url) as connection:
        raw: Any = connection.connection.driver_connection
        with closing(sqlite3.connect(target)) as copy:
            raw.backup(copy)


def _build(path: Path, ddl: str) -> tuple[float, int]:
    """Create the index; how long that took in milliseconds, and how many bytes the file grew."""
    with closing(sqlite3.connect(path, isolation_level=None)) as connection:
        before = _used_bytes(connection)
        start = time.perf_counter()
        try:
            connection.execute(ddl)
        except sqlite3.Error as error:
            raise AskLessError(
                "index-refused", f"the index can't be built: {error}", "check table and column names"
            ) from None
        return (time.perf_counter() - start) * 1e3, _used_bytes(connection) - before


def _used_bytes(connection: sqlite3.Connection) -> int:
    pages, free, size = (
        int(connection.execute(f"PRAGMA {name}").fetchone()[0])
        for name in ("page_count", "freelist_count", "page_size")
    )
    return (pages - free) * size


def _measure(plain: Path, indexed: Path, sql: str, arguments: Arguments, name: str) -> Measured:
    plans = []
    for path in (plain, indexed):
        with connect(URL.create("sqlite", database=str(path))) as connection:
            plans.append(explain(connection, sql, arguments))
    with closing(_read_only(plain)) as before, closing(_read_only(indexed)) as after:
        try:
            rows_before, rows_after = (connection.execute(sql, arguments).fetchall() for connection in (before, after))
        except sqlite3.Error as error:
            raise AskLessError(
                "cant-run", f"the statement can't be run: {error}", "check the statement and its parameters"
            ) from None
        difference = first_difference(rows_before, rows_after, _is_ordered(sql))
        times = _times(before, after, sql, arguments)
    return Measured(
        sql=sql,
        before_ms=tuple(times[0]),
        after_ms=tuple(times[1]),
        ratio=ratio_of_medians(times[0], times[1]),
        rows=len(rows_before),
        same_result=not difference,
        difference=difference,
        plan_before=plans[0],
        plan_after=plans[1],
        uses_index=any(node.index == name for node in walk(plans[1])),
    )


def _read_only(path: Path) -> sqlite3.Connection:
    connection = sqlite3.connect(path, isolation_level=None)
    connection.execute("PRAGMA query_only = 1")
    return connection


def _times(
    before: sqlite3.Connection, after: sqlite3.Connection, sql: str, arguments: Arguments
) -> tuple[list[float], list[float]]:
    """Interleaved repetitions after a warm-up, who goes first taking turns: drift hits both sides alike."""
    sides: tuple[list[float], list[float]] = ([], [])
    spent = 0.0
    for turn in range(-WARM_UPS, REPETITIONS_MOST):
        pairs = [(before, 0), (after, 1)]
        for connection, side in pairs if turn % 2 else reversed(pairs):
            start = time.perf_counter()
            connection.execute(sql, arguments).fetchall()
            taken = time.perf_counter() - start
            if turn >= 0:
                sides[side].append(taken * 1e3)
                spent += taken
        if turn + 1 >= REPETITIONS_LEAST and spent > BUDGET_S:
            break
    return sides


def _is_ordered(sql: str) -> bool:
    return sqlglot.parse_one(sql, read="sqlite").args.get("order") is not None


def first_difference(before: Sequence[tuple[Any, ...]], after: Sequence[tuple[Any, ...]], ordered: bool) -> str:
    """'' where both results hold the same rows (in the same order, if ordered), else the first difference in words."""
    only_before, only_after = Counter(before) - Counter(after), Counter(after) - Counter(before)
    if only_before or only_after:
        lost, gained = sum(only_before.values()), sum(only_after.values())
        sample = next(iter(only_before or only_after))
        return f"{lost} rows lost, {gained} rows gained; first: {sample!r}"
    if ordered and list(before) != list(after):
        place = next(i for i, (a, b) in enumerate(zip(before, after, strict=True)) if a != b)
        return f"the same rows in another order, from row {place + 1} on"
    return ""
