"""What a plan shows, in words for someone who has never read one. Each observation stands on a node."""

from __future__ import annotations

import msgspec

from askless.core.model import Schema
from askless.core.plans import tree
from askless.core.plans.tree import Node
from askless.core.sql.structure import Structure

SMALL_TABLE_ROWS = 1000


class Observation(msgspec.Struct, frozen=True):
    """One thing seen on a node. `slug` names its kind: reads-all, sorts, builds-index, per-row, part, unservable."""

    node: Node
    slug: str
    text: str


def observe(
    plan: tuple[Node, ...], structure: Structure | None, schema: Schema, rows: int | None = None
) -> list[Observation]:
    """The observations on a plan. `rows` is what the statement returned when the application ran it, where known."""
    found: list[Observation] = []
    reads = 0
    for node in tree.walk(plan):
        if node.kind in tree.READS:
            found += _on_read(node, reads, structure, schema, rows)
            reads += 1
        elif node.kind == tree.SORT:
            found.append(_sort(node, plan, schema))
        elif node.kind == tree.SUBQUERY_PER_ROW:
            text = "this subquery runs again for every row of the query around it; a join with a GROUP BY runs once"
            found.append(Observation(node, "per-row", text))
    return found


def table_rows(schema: Schema, name: str) -> int | None:
    """How many rows a table has, where known."""
    table = schema.table(name)
    return table.rows if table is not None else None


def _on_read(
    node: Node, earlier: int, structure: Structure | None, schema: Schema, rows: int | None
) -> list[Observation]:
    found = []
    size = table_rows(schema, node.table)
    if node.kind == tree.AUTOMATIC_INDEX:
        columns = ", ".join(node.searched)
        text = f"no index fits, so the database builds one on {node.table} ({columns}) for this query alone, each time it runs"
        found.append(Observation(node, "builds-index", text))
    if node.kind == tree.FULL_SCAN and size is not None and size >= SMALL_TABLE_ROWS:
        found += _full_scan(node, earlier, size, structure, rows)
    if node.kind in (tree.INDEX_SEARCH, tree.INDEX_ONLY) and structure is not None:
        text_or_none = _partly(node, structure)
        if text_or_none:
            found.append(Observation(node, "part", text_or_none))
    if structure is not None and node.kind in (tree.FULL_SCAN, tree.INDEX_SCAN):
        found += _unservable(node, structure)
    return found


def _conditions(node: Node, structure: Structure) -> list[str]:
    """The columns of a node's table that the statement filters by."""
    return [
        predicate.column.name
        for predicate in structure.predicates
        if predicate.required and predicate.column.table.lower() == node.table.lower()
    ]


def _full_scan(node: Node, earlier: int, size: int, structure: Structure | None, rows: int | None) -> list[Observation]:
    if earlier:
        text = f"for every row found so far, all {size:,} rows of {node.table} are read: the join column has no index"
        return [Observation(node, "reads-all", text)]
    conditions = _conditions(node, structure) if structure is not None else []
    if not conditions:
        return []
    kept = ""
    if (
        rows is not None
        and structure is not None
        and not structure.joins
        and not structure.aggregates
        and not structure.group_by
    ):
        kept = f" to keep {rows:,}"
    by = ", ".join(dict.fromkeys(conditions))
    return [Observation(node, "reads-all", f"reads all {size:,} rows of {node.table}{kept}: no index answers {by}")]


def _sort(node: Node, plan: tuple[Node, ...], schema: Schema) -> Observation:
    biggest = max((table_rows(schema, n.table) or 0 for n in tree.walk(plan) if n.kind in tree.READS), default=0)
    tail = "; an index in this order would deliver the rows sorted" if biggest >= SMALL_TABLE_ROWS else ""
    part = (
        " the last columns of the order are sorted after the index has done the rest"
        if "TERM" in node.detail or "RIGHT" in node.detail
        else ""
    )
    return Observation(node, "sorts", f"sorts its rows before it returns the first one{tail}{part}")


def _partly(node: Node, structure: Structure) -> str:
    answered = {column.lower() for column in node.searched}
    joined = {
        side.name.lower()
        for join in structure.joins
        for side in (join.left, join.right)
        if side.table.lower() == node.table.lower()
    }
    left = [column for column in dict.fromkeys(_conditions(node, structure)) if column.lower() not in answered | joined]
    if not left or not answered:
        return ""
    return f"the index answers {', '.join(node.searched)}; {', '.join(left)} is checked on each row afterwards"


def _unservable(node: Node, structure: Structure) -> list[Observation]:
    found = []
    for predicate in structure.predicates:
        if predicate.column.table.lower() == node.table.lower() and predicate.inside:
            text = f"{predicate.inside}() around {predicate.column.name} hides it from an index on that column"
            found.append(Observation(node, "unservable", text))
    return found
