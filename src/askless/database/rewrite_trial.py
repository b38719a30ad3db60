"""Tries a rewritten statement against the first one: the same rows for each set of values, then
interleaved times.
"""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress

import msgspec
import sqlalchemy
from sqlalchemy.engine import URL, Connection
from sqlalchemy.exc import SQLAlchemyError
from sqlglot import exp

from askless.core.errors import AskLessError
from askless.core.plans.tree import Node
from askless.core.progress import Progress, quiet
from askless.core.records.schema import Schema
from askless.core.sql.functions import CHANGING, functions_in
from askless.core.sql.guarantees import caveats_of, question_of
from askless.core.sql.slots import Value
from askless.core.sql.statements import checked_select, qualified_tables, tables_in
from askless.core.sql.structure_store import structure_of
from askless.core.sql.sum_tolerance import magnitudes
from askless.core.statistics import Ratio, ratio_of_turns
from askless.core.trials.result_comparison import Difference, difference, is_rounding, other_columns
from askless.database.connecting import connect
from askless.database.driver_query import DriverQuery
from askless.database.explaining import attempt, explain, query_of
from askless.database.preflight import check_quiet
from askless.database.private_copies import copies
from askless.database.servers import Limits, server_of
from askless.database.statement_execution import Rows, execute
from askless.database.synthetic_rows import SyntheticRows, planted, plantings, reverse
from askless.database.timing import bytes_of, interleaved, runner

SETS_MOST = 5  # sets of values with which harder data is looked at


class Values(msgspec.Struct, frozen=True):
    """Values for both statements: parameters and their names, on each side."""

    before: tuple[tuple[Value, ...], tuple[str, ...]] = ((), ())
    after: tuple[tuple[Value, ...], tuple[str, ...]] = ((), ())


class Side(msgspec.Struct, frozen=True):
    """What one statement did, over all sets of values. Times in milliseconds, one a repetition."""

    sql: str
    times_ms: tuple[float, ...]
    rows: int
    bytes: int
    plan: tuple[Node, ...]
    work_unit: str = ""
    work: int = 0


class RewriteTrial(msgspec.Struct, frozen=True):
    """A trial of a rewriting. `differs_at` is the set of values (from 1) that showed the first
    difference, 0 for none.

    Nothing is timed where the results differ: `ratio` is None then. `doubts` are what the texts
    leave to chance, `harder` what was planted in copies of the tables without making a difference.
    """

    system: str
    sets: int
    before: Side
    after: Side
    ratio: Ratio | None
    difference: Difference | None
    differs_at: int
    columns_before: tuple[str, ...]
    columns_after: tuple[str, ...]
    doubts: tuple[str, ...] = ()
    harder: tuple[str, ...] = ()


def _pairs(
    connection: Connection, before: str, after: str, values: Sequence[Values]
) -> list[tuple[DriverQuery, DriverQuery]]:
    """Both statements with each set of values."""
    return [
        (
            _query(connection, before, *one.before, "before"),
            _query(connection, after, *one.after, "after"),
        )
        for one in values
    ]


class _Comparison:
    """Two statements' results, added up over sets of values, up to the first that differs."""

    def __init__(self) -> None:
        self.names: list[list[str]] = [[], []]
        self.rows = [0, 0]
        self.sizes = [0, 0]
        self.difference: Difference | None = None
        self.differs_at = 0
        self.rounded = False  # some results differ in the last digits only


def _compared(
    connection: Connection,
    texts: tuple[str, str],
    pairs: Sequence[tuple[DriverQuery, DriverQuery]],
    backend: str,
    limits: Limits,
    progress: Progress,
) -> _Comparison:
    total = _Comparison()
    for turn, pair in enumerate(pairs, 1):
        progress(f"comparing results, {turn} of {len(pairs)}")
        results = []
        for side, query in enumerate(pair):
            with attempt(connection, limits):
                total.names[side], result = execute(connection, query)
            total.rows[side] += len(result)
            total.sizes[side] += bytes_of(result)
            results.append(result)
        before, after = total.names
        question = question_of(*texts, backend, before)
        differs: Difference | None
        if len(before) != len(after):
            differs = other_columns(len(before), len(after))
        else:
            differs = difference(results[0], results[1], question)
        if differs is not None and _rounded_only(connection, pair[0], results, limits):
            differs, total.rounded = None, True
        if differs is not None:
            _check_repeatable(connection, pair[0], results[0], limits)
            total.difference, total.differs_at = differs, turn
            break
    return total


