"""What a statement costs with a set of indexes: a small model of a planner, to choose between
indexes and for nothing else.

Access paths as in Selinger et al. 1979 (Access Path Selection in a Relational Database Management
System); pages fetched through an index as in Mackert and Lohman 1989; the unit is one page read in
sequence, with the weights that PostgreSQL ships. A cost is not a time, and no report shows one.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from itertools import permutations

import msgspec

from askless.core.indexing.needs import Need, distinct_of
from askless.core.records.schema import Index, Schema, Table
from askless.core.sql.structure import Structure
from askless.core.systems import Traits, system_of

PAGE_BYTES = 8192
SEQUENTIAL, ROW, ENTRY, OPERATOR = 1.0, 0.01, 0.005, 0.0025
POINTER_BYTES = 12
TABLES_MOST = 4  # tables of one statement whose order is permuted
LIMIT_DEFAULT = 50


class Path(msgspec.Struct, frozen=True):
    """One way to read a table: what it costs, the rows that it touches and gives, whether they come
    in the order wanted.
    """

    cost: float
    touched: float
    rows: float
    ordered: bool
    index: Index | None
    also: tuple[Index, ...] = ()  # further ones that it reads next to the first
    # rows that come with equal values of the first columns of the order, if no more of it is kept
    run: float | None = None


class Outcome(msgspec.Struct, frozen=True):
    """The best way to run a statement: its cost, the rows touched by table, the indexes used,
    whether rows are sorted.
    """

    cost: float
    touched: dict[str, float]
    used: tuple[Index, ...]
    sorts: bool = False


def width_of(need_columns: Sequence[str], need: Need) -> float:
    """Mean bytes of some columns together."""
    return sum(
        (column.width_bytes or 8.0)
        for column in (need.table.column(c) for c in need_columns)
        if column is not None
    )


def _rows(need: Need) -> float:
    return float(max(need.table.rows or 0, 1))


def _pages(need: Need) -> float:
    rows = _rows(need)
    if need.table.bytes:
        return max(need.table.bytes / PAGE_BYTES, 1.0)
    return max(rows * (width_of([c.name for c in need.table.columns], need) + 28) / PAGE_BYTES, 1.0)


def _fetched(pages: float, entries: float) -> float:
    """Pages of the table that so many entries of an index lead to."""
    return min(2 * pages * entries / (2 * pages + entries), pages)


def _leaves(need: Need, columns: Sequence[str], rows: float) -> float:
    """Pages of an index's lowest level."""
    return max(rows * (width_of(columns, need) + POINTER_BYTES) / PAGE_BYTES / 0.9, 1.0)


def _descent(rows: float) -> float:
    """Finding the first entry of an index."""
    return (math.log2(max(rows, 2)) + 100) * OPERATOR


def scan(need: Need) -> Path:
    """Reading the whole table."""
    rows = _rows(need)
    part = _partitions_read(need)
    checks = len(need.equal) + len(need.ranges)
    cost = part * (_pages(need) * SEQUENTIAL + rows * (ROW + checks * OPERATOR))
    return Path(cost, part * rows, max(rows * need.share_kept, 1.0), False, None)


def _partitions_read(need: Need) -> float:
    """The share of a table's partitions that the conditions on their key leave to be read."""
    by, count = need.table.partitioned_by, need.table.partitions
    keys = tuple(name.lower() for name in by if name.lower() in {*need.equal, *need.ranges})
    if not keys or not count:
        return 1.0
    return min((math.floor(need.share(keys) * count) + 1) / count, 1.0)


def _lower(names: Sequence[str]) -> list[str]:
    return [name.lower() for name in names]


def _covers(need: Need, index: Index, key: Sequence[str]) -> bool:
    """Whether an index holds all columns that are needed. `key` has those of the primary key that
    every index carries.
    """
    if need.used is None or index.kind == "hash":
        return False
    carried = {*index.lowered, *_lower(index.include), *key}
    return need.used <= carried


def _conditions(need: Need, columns: Sequence[str], bound: frozenset[str]) -> tuple[list[str], int]:
    """(columns of an index whose conditions narrow a search, how many of its columns lead): those
    that are compared by = or joined, up to the first range.
    """
    conditions: list[str] = []
    for matched, column in enumerate(columns):
        if column in bound:
            continue
        if column in need.equal:
            conditions.append(column)
        elif column in need.ranges:
            return [*conditions, column], matched + 1
        else:
            return conditions, matched
    return conditions, len(columns)


