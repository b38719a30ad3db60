"""The index advisor for one statement: columns compared for equality first, then one range or the sort.

Not advised: for small tables, where the condition keeps a large part of the table, what an existing index's first
columns already serve.
"""

from __future__ import annotations

from collections.abc import Callable

import msgspec

from askless.core.model import Schema, Table
from askless.core.plans import tree
from askless.core.plans.observations import SMALL_TABLE_ROWS
from askless.core.plans.tree import Node
from askless.core.sql.structure import Predicate, Structure

WEAK_SHARE = 0.2  # a condition that keeps more of the table than this is no work for an index
ROW_POINTER_BYTES = 9


class IndexAdvice(msgspec.Struct, frozen=True):
    """An index to try. `redundant` are existing indexes that it would make superfluous."""

    table: str
    columns: tuple[str, ...]
    name: str
    ddl: str
    why: str
    size_bytes: int
    redundant: tuple[str, ...]
    check: tuple[str, ...]


def advise(
    structure: Structure,
    plan: tuple[Node, ...],
    schema: Schema,
    kept_share: Callable[[str, list[Predicate]], float | None] = lambda table, predicates: None,
) -> list[IndexAdvice]:
    """The indexes that would help this plan. `kept_share` measures the share of a table that equalities keep."""
    found: list[IndexAdvice] = []
    reads = [node for node in tree.walk(plan) if node.kind in tree.READS]
    sorts = any(node.kind == tree.SORT for node in tree.walk(plan))
    for place, node in enumerate(reads):
        table = schema.table(node.table)
        if table is None or table.rows is None or table.rows < SMALL_TABLE_ROWS:
            continue
        advice = _for_read(node, place, sorts, structure, table, kept_share)
        if advice is not None and advice.ddl not in {known.ddl for known in found}:
            found.append(advice)
    return found


def _for_read(
    node: Node,
    place: int,
    sorts: bool,
    structure: Structure,
    table: Table,
    kept_share: Callable[[str, list[Predicate]], float | None],
) -> IndexAdvice | None:
    mine = [
        p for p in structure.predicates if p.required and not p.inside and p.column.table.lower() == table.name.lower()
    ]
    equal = [p for p in mine if p.operator in ("=", "in") and p.slots]
    ranges = [p for p in mine if p.operator in (">", ">=", "<", "<=", "between")]
    joined = _join_columns(structure, table) if place else []
    ordered = [column.name for column, _ in structure.order_by if column.table.lower() == table.name.lower()]
    first = [*dict.fromkeys([*joined, *(p.column.name for p in equal)])]
    serves_order = bool(ordered) and len(ordered) == len(structure.order_by) and not place and sorts
    poor = node.kind in (tree.FULL_SCAN, tree.AUTOMATIC_INDEX)
    if not poor and not (serves_order and node.kind in (tree.INDEX_SEARCH, tree.INDEX_SCAN)):
        return None
    columns = list(first)
    why = []
    if equal or joined:
        why.append("finds the rows by " + ", ".join(first))
    if serves_order and not any(p.operator == "in" and len(p.slots) > 1 for p in equal):
        columns += [name for name in ordered if name not in columns]
        why.append(f"delivers them in order of {', '.join(ordered)}, so nothing is sorted")
    elif ranges:
        columns += [name for name in (ranges[0].column.name,) if name not in columns]
        why.append(f"and the range of {ranges[0].column.name}")
    if not columns or not (first or ranges or (serves_order and structure.has_limit)):
        return None
    if _served(table, columns):
        return None
    share = kept_share(table.name, equal) if equal and not joined else None
    if share is not None and share > WEAK_SHARE and not (serves_order and structure.has_limit):
        return None
    if share is not None:
        why.append(f"the condition keeps {100 * share:.2g} % of {table.rows or 0:,} rows")
    return _made(table, tuple(columns), "; ".join(why))


def _join_columns(structure: Structure, table: Table) -> list[str]:
    found = []
    for join in structure.joins:
        for side in (join.left, join.right):
            if side.table.lower() == table.name.lower():
                found.append(side.name)
    return found[:1]


def _served(table: Table, columns: list[str]) -> bool:
    """Whether an existing index begins with these columns (the equality columns in any order)."""
    wanted = [name.lower() for name in columns]
    keys = [table.primary_key, *(index.columns for index in table.indexes)]
    return any([name.lower() for name in key[: len(wanted)]] == wanted for key in keys)


def _made(table: Table, columns: tuple[str, ...], why: str) -> IndexAdvice:
    name = "_".join((table.name, *columns))[:60]
    quoted = ", ".join(_quoted(column) for column in columns)
    widths = [(column.width_bytes or 8.0) for column in (table.column(c) for c in columns) if column is not None]
    lowered = tuple(column.lower() for column in columns)
    redundant = tuple(
        index.name
        for index in table.indexes
        if not index.unique and tuple(c.lower() for c in index.columns) == lowered[: len(index.columns)]
    )
    return IndexAdvice(
        table=table.name,
        columns=columns,
        name=name,
        ddl=f"CREATE INDEX {_quoted(name)} ON {_quoted(table.name)} ({quoted})",
        why=why,
        size_bytes=int((table.rows or 0) * (sum(widths) + ROW_POINTER_BYTES) * 1.1),
        redundant=redundant,
        check=("try it before you add it: askless trial measures it on a copy",),
    )


def _quoted(name: str) -> str:
    """A name as DDL takes it: bare where it can be."""
    bare = name.isidentifier() and name.isascii() and name.lower() not in _RESERVED
    return name if bare else '"' + name.replace('"', '""') + '"'


_RESERVED = {
    "order",
    "group",
    "select",
    "table",
    "index",
    "from",
    "where",
    "to",
    "by",
    "in",
    "is",
    "as",
    "and",
    "or",
    "not",
    "null",
    "default",
    "user",
    "references",
    "primary",
    "check",
}