def try_rewrite(
    url: URL,
    before: str,
    after: str,
    values: Sequence[Values],
    limits: Limits | None = None,
    progress: Progress = quiet,
) -> RewriteTrial:
    """Compare, with harder data too where the limits say so, then measure.

    Raises AskLessError: not-a-select, server-busy, not-repeatable, nothing-to-compare, and what the
    database says.
    """
    limits = limits or Limits()
    backend = url.get_backend_name()
    trees = [checked_select(text, backend) for text in (before, after)]
    tables = tuple(dict.fromkeys(name for tree in trees for name in tables_in(tree)))
    with connect(url, limits) as connection:
        progress("checking for other sessions")
        check_quiet(connection, tables, limits)
        pairs = _pairs(connection, before, after, values or [Values()])
        outcome = _compared(connection, (before, after), pairs, backend, limits, progress)
        differs, differs_at = outcome.difference, outcome.differs_at
        if differs is None and not any(outcome.rows):
            raise AskLessError(
                "nothing-to-compare",
                "neither statement returns rows for these values; nothing to compare",
                "provide values that match rows, with --parameters or a capture",
            )
        hard: Sequence[str] = ()
        left_open: tuple[str, ...] = ()
        if limits.harder and differs is None:
            progress("adding synthetic rows to copies of the tables")
            planting = _harder(url, limits, pairs, tables, trees)
            hard, differs, differs_at = planting.done, planting.difference, planting.differs_at
            left_open = tuple(planting.left_open)
        plans = [explain(connection, query, limits=limits) for query in pairs[0]]
        works = _works(connection, pairs[0], limits)
        times: tuple[tuple[float, ...], ...] = ((), ())
        doubts: tuple[str, ...] = ()
        if differs is None:
            progress("measuring")
            times = interleaved([runner(connection, side) for side in zip(*pairs, strict=True)])
            doubts = caveats_of(before, after, backend, _keys(connection, tables))
            doubts = (*doubts, *left_open, *[_ROUNDED] * outcome.rounded)
        sides = [
            Side(query.text, times[i], outcome.rows[i], outcome.sizes[i], plans[i], *works[i])
            for i, query in enumerate(pairs[0])
        ]
        return RewriteTrial(
            system=server_of(connection).system(connection),
            sets=len(pairs),
            before=sides[0],
            after=sides[1],
            ratio=ratio_of_turns(times[0], times[1]) if differs is None else None,
            difference=differs,
            differs_at=differs_at,
            columns_before=tuple(outcome.names[0]),
            columns_after=tuple(outcome.names[1]),
            doubts=doubts,
            harder=tuple(hard),
        )


_ROUNDED = (
    "sums of floating-point numbers differ in their last digits, as expected when the order of "
    "addition changes"
)


def _rounded_only(
    connection: Connection, query: DriverQuery, results: Sequence[Rows], limits: Limits
) -> bool:
    """Whether results differ by no more than the order of adding makes; the statement is asked once
    more, for sizes.
    """
    text = magnitudes(query.sql, query.system)
    if not text or len(results[0]) != len(results[1]):
        return False
    try:
        with attempt(connection, limits):
            _, sizes = execute(connection, msgspec.structs.replace(query, sql=text))
    except AskLessError:
        return False
    return is_rounding(results[0], results[1], sizes)


class _Planting:
    """Two statements on harder data, up to the first difference: what was planted without making
    one, and what the first statement leaves open there.
    """

    def __init__(self) -> None:
        self.done: list[str] = []
        self.left_open: list[str] = []
        self.difference: Difference | None = None
        self.differs_at = 0


def _harder(
    url: URL,
    limits: Limits,
    pairs: Sequence[tuple[DriverQuery, DriverQuery]],
    tables: Sequence[str],
    trees: Sequence[exp.Expression],
) -> _Planting:
    """The pairs compared with each thing planted. Raises AskLessError no-copies."""
    named = [name for tree in trees for name in qualified_tables(tree)]
    if named:
        raise AskLessError(
            "no-copies",
            f"the statement names a schema ({named[0]}), so a copy can't replace the table",
            "remove the schema or --synthetic-rows",
        )
    total = _Planting()
    ordered = {
        column.name.lower()
        for tree in trees
        for entry in tree.find_all(exp.Ordered)
        for column in entry.find_all(exp.Column)
    }
    with copies(url, limits, tables) as (connection, schema):
        for planting in plantings(schema, tables, _used(pairs[0]), ordered):
            with planted(connection, planting) as possible:
                if not possible:
                    continue
                turn, differs = _first_difference(connection, pairs, limits)
                if differs is None:
                    total.done.append(planting.words)
                elif _is_determined(connection, pairs[turn - 1][0], schema, tables, limits):
                    text = f"with {planting.words}: {differs.text}"
                    total.difference = msgspec.structs.replace(differs, text=text)
                    total.differs_at = turn
                    break
                else:
                    total.left_open.append(_LEFT_OPEN.format(planting.words))
    return total


