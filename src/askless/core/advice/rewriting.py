"""Writes the SQL that a statement becomes when advice is taken. What can't be rewritten safely gives ''."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, cast

from sqlglot import exp

from askless.core.sql.names import Names
from askless.core.sql.parsing import bare, conjuncts, is_star, parse, slot_in, source_of, trying
from askless.core.sql.structure import Column, Output

Change = Callable[[exp.Select, Names], exp.Select | None]


def rewritten(text: str, system: str, change: Change) -> str:
    """The statement after a change to its tree, literals and placeholders as they were; '' where it can't be done."""
    parsed = parse(text, system)
    if parsed is None or not isinstance(parsed.tree, exp.Select):
        return ""
    with trying():
        changed = change(parsed.tree, Names(parsed.tree))
        return parsed.written(changed, pretty=True) if changed is not None else ""
    return ""


def pretty(text: str, system: str) -> str:
    """A statement laid out for reading; as it is where it can't be parsed."""
    return rewritten(text, system, lambda tree, names: tree) or text.strip()


def _key_comparison(tree: exp.Select, names: Names, table: str, column: str) -> exp.EQ | exp.In | None:
    """The comparison of the key column with one value: `column = ?`, `? = column` or `column IN (?)`.

    Only one that every row must meet, of the statement itself; None where there are several.
    """
    wanted = Column(table.lower(), column.lower())
    results = []
    for condition in [tree.args.get("where"), *(join.args.get("on") for join in tree.args.get("joins") or ())]:
        for node in conjuncts(condition):
            side = _key_side(node)
            if side is not None:
                key = names.column(side, names.scope_of(tree))
                if Column(key.table.lower(), key.name.lower()) == wanted:
                    results.append(node)
    return cast("exp.EQ | exp.In", results[0]) if len(results) == 1 else None


def _key_side(node: Any) -> exp.Column | None:
    """The column of a comparison with one value."""
    if isinstance(node, exp.In):
        alone = len(node.expressions) == 1 and slot_in(node.expressions[0]) is not None
        return node.this if alone and isinstance(node.this, exp.Column) else None
    if not isinstance(node, exp.EQ):
        return None
    if isinstance(node.right, exp.Any):
        return node.left if isinstance(node.left, exp.Column) and slot_in(node.left) is None else None
    for side, other in ((node.left, node.right), (node.right, node.left)):
        if isinstance(side, exp.Column) and slot_in(side) is None and slot_in(other) is not None:
            return side
    return None


def _by_all_keys(tree: exp.Select, names: Names, table: str, column: str) -> exp.Column | None:
    """Make the comparison with one key `column IN (:keys)`; the key's column, or None where there is no such comparison."""
    node = _key_comparison(tree, names, table, column)
    key = _key_side(node)
    if node is None or key is None:
        return None
    key = key.copy()
    node.replace(exp.In(this=key.copy(), expressions=[exp.Placeholder(this="keys")]))
    return key


def batched(text: str, system: str, table: str, column: str, drop_limit: bool = False) -> str:
    """The look-up by one key as a look-up by all: `column IN (:keys)`, with the key among the columns.

    A LIMIT would cut the batch: with `drop_limit` it goes (there is one row for each key), without, '' is given.
    """

    def change(tree: exp.Select, names: Names) -> exp.Select | None:
        if tree.args.get("limit") is not None:
            if not drop_limit:
                return None
            tree.set("limit", None)
        key = _by_all_keys(tree, names, table, column)
        if key is None:
            return None
        if not _selects(tree, key):
            tree.select(key, append=True, copy=False)
        return tree

    return rewritten(text, system, change)


def counted(text: str, system: str, table: str, column: str) -> str:
    """An aggregate for one key as a grouped aggregate for all keys."""

    def change(tree: exp.Select, names: Names) -> exp.Select | None:
        key = _by_all_keys(tree, names, table, column)
        if key is None:
            return None
        tree.set("expressions", [key.copy(), *tree.expressions])
        tree.set("limit", None)
        return tree.group_by(key.copy(), copy=False)

    return rewritten(text, system, change)