def _checked(need: Need, columns: list[str], conditions: list[str]) -> tuple[str, ...]:
    """Columns of an index after those that lead: their conditions can still be checked there,
    before a row is fetched.
    """
    compared = {*need.equal, *need.ranges}
    return tuple(c for c in columns if c in compared and c not in conditions)


def _is_many(need: Need, conditions: Sequence[str]) -> bool:
    """Whether several values of a column make several ranges of an index, one behind the other."""
    return any(len(p.slots) > 1 for c in conditions for p in need.equal.get(c, ()))


def search(
    need: Need,
    index: Index,
    bound: frozenset[str],
    traits: Traits,
    schema: Schema,
    want_order: bool,
) -> list[Path]:
    """Ways to read by an index: rows as they lie, and in the index's order where that is wanted;
    none where it has nothing to offer. `bound` columns have a value from another table's row.
    """
    rows = _rows(need)
    columns = list(index.lowered)
    if not _may_find(need, index, bound):
        return []
    key = _lower(need.table.primary_key) if traits.clustered else []
    by_key = key == columns != []
    covering = by_key or _covers(need, index, key)
    conditions, matched = _conditions(need, columns, bound)
    share = need.share(tuple(conditions))
    share *= _share_of_keys(need.table, bound.intersection(columns[:matched]), schema)
    wants = want_order and index.kind != "hash" and not _is_many(need, conditions)
    delivers, run = _order_of(need, columns, bound, schema) if wants else (False, None)
    if not (matched or delivers or run) and (by_key or not covering):
        return []
    checked = _checked(need, columns, conditions)
    entries = max(rows * share, 0.5)
    fetched = max(entries * need.share(checked), 0.5)
    leaves = _pages(need) if by_key else _leaves(need, columns, rows)
    cost = _descent(rows)
    cost += math.ceil(leaves * share) * (traits.random if matched else SEQUENTIAL)
    cost += entries * (ENTRY + (len(conditions) + len(checked) + 1) * OPERATOR) + fetched * ROW
    given = _rows_given(need, bound, schema)
    result = Path(cost, entries, given, delivers, index, run=run)
    return [result] if covering else _with_heap(result, _heap(need, columns, fetched, traits))


def _may_find(need: Need, index: Index, bound: frozenset[str]) -> bool:
    """Whether an index finds anything: a hash does if each column is set equal to one value."""
    return index.kind != "hash" or all(
        column in bound or any(p.operator == "=" and p.slots for p in need.equal.get(column, ()))
        for column in index.lowered
    )


def _rows_given(need: Need, bound: frozenset[str], schema: Schema) -> float:
    """Rows that remain of a table for one row of those it is joined with."""
    joined = _share_of_keys(need.table, bound, schema)
    return max(_rows(need) * need.share_kept * joined, 1e-3 if bound else 1.0)


def _share_of_keys(table: Table, columns: Iterable[str], schema: Schema) -> float:
    """The share of a table's rows that have one value of each of these columns."""
    share = 1.0
    for column in columns:
        share /= distinct_of(table, column, schema)
    return share


def _with_heap(path: Path, heap: tuple[float, float]) -> list[Path]:
    """The ways to fetch the rows that an index names: as they lie, or in the index's order."""
    scattered, in_order = heap
    in_turn = msgspec.structs.replace(path, cost=path.cost + in_order)
    keeps = path.ordered or path.run is not None
    if keeps and in_order <= scattered:
        return [in_turn]
    cost = path.cost + min(scattered, in_order)
    cheapest = msgspec.structs.replace(path, cost=cost, ordered=False, run=None)
    return [cheapest, in_turn] if keeps else [cheapest]


def union(need: Need, indexes: Sequence[Index], traits: Traits) -> list[Path]:
    """Reading what each side of an OR finds by an index of its own; none where a side has no
    index.
    """
    rows, results = _rows(need), []
    for sides in need.either:
        chosen = [
            next((one for one in indexes if one.columns and one.lowered[0] == column), None)
            for column, _ in sides
        ]
        paths = [one for one in chosen if one is not None]
        if len(paths) < len(sides):
            continue
        cost = entries = 0.0
        for index, (_, share) in zip(paths, sides, strict=True):
            columns = index.lowered
            cost += _descent(rows) + math.ceil(_leaves(need, columns, rows) * share) * traits.random
            cost += max(rows * share, 0.5) * (ENTRY + 2 * OPERATOR)
            entries += max(rows * share, 0.5)
        fetched = min(entries, rows)
        cost += _heap(need, [column for column, _ in sides], fetched, traits)[0] + fetched * (
            ROW + OPERATOR
        )
        first, *also = dict.fromkeys(paths)
        results.append(
            Path(cost, fetched, max(rows * need.share_kept, 1.0), False, first, tuple(also))
        )
    return results


