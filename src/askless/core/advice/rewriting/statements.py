"""Writes the SQL that a statement becomes when advice is taken. What can't be rewritten safely
gives ''.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import lru_cache
from typing import Any, cast

import msgspec
from sqlglot import exp

from askless.core.findings.remedies import Key
from askless.core.sql.names import Names
from askless.core.sql.parsing import (
    bare,
    conjuncts,
    extreme_asked,
    is_star,
    parse,
    slot_in,
    source_of,
    trying,
)
from askless.core.sql.structure import Column, Output
from askless.core.systems import system_of

Change = Callable[[exp.Select, Names], exp.Select | None]


def rewritten(text: str, system: str, change: Change) -> str:
    """The statement after a change to its tree, literals and placeholders as they were; '' where it
    can't be done.
    """
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


def _key_comparison(
    tree: exp.Select, names: Names, table: str, column: str
) -> exp.EQ | exp.In | None:
    """The comparison of the key column with one value: `column = ?`, `? = column` or `column IN
    (?)`.

    Only one that every row must meet, of the statement itself; None if there are several.
    """
    wanted = Column(table.lower(), column.lower())
    results = []
    for condition in [
        tree.args.get("where"),
        *(join.args.get("on") for join in tree.args.get("joins") or ()),
    ]:
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
        return (
            node.left if isinstance(node.left, exp.Column) and slot_in(node.left) is None else None
        )
    for side, other in ((node.left, node.right), (node.right, node.left)):
        if isinstance(side, exp.Column) and slot_in(side) is None and slot_in(other) is not None:
            return side
    return None


class LookUp(msgspec.Struct, frozen=True):
    """A lookup by one key: its text, and the column of a table that the key is compared with.

    `next to` are the other slots that vary with it: what does not take all of them along can't be
    written.
    """

    text: str
    system: str
    table: str
    column: str
    beside: tuple[Key, ...] = ()

    def rewritten(self, change: Change) -> str:
        """The lookup after a change to its tree; '' where it can't be done."""
        return rewritten(self.text, self.system, change)

    def by_all_keys(self, tree: exp.Select, names: Names) -> list[exp.Column] | None:
        """Make the comparison with one key `column IN (:keys)`; the key's columns, or None if there
        is no such comparison.
        """
        node = _key_comparison(tree, names, self.table, self.column)
        key = _key_side(node)
        if node is None or key is None:
            return None
        own = exp.In(this=key.copy(), expressions=[exp.Placeholder(this="keys")])
        if not self.beside:
            node.replace(own)
            return [key.copy()]
        where = tree.args.get("where")
        if not system_of(self.system).row_values or node not in conjuncts(where):
            return None
        if len(self.beside) == 1 and self.beside[0].same:
            node.replace(own)
            return [key.copy()] if _extreme_of_each(where, key, self.beside[0].slot) else None
        return self._by_rows_of_keys(tree, names, key)

    def _by_rows_of_keys(
        self, tree: exp.Select, names: Names, key: exp.Column
    ) -> list[exp.Column] | None:
        """Make the comparisons with several keys one of rows of keys."""
        taken, where = system_of(self.system).row_values, tree.args.get("where")
        others = {
            slot: part for part in conjuncts(where) if (slot := _slot_compared(part)) is not None
        }
        if any(one.same or one.slot not in others for one in self.beside):
            return None
        columns = [key, *(cast("exp.Column", _key_side(others[one.slot])) for one in self.beside)]
        dropped = [others[one.slot] for one in self.beside]
        _keep(where, [part for part in conjuncts(where) if part not in dropped])
        rows = exp.Tuple(expressions=[column.copy() for column in columns])
        node = _key_comparison(tree, names, self.table, self.column)
        if node is None:
            return None
        node.replace(exp.In(this=rows, expressions=[exp.var(taken)]))
        return [column.copy() for column in columns]


def _slot_compared(node: Any) -> int | None:
    """The slot that a column is set equal to."""
    if not isinstance(node, exp.EQ) or _key_side(node) is None or isinstance(node.right, exp.Any):
        return None
    left, right = slot_in(node.left), slot_in(node.right)
    return left if left is not None else right


def _keep(where: Any, parts: Sequence[Any]) -> None:
    """Leave only these parts of a condition."""
    where.set("this", exp.and_(*(part.copy() for part in parts)))


