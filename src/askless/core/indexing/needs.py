"""What one statement wants of each of its tables, as far as an index could help."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import msgspec

from askless.core.records.schema import Schema, Table
from askless.core.sql.structure import Predicate, Structure
from askless.core.systems import is_cut

# (table, conditions) -> the share of the table's rows that they keep; None if that is not known.
Shares = Callable[[str, Sequence[Predicate]], float | None]

_DEFAULTS = {"=": 0.01, "in": 0.01, "between": 0.1, "is null": 0.05}
_RANGES = (">", ">=", "<", "<=", "between")


class Link(msgspec.Struct, frozen=True):
    """A join: this table's column equals another table's. `again`: it is looked up for each row of
    that one, and no other way.
    """

    column: str
    other: str
    outer: bool
    again: bool = False


class Need(msgspec.Struct, frozen=True):
    """What a statement wants of one table. Names are lower case. `used` is None if it wants whole
    rows.

    `equal` and `ranges` hold the conditions by column; `order` is what the whole statement is
    ordered by, if that is this table's alone; `group` likewise.
    """

    table: Table
    equal: dict[str, tuple[Predicate, ...]]
    ranges: dict[str, tuple[Predicate, ...]]
    links: tuple[Link, ...]
    order: tuple[tuple[str, bool], ...]
    group: tuple[str, ...]
    used: frozenset[str] | None
    # of each OR, the column of each side and the share that it keeps
    either: tuple[tuple[tuple[str, float], ...], ...]
    share_kept: float  # share of the rows that all conditions keep
    # of the rows that the conditions on these columns keep
    share: Callable[[tuple[str, ...]], float]


def needs_of(structure: Structure, schema: Schema, shares: Shares) -> list[Need]:
    """The needs of a statement, a table each, in the order in which it names them. Tables not in
    the schema are omitted.
    """
    names = list(dict.fromkeys(name.lower() for name in structure.tables))
    tables = [table for table in map(schema.table, names) if table is not None]
    return [_need(structure, table, schema, shares) for table in tables]


def _is_of(predicate: Predicate, table: Table) -> bool:
    """Whether a predicate is about a column of a table."""
    column = predicate.column
    return column.table.lower() == table.name.lower() and table.column(column.name) is not None


# What no index answers still keeps rows out: one in ten remains, for want of anything better.
_UNINDEXED_SHARE = 0.1


def _is_unindexed(predicate: Predicate, table: str) -> bool:
    inside = predicate.inside or predicate.operator in ("like", "ilike")
    return inside and predicate.column.table.lower() == table


_Conditions = dict[str, tuple[Predicate, ...]]


def _conditions(structure: Structure, table: Table) -> tuple[_Conditions, _Conditions]:
    """The predicates that narrow a search by a column: (by =, by a range)."""
    equal: _Conditions = {}
    ranges: _Conditions = {}
    for predicate in structure.predicates:
        if not predicate.filters or predicate.inside or not _is_of(predicate, table):
            continue
        column, operator = predicate.column.name.lower(), predicate.operator
        if operator == "is null" or (operator in ("=", "in", "any") and predicate.slots):
            equal[column] = (*equal.get(column, ()), predicate)
        elif operator in _RANGES:
            ranges[column] = (*ranges.get(column, ()), predicate)
    return equal, ranges


def _used(structure: Structure, table: Table, cut: set[str]) -> frozenset[str] | None:
    """The columns that a statement needs of a table; None if it needs the row itself: for all
    columns, for the whole of one that indexes cut, or to write it.
    """
    names = (table.name.lower(), "")
    used = {column.name.lower() for column in structure.used if column.table.lower() in names}
    if "*" in used or not structure.used or structure.kind != "select" or used & cut:
        return None
    return frozenset(column for column in used if table.column(column) is not None)


def _need(structure: Structure, table: Table, schema: Schema, shares: Shares) -> Need:
    name = table.name.lower()
    equal, ranges = _conditions(structure, table)
    by_column = {**ranges, **equal}

    def share(columns: tuple[str, ...]) -> float:
        chosen = [p for column in columns for p in by_column.get(column, ())]
        return _share(table, chosen, schema, shares) if chosen else 1.0

    # An index that holds the beginning of a text finds rows by it: the text itself, and its order,
    # are in the row.
    cut = {column.name.lower() for column in table.columns if is_cut(column.type, schema.system)}
    order, group = _order(structure, name), _group(structure, name)
    either = tuple(
        tuple((p.column.name.lower(), _share(table, [p], schema, shares)) for p in sides)
        for sides in structure.either
        if all(_is_of(p, table) for p in sides)
    )
    remaining = share(tuple(by_column))
    for sides in either:
        remaining *= min(sum(share_ for _, share_ in sides), 1.0)
    remaining *= _UNINDEXED_SHARE ** sum(_is_unindexed(p, name) for p in structure.predicates)
    return Need(
        table=table,
        equal=equal,
        ranges=ranges,
        links=tuple(_links(structure, name)),
        order=() if cut & {column for column, _ in order} else order,
        group=() if cut & set(group) else group,
        used=_used(structure, table, cut),
        either=either,
        share_kept=max(remaining, 1e-9),
        share=share,
    )


def _all_of(columns: Sequence[object], table: str) -> bool:
    return bool(columns) and all(
        getattr(column, "table", "").lower() == table for column in columns
    )


def _order(structure: Structure, table: str) -> tuple[tuple[str, bool], ...]:
    if (
        not _all_of([column for column, _ in structure.order_by], table)
        or structure.group_by
        or structure.aggregates
    ):
        return ()
    return tuple((column.name.lower(), descending) for column, descending in structure.order_by)


def _group(structure: Structure, table: str) -> tuple[str, ...]:
    return (
        tuple(c.name.lower() for c in structure.group_by)
        if _all_of(structure.group_by, table)
        else ()
    )


def _links(structure: Structure, table: str) -> list[Link]:
    results = []
    for join in structure.joins:
        for side, other in ((join.left, join.right), (join.right, join.left)):
            if side.table.lower() == table and other.table.lower() != table:
                results.append(Link(side.name.lower(), other.table.lower(), join.outer))
    for one in structure.correlations:
        if one.inner.table.lower() == table and one.around.table.lower() != table:
            results.append(
                Link(one.inner.name.lower(), one.around.table.lower(), True, one.per_row)
            )
    return results


def _share(table: Table, predicates: list[Predicate], schema: Schema, shares: Shares) -> float:
    rows = max(table.rows or 0, 1)
    known = shares(table.name, predicates)
    if known is not None:
        return max(known, 0.5 / rows)
    share = 1.0
    for predicate in predicates:
        share *= _alone(table, predicate, schema, rows)
    return max(share, 0.5 / rows)


def _alone(table: Table, predicate: Predicate, schema: Schema, rows: int) -> float:
    """One condition's share, from what the schema says of its column."""
    column = table.column(predicate.column.name)
    times = max(len(predicate.slots), 1) if predicate.operator == "in" else 1
    if predicate.operator in ("=", "in", "any"):
        if schema.is_unique(table.name, predicate.column.name):
            return min(times / rows, 1.0)
        if column is not None and column.distinct:
            return min(times / column.distinct, 1.0)
    return min(_DEFAULTS.get(predicate.operator, 0.3) * times, 1.0)


def distinct_of(table: Table, column: str, schema: Schema) -> float:
    """About how many values a column has."""
    rows = float(max(table.rows or 0, 1))
    result = table.column(column)
    if schema.is_unique(table.name, column):
        return rows
    if result is not None and result.distinct:
        return result.distinct
    key = schema.foreign_key(table.name, column)
    parent = schema.table(key.table) if key is not None else None
    if parent is not None and parent.rows:
        return float(min(parent.rows, rows))
    return max(rows / 10, 1.0)