def _heap(
    need: Need, columns: Sequence[str], entries: float, traits: Traits
) -> tuple[float, float]:
    """Fetching rows page by page as they lie, and one by one in the order of an index.

    In an index's order a page is read again and again, unless the rows lie on disk in the order of
    its first column: the square of the correlation says how much of that comes true, as in
    PostgreSQL's cost_index.
    """
    pages = _pages(need)
    touched = max(_fetched(pages, entries), 1.0)
    scattered = touched * (
        traits.random - (traits.random - SEQUENTIAL) * math.sqrt(touched / pages)
    )
    leading = need.table.column(columns[0])
    correlation = (leading.correlation or 0.0) if leading is not None else 0.0
    if len(columns) > 1:
        correlation *= 0.75
    worst = touched * traits.random
    dense = math.ceil(pages * min(entries / _rows(need), 1.0))
    best = traits.random + max(dense - 1, 0) * SEQUENTIAL
    return scattered + entries * ROW / 10, worst + correlation**2 * (min(best, worst) - worst)


def _delivers(need: Need, columns: Sequence[str], bound: frozenset[str]) -> bool:
    """Whether an index gives the rows in the order wanted: what has one value may stand
    anywhere.
    """
    wanted = [
        (column, down)
        for column, down in need.order
        if column not in need.equal and column not in bound
    ]
    if not wanted:
        return bool(need.order)
    if len({down for _, down in wanted}) > 1:
        return False
    remaining = [column for column in columns if column not in need.equal and column not in bound]
    return remaining[: len(wanted)] == [column for column, _ in wanted]


def _first_ordered(need: Need, columns: Sequence[str], bound: frozenset[str]) -> str | None:
    """The first column of the order, if an index gives the rows by it."""
    fixed = {*need.equal, *bound}
    wanted = [column for column, _ in need.order if column not in fixed]
    remaining = [column for column in columns if column not in fixed]
    return wanted[0] if wanted and remaining and remaining[0] == wanted[0] else None


def _order_of(
    need: Need, columns: Sequence[str], bound: frozenset[str], schema: Schema
) -> tuple[bool, float | None]:
    """(whether an index gives the rows in the order wanted, else how long its runs are)."""
    delivers = _delivers(need, columns, bound)
    return delivers, None if delivers else _run(need, columns, bound, schema)


def _run(need: Need, columns: Sequence[str], bound: frozenset[str], schema: Schema) -> float | None:
    """How many rows in a row have one value of the first column of the order, where an index gives
    them by that column; None where the server sorts all rows all the same, or the index has nothing
    of the order.
    """
    first = _first_ordered(need, columns, bound)
    if first is None or not system_of(schema.system).sorts_by_parts:
        return None
    return _rows(need) * need.share_kept / distinct_of(need.table, first, schema)


def best_path(
    need: Need,
    indexes: Sequence[Index],
    bound: frozenset[str],
    traits: Traits,
    schema: Schema,
    want_order: bool = False,
) -> list[Path]:
    """The cheapest way, the cheapest in the order wanted, and in runs of it, if there are any."""
    paths = [scan(need), *union(need, indexes, traits)] if not bound else []
    for index in indexes:
        paths += search(need, index, bound, traits, schema, want_order)
    remaining = [min(paths, key=lambda path: path.cost)] if paths else []
    in_order = [path for path in paths if path.ordered]
    in_runs = [path for path in paths if path.run is not None]
    cheapest = [min(group, key=lambda path: path.cost) for group in (in_order, in_runs) if group]
    return remaining + cheapest


def cost_of(
    structure: Structure,
    needs: Sequence[Need],
    indexes: dict[str, list[Index]],
    schema: Schema,
    limit: float | None,
) -> Outcome:
    """The cost of a statement with these indexes (by lower-case table name; primary keys are among
    them).
    """
    traits = system_of(schema.system).traits
    if not needs:
        return Outcome(0.0, {}, ())
    outer = any(link.outer for need in needs for link in need.links)
    orders = permutations(needs) if len(needs) <= TABLES_MOST and not outer else [tuple(needs)]
    results = [
        outcome
        for order in orders
        for outcome in _left_deep(order, structure, indexes, schema, traits, limit)
    ]
    return min(results, key=lambda outcome: outcome.cost)