def _extreme_of_each(where: Any, key: exp.Column, slot: int) -> bool:
    """Make `key IN (:keys) AND at = (SELECT MAX(at) FROM … WHERE key = ?)` ask for the highest of
    each key; whether it could.
    """
    for node in conjuncts(where):
        extreme = extreme_asked(node)
        if extreme is None:
            continue
        side, inner = extreme
        plain = not any(
            inner.args.get(name)
            for name in ("group", "limit", "having", "order", "distinct", "joins")
        )
        compared = [
            part for part in conjuncts(inner.args.get("where")) if _slot_compared(part) == slot
        ]
        if not plain or len(compared) != 1:
            continue
        own = _key_side(compared[0])
        assert own is not None
        group = own.copy()
        compared[0].replace(exp.In(this=own.copy(), expressions=[exp.Placeholder(this="keys")]))
        inner.set("expressions", [group.copy(), *inner.expressions])
        inner.group_by(group, copy=False)
        pair = exp.Tuple(expressions=[key.copy(), side.copy()])
        node.replace(exp.In(this=pair, query=exp.Subquery(this=inner.copy())))
        _keep(where, [part for part in conjuncts(where) if not _is_all_keys(part, key)])
        return True
    return False


def _is_all_keys(node: Any, key: exp.Column) -> bool:
    return isinstance(node, exp.In) and node.this == key and node.args.get("query") is None


@lru_cache(2_000)  # each alternative of a finding needs it, and each edit that fixes one
def batched(lookup: LookUp, drop_limit: bool = False) -> str:
    """The lookup by one key as a lookup by all: `column IN (:keys)`, with the key among the
    columns.

    A LIMIT would cut the batch: with `drop_limit` it goes (there is one row for each key), without,
    '' is given.
    """

    def change(tree: exp.Select, names: Names) -> exp.Select | None:
        if tree.args.get("limit") is not None:
            if not drop_limit:
                return None
            tree.set("limit", None)
        keys = lookup.by_all_keys(tree, names)
        return _with_keys(tree, keys) if keys is not None else None

    return lookup.rewritten(change)


def counted(lookup: LookUp) -> str:
    """An aggregate for one key as a grouped aggregate for all keys."""

    def change(tree: exp.Select, names: Names) -> exp.Select | None:
        tree = _of_rows(tree) or tree
        keys = lookup.by_all_keys(tree, names)
        if keys is None:
            return None
        tree.set("expressions", [*(key.copy() for key in keys), *tree.expressions])
        tree.set("limit", None)
        return tree.group_by(*keys, copy=False)

    return lookup.rewritten(change)


def folded(lookup: LookUp, keys: Sequence[str]) -> str:
    """Aggregates for one key as conditional aggregates for several, in one row; `keys` are names of
    placeholders.
    """

    def change(tree: exp.Select, names: Names) -> exp.Select | None:
        node = _key_comparison(tree, names, lookup.table, lookup.column)
        key = _key_side(node)
        where = tree.args.get("where")
        if node is None or key is None or node not in conjuncts(where) or lookup.beside:
            return None
        outputs = [bare(output) for output in tree.expressions]
        aggregates = all(isinstance(one, exp.AggFunc) for one in outputs)
        if not aggregates or tree.args.get("group") or tree.args.get("limit"):
            return None
        rest = [part.copy() for part in conjuncts(where) if part is not node]
        tree.set("where", exp.Where(this=exp.and_(*rest)) if rest else None)
        tree.set(
            "expressions",
            [
                exp.alias_(
                    _under(
                        one.copy(), exp.EQ(this=key.copy(), expression=exp.Placeholder(this=name))
                    ),
                    f"{name}_{n}",
                )
                for name in keys
                for n, one in enumerate(outputs)
            ],
        )
        return tree

    return lookup.rewritten(change)


def _under(aggregate: Any, condition: exp.EQ) -> Any:
    """An aggregate over those rows alone that meet a condition."""
    inner = aggregate.this
    if isinstance(inner, exp.Distinct):
        chosen = exp.Case(ifs=[exp.If(this=condition, true=inner.expressions[0].copy())])
        inner.set("expressions", [chosen])
        return aggregate
    counts_rows = inner is None or isinstance(inner, exp.Star) or slot_in(inner) is not None
    # the key itself: it is there where it is equal
    value = condition.this.copy() if counts_rows else inner.copy()
    aggregate.set("this", exp.Case(ifs=[exp.If(this=condition, true=value)]))
    return aggregate


def _of_rows(tree: exp.Select) -> exp.Select | None:
    """The inner one of `SELECT COUNT(1) FROM (SELECT 1 FROM …)`, counting itself; None if it is not
    a such count.
    """
    source = source_of(tree)
    inner = source.this if isinstance(source, exp.Subquery) else None
    if not isinstance(inner, exp.Select) or len(tree.expressions) != 1:
        return None
    counted = bare(tree.expressions[0])
    every = isinstance(counted, exp.Count) and (
        isinstance(counted.this, exp.Star) or slot_in(counted.this) is not None
    )
    more = any(tree.args.get(name) for name in ("where", "joins", "group", "having", "limit"))
    fewer = any(
        inner.args.get(name)
        for name in ("distinct", "group", "having", "limit", "offset", "qualify")
    )
    if not every or more or fewer or any(node.find(exp.AggFunc) for node in inner.expressions):
        return None
    inner.set("expressions", [exp.Count(this=exp.Star())])
    inner.set("order", None)
    inner.pop()
    return inner