def counted_with_parent(text: str, system: str, held: tuple[str, str], table: str, column: str) -> str:
    """The parent's statement with the number of its children, by an outer join: parents with none stay, with 0.

    `held` is the parent's table and the column that the child's `column` refers to.
    """

    def change(tree: exp.Select, names: Names) -> exp.Select | None:
        source = source_of(tree)
        plain = isinstance(source, exp.Table) and source.name == held[0] and not tree.args.get("joins")
        bound = tree.args.get("group") is not None or tree.args.get("distinct") is not None
        if not plain or bound or source.name == table or any(is_star(bare(node)) for node in tree.expressions):
            return None
        parent = source.alias_or_name
        for node in tree.find_all(exp.Column):
            if not node.table and node.find_ancestor(exp.Select) is tree:
                node.set("table", exp.to_identifier(parent))
        key = exp.column(held[1], table=parent)
        grouped = [bare(node).copy() for node in tree.expressions]
        if not all(isinstance(node, exp.Column) for node in grouped):
            return None
        on = exp.EQ(this=exp.column(column, table=table), expression=key)
        number = exp.alias_(exp.Count(this=exp.column(column, table=table)), f"{table}_count")
        tree.select(number, append=True, copy=False)
        return tree.join(exp.to_table(table), on=on, join_type="left", copy=False).group_by(*grouped, copy=False)

    return rewritten(text, system, change)


def numbered(text: str, system: str, table: str, column: str) -> str:
    """A look-up of rows by one key as the number of rows for all keys."""

    def change(tree: exp.Select, names: Names) -> exp.Select | None:
        key = _by_all_keys(tree, names, table, column)
        if key is None:
            return None
        tree.set("expressions", [key.copy(), exp.Count(this=exp.Star())])
        tree.set("limit", None)
        tree.set("order", None)
        return tree.group_by(key.copy(), copy=False)

    return rewritten(text, system, change)


def first_of_each(text: str, system: str, table: str, column: str) -> str:
    """A look-up of one row in an order as the first row for each key, told by a window."""

    def change(tree: exp.Select, names: Names) -> exp.Select | None:
        order = tree.args.get("order")
        if order is None or any(not output.alias_or_name for output in tree.expressions):
            return None
        key = _by_all_keys(tree, names, table, column)
        if key is None:
            return None
        if not _selects(tree, key):
            tree.select(key, append=True, copy=False)
        place = exp.Window(this=exp.RowNumber(), partition_by=[key.copy()], order=order.copy())
        tree.select(exp.alias_(place, "place"), append=True, copy=False)
        for name in ("order", "limit", "offset"):
            tree.set(name, None)
        first = exp.EQ(this=exp.column("place"), expression=exp.Literal.number(1))
        return exp.select("*").from_(tree.subquery("ranked")).where(first)

    return rewritten(text, system, change)


def existing(text: str, system: str, table: str, column: str) -> str:
    """A question whether there are rows of one key as the keys, of all, that have some."""

    def change(tree: exp.Select, names: Names) -> exp.Select | None:
        for select in tree.find_all(exp.Select):
            key = _by_all_keys(select, names, table, column)
            if key is not None:
                select.set("expressions", [key.copy()])
                for name in ("order", "limit", "offset"):
                    select.set(name, None)
                return select.distinct(copy=False)
        return None

    return rewritten(text, system, change)


def _selects(tree: exp.Select, column: exp.Column) -> bool:
    for node in tree.expressions:
        inner = bare(node)
        if is_star(inner):
            return True
        if isinstance(inner, exp.Column) and inner.name == column.name and inner.table in ("", column.table):
            return True
    return False