def _part_of(touched: dict[str, float], part: float) -> dict[str, float]:
    return {table: max(count * part, 1.0) for table, count in touched.items()}


def _left_deep(
    order: Sequence[Need],
    structure: Structure,
    indexes: dict[str, list[Index]],
    schema: Schema,
    traits: Traits,
    limit: float | None,
) -> list[Outcome]:
    first = order[0]
    wants = bool(structure.order_by) and bool(first.order)
    results = []
    for path in best_path(
        first, indexes.get(first.table.name.lower(), []), frozenset(), traits, schema, wants
    ):
        cost, rows, touched = path.cost, path.rows, {first.table.name: path.touched}
        used = list(filter(None, [path.index, *path.also]))
        pipelined = not structure.group_by and not structure.aggregates
        seen = {first.table.name.lower()}
        for need in order[1:]:
            name = need.table.name.lower()
            bound = frozenset(link.column for link in need.links if link.other in seen)
            options = _inner(need, indexes.get(name, []), bound, rows, traits, schema)
            step = min(options, key=lambda option: option[0])
            cost += step[0]
            touched[need.table.name] = step[1]
            rows = max(rows * step[2], 1.0)
            used += filter(None, [step[3]])
            pipelined = pipelined and step[4]
            seen.add(name)
        sorts = bool(structure.order_by) and not path.ordered
        outcome = Outcome(cost, touched, tuple(used), sorts)
        results.append(_cut_off(outcome, rows, path.run, limit if pipelined else None))
    return results


def _cut_off(outcome: Outcome, rows: float, run: float | None, limit: float | None) -> Outcome:
    """The same for the rows that a limit lets through, and with the sort. Where rows are sorted run
    by run, one run more is read.
    """
    cost, touched = outcome.cost, outcome.touched
    if limit is not None and (run is not None or not outcome.sorts):
        part = min((limit + (run or 0.0)) / max(rows, 1.0), 1.0)
        cost, rows, touched = cost * part, rows * part, _part_of(touched, part)
    if outcome.sorts and rows > 1:
        cost += rows * math.log2(max(rows, 2)) * 2 * OPERATOR + rows * OPERATOR
    return msgspec.structs.replace(outcome, cost=cost, touched=touched)


def _inner(
    need: Need,
    indexes: Sequence[Index],
    bound: frozenset[str],
    outer_rows: float,
    traits: Traits,
    schema: Schema,
) -> list[tuple[float, float, float, Index | None, bool]]:
    """Ways to join a table to so many rows: (cost, rows touched, rows for each outer row, index,
    whether it streams).
    """
    options: list[tuple[float, float, float, Index | None, bool]] = []
    each = need.share_kept * _rows(need)
    for column in bound:
        each /= distinct_of(need.table, column, schema)
    for path in best_path(need, indexes, bound, traits, schema) if bound else []:
        # Rows that are looked up again and again are found in memory: pages are paid for once each.
        pages = _pages(need) * SEQUENTIAL * traits.random
        again = outer_rows * path.cost
        warm = outer_rows * (path.touched * (ROW + ENTRY) + 0.3) + min(pages, again)
        options.append((min(again, warm), outer_rows * path.touched, each, path.index, True))
    whole = min(best_path(need, indexes, frozenset(), traits, schema), key=lambda path: path.cost)
    # a value for each row: rows stay as many
    if any(link.again and link.column in bound for link in need.links):
        options = [
            (cost, touched, 1.0, index, streams) for cost, touched, _, index, streams in options
        ]
        return [
            *options,
            (outer_rows * whole.cost, outer_rows * whole.touched, 1.0, whole.index, True),
        ]
    if traits.hash_join:
        cost = whole.cost + whole.rows * (ROW + OPERATOR) + outer_rows * (ROW + OPERATOR)
    else:
        cost = (
            whole.cost
            + whole.rows * math.log2(max(whole.rows, 2)) * 4 * OPERATOR
            + outer_rows * whole.rows * OPERATOR / 10
        )
    options.append((cost, whole.touched, each, whole.index, False))
    return options