def counted_with_parent(
    text: str, system: str, held: tuple[str, str], table: str, column: str
) -> str:
    """The parent's statement with the number of its children, by an outer join: parents with none
    stay, with 0.

    `held` is the parent's table and the column that the child's `column` refers to.
    """

    def change(tree: exp.Select, names: Names) -> exp.Select | None:
        source = source_of(tree)
        plain = (
            isinstance(source, exp.Table) and source.name == held[0] and not tree.args.get("joins")
        )
        bound = tree.args.get("group") is not None or tree.args.get("distinct") is not None
        if (
            not plain
            or bound
            or source.name == table
            or any(is_star(bare(node)) for node in tree.expressions)
        ):
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
        return tree.join(exp.to_table(table), on=on, join_type="left", copy=False).group_by(
            *grouped, copy=False
        )

    return rewritten(text, system, change)


def numbered(lookup: LookUp) -> str:
    """A lookup of rows by one key as the number of rows for all keys."""

    def change(tree: exp.Select, names: Names) -> exp.Select | None:
        keys = lookup.by_all_keys(tree, names)
        if keys is None:
            return None
        tree.set("expressions", [*(key.copy() for key in keys), exp.Count(this=exp.Star())])
        tree.set("limit", None)
        tree.set("order", None)
        return tree.group_by(*keys, copy=False)

    return lookup.rewritten(change)


def first_of_each(lookup: LookUp, most: int = 1) -> str:
    """A lookup of one row in an order, or of so many, as the first rows for each key, known from a
    window. A name that two columns share is refused in a derived table: '' then.
    """

    def change(tree: exp.Select, names: Names) -> exp.Select | None:
        order = tree.args.get("order")
        names_given = [output.alias_or_name.lower() for output in tree.expressions]
        if order is None or not all(names_given) or len(set(names_given)) < len(names_given):
            return None
        keys = lookup.by_all_keys(tree, names)
        if keys is None:
            return None
        _with_keys(tree, keys)
        place = exp.Window(this=exp.RowNumber(), partition_by=keys, order=order.copy())
        tree.select(exp.alias_(place, "place"), append=True, copy=False)
        for name in ("order", "limit", "offset"):
            tree.set(name, None)
        compared = exp.EQ if most == 1 else exp.LTE
        first = compared(this=exp.column("place"), expression=exp.Literal.number(most))
        ranked = exp.select("*").from_(tree.subquery("ranked")).where(first)
        if most == 1:
            return ranked
        return ranked.order_by(*(exp.column(key.name) for key in keys), exp.column("place"))

    return lookup.rewritten(change)


def existing(lookup: LookUp) -> str:
    """A question whether there are rows of one key as the keys, of all, that have some."""

    def change(tree: exp.Select, names: Names) -> exp.Select | None:
        for select in tree.find_all(exp.Select):
            keys = lookup.by_all_keys(select, names)
            if keys is not None:
                select.set("expressions", keys)
                for name in ("order", "limit", "offset"):
                    select.set(name, None)
                return select.distinct(copy=False)
        return None

    return lookup.rewritten(change)


def _with_keys(tree: exp.Select, keys: Sequence[exp.Column]) -> exp.Select:
    """The statement with the key's columns among its own."""
    for key in keys:
        if not _selects(tree, key):
            tree.select(key.copy(), append=True, copy=False)
    return tree


def _selects(tree: exp.Select, column: exp.Column) -> bool:
    for node in tree.expressions:
        inner = bare(node)
        if is_star(inner):
            return True
        if (
            isinstance(inner, exp.Column)
            and inner.name == column.name
            and inner.table in ("", column.table)
        ):
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
    """The parent's statement with the child joined to it, by an outer join so that no parent is
    lost.

    `parent_column` is the table and the column that hold the child's key; `outputs` are what the
    child's own statement gives. '' where one of them is not a column of the child, and for a
    to-many join under a LIMIT: that would count joined rows instead of parents.
    """
    return _joined(text, system, parent_column, table, column, tuple(outputs), to_many)


@lru_cache(2_000)
def _joined(
    text: str,
    system: str,
    parent_column: tuple[str, str],
    table: str,
    column: str,
    outputs: tuple[Output, ...],
    to_many: bool,
) -> str:
    own = [
        output
        for output in outputs
        if output.column.table.lower() == table.lower() and not output.aggregate
    ]
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
        parent = _holder(tree, source, parent_column[0])
        if parent is None:
            return None
        if not tree.args.get("joins"):
            _qualify(tree, source.alias_or_name)
        on = exp.EQ(
            this=exp.column(column, table=table),
            expression=exp.column(parent_column[1], table=parent),
        )
        if own and not any(output.star for output in own):
            taken = {node.alias_or_name for node in tree.expressions}
            tree.select(
                *(_distinct(output, table, taken) for output in own), append=True, copy=False
            )
        else:
            tree.select(
                exp.Column(this=exp.Star(), table=exp.to_identifier(table)), append=True, copy=False
            )
        return tree.join(exp.to_table(table), on=on, join_type="left", copy=False)

    return rewritten(text, system, change)