def joined(
    text: str,
    system: str,
    parent_column: tuple[str, str],
    table: str,
    column: str,
    outputs: Sequence[Output],
    to_many: bool,
) -> str:
    """The parent's statement with the child joined to it, by an outer join so that no parent is lost.

    `parent_column` is the table and the column that hold the child's key; `outputs` are what the child's own statement gives. '' where one of them is no column of the child, and for a to-many
    join under a LIMIT: that would count joined rows instead of parents.
    """
    own = [output for output in outputs if output.column.table.lower() == table.lower() and not output.aggregate]
    if len(own) < len(outputs):
        return ""

    def change(tree: exp.Select, names: Names) -> exp.Select | None:
        source = source_of(tree)
        if not isinstance(source, exp.Table) or tree.args.get("group") is not None:
            return None
        if to_many and tree.args.get("limit") is not None:
            return None
        if any(joined_table.name == table for joined_table in tree.find_all(exp.Table)):
            return None
        main = source.alias_or_name
        sources = [source, *(join.this for join in tree.args.get("joins") or ())]
        holders = [one.alias_or_name for one in sources if isinstance(one, exp.Table) and one.name == parent_column[0]]
        if len(holders) > 1 or not (holders or not parent_column[0]):
            return None
        parent = holders[0] if holders else main
        for node in tree.find_all(exp.Column):  # names that were clear alone may be ambiguous beside the child's
            if not node.table and not tree.args.get("joins") and node.find_ancestor(exp.Select) is tree:
                node.set("table", exp.to_identifier(main))
        on = exp.EQ(this=exp.column(column, table=table), expression=exp.column(parent_column[1], table=parent))
        if own and not any(output.star for output in own):
            taken = {node.alias_or_name for node in tree.expressions}
            tree.select(*(_distinct(output, table, taken) for output in own), append=True, copy=False)
        else:
            tree.select(exp.Column(this=exp.Star(), table=exp.to_identifier(table)), append=True, copy=False)
        return tree.join(exp.to_table(table), on=on, join_type="left", copy=False)

    return rewritten(text, system, change)


def _distinct(output: Output, table: str, taken: set[str]) -> Any:
    """The child's column under a name that the result does not hold yet: the one it has in the child's own statement."""
    column = exp.column(output.column.name, table=table)
    name = output.name or column.name
    while name in taken:
        name = f"{table}_{name}" if name == output.name else name + "_"
    taken.add(name)
    return column if name == column.name else exp.alias_(column, name)


def projected(text: str, system: str, leave_out: Sequence[str]) -> str:
    """The statement without some of its columns. '' where that leaves none, or where one is not selected by name."""
    unwanted = set(leave_out)

    def change(tree: exp.Select, names: Names) -> exp.Select | None:
        remaining = [node for node in tree.expressions if node.alias_or_name not in unwanted]
        if not remaining or len(remaining) == len(tree.expressions):
            return None
        tree.set("expressions", remaining)
        return tree

    return rewritten(text, system, change)


def paged(text: str, system: str, key: str, size: int) -> str:
    """The statement page by page: the key above the last one seen, in order of the key, so many rows."""

    def change(tree: exp.Select, names: Names) -> exp.Select | None:
        source = source_of(tree)
        if not isinstance(source, exp.Table):
            return None
        column = exp.column(key, table=source.alias_or_name)
        tree = tree.where(exp.GT(this=column.copy(), expression=exp.Placeholder(this="last_seen")), copy=False)
        return tree.order_by(column, append=False, copy=False).limit(size, copy=False)

    return rewritten(text, system, change)


def named(text: str, system: str, columns: Sequence[str]) -> str:
    """`SELECT *` of one table with its columns by name."""

    def change(tree: exp.Select, names: Names) -> exp.Select | None:
        if len(tree.expressions) != 1 or tree.args.get("joins"):
            return None
        tree.set("expressions", [exp.column(name) for name in columns])
        return tree

    return rewritten(text, system, change)