_LEFT_OPEN = (
    "with {}, the first statement's own rows or their order depend on how the table is stored, so "
    "the two could not be compared there"
)


def _first_difference(
    connection: Connection, pairs: Sequence[tuple[DriverQuery, DriverQuery]], limits: Limits
) -> tuple[int, Difference | None]:
    """The first set of values whose results differ, from 1, and how; (0, None) for none."""
    for turn, pair in enumerate(pairs[:SETS_MOST], 1):
        with attempt(connection, limits):
            (names, first), (_, second) = (execute(connection, query) for query in pair)
        question = question_of(pair[0].text, pair[1].text, pair[0].system, names)
        differs = difference(first, second, question)
        if differs is not None:
            return turn, differs
    return 0, None


def _gives_again(connection: Connection, query: DriverQuery, rows: Rows, limits: Limits) -> bool:
    """Whether a statement gives these rows of its own once more."""
    with attempt(connection, limits):
        names, again = execute(connection, query)
    question = question_of(query.text, query.text, query.system, names)
    return difference(rows, again, question) is None


def _is_determined(
    connection: Connection,
    query: DriverQuery,
    schema: Schema,
    tables: Sequence[str],
    limits: Limits,
) -> bool:
    """Whether a statement gives the same result when the same rows are stored in another order.
    Where they can't be, its text tells.
    """
    with attempt(connection, limits):
        _, rows = execute(connection, query)
    known = [table for name in tables if (table := schema.table(name)) is not None]
    moved = False
    for table in known:
        with planted(connection, SyntheticRows("", reverse(table))) as possible:
            moved = moved or possible
            if possible and not _gives_again(connection, query, rows, limits):
                return False
    keys = {table.name: table.primary_key for table in known if table.primary_key}
    return moved or not caveats_of(query.text, query.text, query.system, keys)


def _used(pair: Sequence[DriverQuery]) -> list[tuple[str, str]]:
    structures = [structure_of(query.text, query.system) for query in pair]
    return [
        (column.table.lower(), column.name.lower())
        for structure in structures
        if structure is not None
        for column in structure.used
    ]


def _check_repeatable(
    connection: Connection, query: DriverQuery, rows: Rows, limits: Limits
) -> None:
    """Raises AskLessError not-repeatable if the first statement does not even give its own rows
    again.
    """
    if _gives_again(connection, query, rows, limits):
        return
    called = functions_in(query.text, query.system)
    functions = ", ".join(name for name in called if name in CHANGING)
    raise AskLessError(
        "not-repeatable",
        "the first statement returns different rows when it is run again"
        + (
            f": it calls {functions}"
            if functions
            else ": its tables are being written to, or its choice of rows is arbitrary"
        ),
        "compare without that, or on a copy without writes",
    )


def _keys(connection: Connection, tables: Sequence[str]) -> dict[str, tuple[str, ...]]:
    """The primary key of each table; tables without one are omitted."""
    inspector = sqlalchemy.inspect(connection)
    keys: dict[str, tuple[str, ...]] = {}
    for table in tables:
        with suppress(SQLAlchemyError):
            columns = tuple(inspector.get_pk_constraint(table)["constrained_columns"])
            keys |= {table: columns} if columns else {}
    return keys


def _query(
    connection: Connection, text: str, parameters: Sequence[Value], names: Sequence[str], which: str
) -> DriverQuery:
    try:
        return query_of(connection, text, parameters, names)
    except AskLessError as error:
        remedy = (
            "give values with --parameters, or use a capture that contains the statement of "
            "--before"
        )
        raise AskLessError(error.slug, f"--{which}: {error.message}", remedy) from None


def _works(
    connection: Connection, pair: Sequence[DriverQuery], limits: Limits
) -> list[tuple[str, int]]:
    results = []
    for query in pair:
        with attempt(connection, limits):
            results.append(server_of(connection).work(connection, query) or ("", 0))
    return results