def _holder(tree: exp.Select, main: exp.Table, table: str) -> str | None:
    """The name by which a statement knows a table, its main one for ''; None unless it has exactly
    one.
    """
    if not table:
        return main.alias_or_name
    sources = [main, *(join.this for join in tree.args.get("joins") or ())]
    names = [
        one.alias_or_name for one in sources if isinstance(one, exp.Table) and one.name == table
    ]
    return names[0] if len(names) == 1 else None


def _qualify(tree: exp.Select, table: str) -> None:
    """Columns that were clear alone may be ambiguous next to those of another table."""
    for node in tree.find_all(exp.Column):
        if not node.table and node.find_ancestor(exp.Select) is tree:
            node.set("table", exp.to_identifier(table))


def _distinct(output: Output, table: str, taken: set[str]) -> Any:
    """The child's column under a name that the result does not hold yet: the one it has in the
    child's own statement.
    """
    column = exp.column(output.column.name, table=table)
    name = output.name or column.name
    while name in taken:
        name = f"{table}_{name}" if name == output.name else name + "_"
    taken.add(name)
    return column if name == column.name else exp.alias_(column, name)


def projected(text: str, system: str, leave_out: Sequence[str]) -> str:
    """The statement without some of its columns. '' where that leaves none, or where one is not
    selected by name.
    """
    unwanted = set(leave_out)

    def change(tree: exp.Select, names: Names) -> exp.Select | None:
        remaining = [node for node in tree.expressions if node.alias_or_name not in unwanted]
        if not remaining or len(remaining) == len(tree.expressions):
            return None
        tree.set("expressions", remaining)
        return tree

    return rewritten(text, system, change)


def paged(text: str, system: str, key: str, size: int) -> str:
    """The statement page by page: the key above the last one seen, in order of the key, so many
    rows.
    """

    def change(tree: exp.Select, names: Names) -> exp.Select | None:
        source = source_of(tree)
        if not isinstance(source, exp.Table):
            return None
        column = exp.column(key, table=source.alias_or_name)
        tree = tree.where(
            exp.GT(this=column.copy(), expression=exp.Placeholder(this="last_seen")), copy=False
        )
        return tree.order_by(column, append=False, copy=False).limit(size, copy=False)

    return rewritten(text, system, change)


def behind(text: str, system: str, order: Sequence[tuple[Column, bool]], key: str) -> str:
    """A page without its OFFSET: the rows after the last one seen, by the columns of its order and
    then by the key.

    '' where the order runs up for some columns and down for others, or is more than one column next
    to the key.
    """
    if len(order) > 1 or any(not column.name for column, _ in order):
        return ""
    down = bool(order) and order[0][1]

    def change(tree: exp.Select, names: Names) -> exp.Select | None:
        source = source_of(tree)
        if not isinstance(source, exp.Table) or tree.args.get("group") or tree.args.get("distinct"):
            return None
        beyond = exp.LT if down else exp.GT
        last = exp.column(key, table=source.alias_or_name)
        condition: exp.Condition = beyond(this=last, expression=exp.Placeholder(this=f"last_{key}"))
        first = tree.args["order"].expressions[0] if order else None
        ordered = first.this if first is not None else None
        nulls_first = first.args.get("nulls_first") if first is not None else None
        if ordered is not None and order[0][0].name.lower() != key.lower():
            seen = exp.Placeholder(this=f"last_{order[0][0].name}")
            condition = exp.or_(
                beyond(this=ordered.copy(), expression=seen.copy()),
                exp.and_(exp.EQ(this=ordered.copy(), expression=seen.copy()), condition),
            )
            tree = tree.order_by(
                exp.Ordered(this=last.copy(), desc=down, nulls_first=nulls_first),
                append=True,
                copy=False,
            )
        elif ordered is None:
            tree = tree.order_by(last.copy(), copy=False)
        tree.set("offset", None)
        return tree.where(condition, copy=False)

    return rewritten(text, system, change)


def named(text: str, system: str, columns: Sequence[str]) -> str:
    """`SELECT *` of one table with its columns by name."""

    def change(tree: exp.Select, names: Names) -> exp.Select | None:
        if len(tree.expressions) != 1 or tree.args.get("joins"):
            return None
        tree.set("expressions", [exp.column(name) for name in columns])
        return tree

    return rewritten(text, system, change)
