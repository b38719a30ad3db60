"""Writes a subquery that is evaluated for each row as a join to a grouped query: what it asks is
asked once for all rows.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sqlglot import exp

from askless.core.advice.rewriting.statements import rewritten
from askless.core.sql.names import Names
from askless.core.sql.parsing import conjuncts, correlated, slot_in
from askless.core.sql.slots import Value
from askless.core.sql.value_equality import meaning


def grouped_join(text: str, system: str, values: Sequence[Value]) -> str:
    """The statement with each subquery of its columns that can be, as an outer join; '' where none
    can be.

    `values` are those of its slots: a subquery of the first row in an order is known from its LIMIT
    of 1. Rows without a partner keep a count of 0, and NULL for all else, as the subquery gives.
    """

    def change(tree: exp.Select, names: Names) -> exp.Select | None:
        if tree.args.get("group") is not None or any(
            node.find(exp.AggFunc) for node in _outside(tree)
        ):
            return None
        taken = {source.alias_or_name for source in tree.find_all(exp.Table, exp.Subquery)}
        changed = False
        for subquery in [node for one in tree.expressions for node in one.find_all(exp.Subquery)]:
            joined = _joined(subquery, names, values, taken)
            if joined is None:
                continue
            derived, on, value = joined
            taken.add(derived.alias_or_name)
            output = subquery.parent if isinstance(subquery.parent, exp.Alias) else None
            subquery.replace(
                value
                if output is not None or subquery.parent is not tree
                else exp.alias_(value, "value")
            )
            tree.join(derived, on=on, join_type="left", copy=False)
            changed = True
        return tree if changed else None

    return rewritten(text, system, change)


def _outside(tree: exp.Select) -> list[Any]:
    """The columns of a statement without the subqueries in them."""
    results = []
    for node in tree.expressions:
        plain = node.copy()
        for subquery in list(plain.find_all(exp.Subquery)):
            if subquery is not plain:
                subquery.replace(exp.Null())
        if not isinstance(plain, exp.Subquery):
            results.append(plain)
    return results


_UNFIT = ["group", "having", "offset", "distinct", "with_", "with", "windows", "locks", "qualify"]


def _is_plain(inner: Any) -> bool:
    """Whether a subquery is a SELECT of one value with a WHERE, and nothing that groups or
    locks.
    """
    if not isinstance(inner, exp.Select) or any(inner.args.get(name) for name in _UNFIT):
        return False
    return len(inner.expressions) == 1 and inner.args.get("where") is not None


def _rename(part: Any, alias: str) -> None:
    """Columns of the grouped query get its alias."""
    for column in list(part.find_all(exp.Column)):
        if column.table == _DERIVED:
            column.set("table", exp.to_identifier(alias))


def _joined(
    subquery: Any, names: Names, values: Sequence[Value], taken: set[str]
) -> tuple[Any, Any, Any] | None:
    """The grouped query, the condition that joins it, and what stands for the subquery; None if it
    can't be written.
    """
    inner = subquery.this
    scope = names.scope_of(inner)
    if scope is None or not _is_plain(inner):
        return None
    parts = conjuncts(inner.args["where"])
    pairs = {
        i: pair for i, part in enumerate(parts) if (pair := correlated(part, scope)) is not None
    }
    if len(pairs) != 1:
        return None
    ((place, (own, around)),) = pairs.items()
    rest = [part.copy() for i, part in enumerate(parts) if i != place]
    joins, order = inner.args.get("joins") or [], inner.args.get("order")
    if not _stands_alone([inner.expressions[0], *rest, *joins, order], scope):
        return None
    build = _first if inner.args.get("limit") is not None else _aggregate
    grouped = build(inner, own, values)
    if grouped is None:
        return None
    query, value, more = grouped
    query.set("where", exp.Where(this=exp.and_(*rest)) if rest else None)
    alias = _free(f"per_{names.column(own, scope).table or 'row'}", taken)
    derived = exp.Subquery(this=query, alias=exp.TableAlias(this=exp.to_identifier(alias)))
    for part in (value, *more):
        _rename(part, alias)
    key = exp.column(own.name, table=alias)
    return derived, exp.and_(exp.EQ(this=key, expression=around.copy()), *more), value


_DERIVED = "derived"


def _free(name: str, taken: set[str]) -> str:
    number, result = 1, name
    while result in taken:
        number += 1
        result = f"{name}_{number}"
    return result


def _stands_alone(nodes: Sequence[Any], scope: Any) -> bool:
    """Whether all columns are named with a table of the subquery's own."""
    columns = [column for node in nodes if node is not None for column in node.find_all(exp.Column)]
    return all(
        column.table and column.table in scope.sources
        for column in columns
        if slot_in(column) is None
    )


Built = tuple[exp.Select, Any, list[Any]]


def _aggregate(inner: exp.Select, own: Any, values: Sequence[Value]) -> Built | None:
    """One aggregate, grouped; a count of nothing is 0."""
    shown = inner.expressions[0]
    shown = (shown.this if isinstance(shown, exp.Alias) else shown).copy()
    aggregates = list(shown.find_all(exp.AggFunc))
    if (
        len(aggregates) != 1
        or inner.args.get("order") is not None
        or shown.find(exp.Window, exp.Select) is not None
    ):
        return None
    aggregate = aggregates[0]
    held: Any = exp.column("value", table=_DERIVED)
    if isinstance(aggregate, exp.Count):
        held = exp.Coalesce(this=held, expressions=[exp.Literal.number(0)])
    query = inner.copy()
    query.set("expressions", [own.copy(), exp.alias_(aggregate.copy(), "value")])
    query = query.group_by(own.copy(), copy=False)
    if aggregate is shown:
        return query, held, []
    aggregate.replace(held)
    return (
        (query, shown, [])
        if not [c for c in shown.find_all(exp.Column) if c.table != _DERIVED]
        else None
    )


def _first(inner: exp.Select, own: Any, values: Sequence[Value]) -> Built | None:
    """The first row in an order, known from a window."""
    limit, order = inner.args["limit"], inner.args.get("order")
    slot = slot_in(limit.expression) if isinstance(limit, exp.Limit) else None
    one = slot is not None and slot < len(values) and meaning(values[slot]) == 1
    if order is None or not one or inner.expressions[0].find(exp.AggFunc, exp.Select) is not None:
        return None
    shown = inner.expressions[0]
    shown = shown.this if isinstance(shown, exp.Alias) else shown
    place = exp.Window(this=exp.RowNumber(), partition_by=[own.copy()], order=order.copy())
    query = inner.copy()
    query.set(
        "expressions", [own.copy(), exp.alias_(shown.copy(), "value"), exp.alias_(place, "place")]
    )
    query.set("limit", None)
    query.set("order", None)
    first = exp.EQ(this=exp.column("place", table=_DERIVED), expression=exp.Literal.number(1))
    return query, exp.column("value", table=_DERIVED), [first]
