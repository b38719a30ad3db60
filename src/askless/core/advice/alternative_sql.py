"""Other statements for what one statement asks: conditions for joins, rows once, numbers of rows,
children by themselves.

What can't be written safely gives ''.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sqlglot import exp

from askless.core.advice.rewriting.statements import rewritten
from askless.core.sql.names import Names
from askless.core.sql.parsing import bare, conjuncts, source_of
from askless.core.sql.structure import Structure


def by_existence(text: str, system: str) -> str:
    """A join that only filters, as a condition that there is such a row; '' where the joined table
    is needed otherwise.

    Only one inner join of two plain tables, with its conditions in ON and WHERE joined by AND.
    """

    def change(tree: exp.Select, names: Names) -> exp.Select | None:
        join = _only_inner_join(tree)
        if join is None:
            return None
        joined = join.this

        def of_joined(node: Any) -> bool:
            return any(column.table == joined.alias_or_name for column in node.find_all(exp.Column))

        where = conjuncts(tree.args.get("where"))
        unclear = any(not column.table for part in where for column in part.find_all(exp.Column))
        rest = [*tree.expressions, *([tree.args["order"]] if tree.args.get("order") else [])]
        if unclear or any(of_joined(node) for node in rest):
            return None
        inside = [join.args["on"], *(part for part in where if of_joined(part))]
        outside = [part for part in where if not of_joined(part)]
        existing = exp.select("1").from_(joined.copy()).where(*(part.copy() for part in inside))
        tree.set("joins", None)
        tree.set("where", None)
        return tree.where(*(part.copy() for part in outside), exp.Exists(this=existing), copy=False)

    return rewritten(text, system, change)


def _only_inner_join(tree: exp.Select) -> Any:
    """The one join of two plain tables, with ON; None if there is another, or the rows are
    grouped.
    """
    joins = tree.args.get("joins") or []
    if len(joins) != 1 or any(
        tree.args.get(name) for name in ("group", "having", "distinct", "windows", "with_")
    ):
        return None
    join = joins[0]
    plain = isinstance(join.this, exp.Table) and isinstance(source_of(tree), exp.Table)
    inner = not join.args.get("side") and not join.args.get("using")
    return join if plain and inner and join.args.get("on") is not None else None


def distinct(text: str, system: str) -> str:
    """Each row once; '' where the order goes by what is not among the columns."""

    def change(tree: exp.Select, names: Names) -> exp.Select | None:
        order = tree.args.get("order")
        shown = {bare(node).sql() for node in tree.expressions} | {
            node.alias_or_name for node in tree.expressions
        }
        ordered = [node.this.sql() for node in order.expressions] if order is not None else []
        if tree.args.get("group") or tree.args.get("distinct") or not set(ordered) <= shown:
            return None
        return tree.distinct(copy=False)

    return rewritten(text, system, change)


def number_of(text: str, system: str) -> str:
    """How many rows a statement gives."""

    def change(tree: exp.Select, names: Names) -> exp.Select | None:
        plain = not any(
            tree.args.get(name)
            for name in ("group", "having", "distinct", "limit", "offset", "locks")
        )
        if not plain or any(node.find(exp.AggFunc) for node in tree.expressions):
            return None
        tree.set("order", None)
        tree.set("expressions", [exp.Count(this=exp.Star())])
        return tree

    return rewritten(text, system, change)


def first_row_of(text: str, system: str, columns: Sequence[str]) -> str:
    """Of a page after an OFFSET, these columns of its first row, in the page's order; the row
    before it is one OFFSET less.
    """

    def change(tree: exp.Select, names: Names) -> exp.Select | None:
        source, limit = source_of(tree), tree.args.get("limit")
        if not isinstance(source, exp.Table) or not isinstance(limit, exp.Limit):
            return None
        tree.set("expressions", [exp.column(name, table=source.alias_or_name) for name in columns])
        return tree.limit(exp.Literal.number(1), copy=False)

    return rewritten(text, system, change)


def children_of(structure: Structure, table: str) -> str:
    """The rows of a joined table for the keys of the main one; '' where they are not joined by one
    column of each.
    """
    columns = [
        (near, far)
        for join in structure.joins
        for near, far in ((join.left, join.right), (join.right, join.left))
        if near.table == structure.main and far.table == table
    ]
    outputs = [output.column.name for output in structure.outputs if output.column.table == table]
    if len(columns) != 1 or not outputs:
        return ""
    key = columns[0][1].name
    wanted = list(dict.fromkeys([key, *outputs]))
    return f"SELECT {', '.join(wanted)}\nFROM {table}\nWHERE {key} IN (:keys)"
