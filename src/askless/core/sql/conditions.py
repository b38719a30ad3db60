"""Reads conditions: which column is compared with what, in every form that a comparison of a column
with a value has.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import msgspec
from sqlglot import exp

from askless.core.sql.names import Names
from askless.core.sql.parsing import bare, conjuncts, slot_in, source_of
from askless.core.sql.structure import Predicate

_COMPARISONS: dict[type[exp.Expression], str] = {
    exp.EQ: "=", exp.NullSafeEQ: "=", exp.Is: "is", exp.GT: ">", exp.GTE: ">=", exp.LT: "<",
    exp.LTE: "<=", exp.NEQ: "<>", exp.Like: "like", exp.ILike: "ilike",
}  # fmt: skip
_MIRRORED = {">": "<", ">=": "<=", "<": ">", "<=": ">="}


def comparisons(node: Any, names: Names) -> Iterator[Predicate]:
    """The conditions of a WHERE or an ON, those of its subqueries omitted."""
    for part in conjuncts(node):
        if isinstance(part, exp.Or):
            for inner in _alternatives(part):
                yield from (
                    msgspec.structs.replace(one, filters=False)
                    for one in _predicate(inner, names, False)
                )
        else:
            yield from _predicate(part, names, True)


def _of(
    node: Any,
    names: Names,
    operator: str,
    slots: tuple[int, ...],
    required: bool = True,
    inside: str = "",
    alike: bool = False,
) -> Predicate:
    """A predicate on the column of a node."""
    column, source = names.column(node), names.source(node)
    return Predicate(column, operator, slots, required, inside, alike, source=source)


_SEARCHED = ("=", "in", "any", ">", ">=", "<", "<=", "between")


def either_of(node: Any, names: Names) -> Iterator[tuple[Predicate, ...]]:
    """Of each OR among the conditions of a WHERE, a predicate of each side that an index could
    answer, all of one table.

    An OR with a side that has none is omitted: all rows are looked at for that one.
    """
    for part in conjuncts(node):
        if not isinstance(part, exp.Or):
            continue
        sides = [_searched_of(side, names) for side in _sides(part)]
        known = tuple(side for side in sides if side is not None)
        if len(known) == len(sides) and len({side.column.table.lower() for side in known}) == 1:
            yield known


def _sides(node: Any) -> list[Any]:
    """What an OR joins, ORs inside it as well."""
    results: list[Any] = []
    waiting = [node]
    while waiting:
        part = waiting.pop()
        while isinstance(part, exp.Paren):
            part = part.this
        if isinstance(part, exp.Or):
            waiting += [part.right, part.left]
        else:
            results.append(part)
    return results


def _searched_of(side: Any, names: Names) -> Predicate | None:
    predicates = (
        one
        for part in conjuncts(side)
        if not isinstance(part, exp.Or)
        for one in _predicate(part, names, False)
    )
    return next(
        (one for one in predicates if one.operator in _SEARCHED and not one.inside and one.slots),
        None,
    )


def _alternatives(node: Any) -> list[Any]:
    """The comparisons that AND and OR join, in order; what is in subqueries is not among them."""
    results: list[Any] = []
    waiting = [node]
    while waiting:
        part = waiting.pop()
        if isinstance(part, exp.Or | exp.And):
            waiting += [part.right, part.left]
        elif isinstance(part, exp.Paren):
            waiting.append(part.this)
        else:
            results.append(part)
    return results


def _predicate(node: Any, names: Names, required: bool) -> Iterator[Predicate]:
    negated = isinstance(node, exp.Not)
    if negated:
        node = node.this
        while isinstance(node, exp.Paren):
            node = node.this
    # newer parsers keep a NOT in the comparison
    if isinstance(node, exp.Expression) and node.args.get("negate"):
        negated = not negated
    if isinstance(node, exp.In):
        if isinstance(node.this, exp.Tuple) and len(node.expressions) == 1 and not negated:
            yield from _pairs(node.this, node.expressions[0], names, required)
        elif node.args.get("query") is None:
            operator = "not in" if negated else "in"
            yield from _of_values(node.this, operator, node.expressions, names, required)
    elif isinstance(node, exp.Between):
        operator = "not between" if negated else "between"
        ends = [node.args["low"], node.args["high"]]
        yield from _of_values(node.this, operator, ends, names, required)
    else:
        yield from _comparison(node, names, required, negated)


def _of_values(
    node: Any, operator: str, values: Sequence[Any], names: Names, required: bool
) -> Iterator[Predicate]:
    """A column compared with several values."""
    side, inside = _sided(node)
    if side is not None:
        slots = tuple(slot for slot in map(slot_in, values) if slot is not None)
        yield _of(side, names, operator, slots, required, inside)


def _comparison(node: Any, names: Names, required: bool, negated: bool) -> Iterator[Predicate]:
    operator = _COMPARISONS.get(type(node))
    if operator is None:
        return
    left, right = node.this, node.args.get("expression")
    if isinstance(node, exp.EQ) and not negated:
        if isinstance(left, exp.Tuple):
            yield from _pairs(left, right, names, required)
            return
        if isinstance(right, exp.Any):
            yield from _any(left, right.this, names, required)
            return
    side, inside = _sided(left)
    value = right
    if side is None or slot_in(left) is not None:
        side, inside = _sided(right)
        value = left
        operator = _MIRRORED.get(operator, operator)
    number, alike = _value_slot(value, inside)
    if side is None or (number is None and not isinstance(value, exp.Null | exp.Boolean)):
        return
    if operator == "is":
        operator = "is not null" if negated else "is null"
    elif negated:
        operator = "not " + operator
    slots = () if number is None else (number,)
    yield _of(side, names, operator, slots, required, inside, alike)


def _value_slot(value: Any, inside: str) -> tuple[int | None, bool]:
    """The slot of the value, and whether it is in the same function as the column does."""
    number = slot_in(value)
    if (
        number is not None
        or not inside
        or not isinstance(value, exp.Func)
        or value.find(exp.Column) is not None
    ):
        return number, False
    name = value.name.lower() if isinstance(value, exp.Anonymous) else type(value).__name__.lower()
    slots = {
        slot
        for node in value.find_all(exp.Placeholder, exp.Literal)
        if (slot := slot_in(node)) is not None
    }
    return (slots.pop(), True) if name == inside and len(slots) == 1 else (None, False)


def _pairs(columns: Any, values: Any, names: Names, required: bool) -> Iterator[Predicate]:
    """`(a, b) = (?, ?)`, column by column."""
    while isinstance(values, exp.Paren):
        values = values.this
    if not isinstance(values, exp.Tuple) or len(values.expressions) != len(columns.expressions):
        return
    for column, value in zip(columns.expressions, values.expressions, strict=True):
        number = slot_in(value)
        if isinstance(column, exp.Column) and number is not None:
            yield _of(column, names, "=", (number,), required)


def _any(left: Any, values: Any, names: Names, required: bool) -> Iterator[Predicate]:
    """`column = ANY(?)`, whose value is a list, or `= ANY(ARRAY[?, …])`, which is an IN."""
    side, inside = _sided(left)
    while isinstance(values, exp.Paren | exp.Cast):
        values = values.this
    if side is None:
        return
    if isinstance(values, exp.Array):
        slots = tuple(slot for slot in map(slot_in, values.expressions) if slot is not None)
        yield _of(side, names, "in", slots, required, inside)
    elif (number := slot_in(values)) is not None:
        yield _of(side, names, "any", (number,), required, inside)


def _sided(node: Any) -> tuple[exp.Column | None, str]:
    """The column that one side of a comparison is about, and the function around it ('' for
    none).
    """
    if isinstance(node, exp.Paren):
        return _sided(node.this)
    if isinstance(node, exp.Column):
        return node, ""
    if isinstance(node, exp.Func | exp.Cast | exp.Binary) and not isinstance(node, exp.AggFunc):
        inner = [column for column in node.find_all(exp.Column) if slot_in(column) is None]
        if len(inner) == 1 and node.find(exp.Select) is None:
            return inner[0], type(node).__name__.lower() if not isinstance(
                node, exp.Anonymous
            ) else node.name.lower()
    return None, ""


def through_values(select: Any, names: Names) -> Iterator[Predicate]:
    """Keys that come as a table of one row: `JOIN (VALUES (?)) AS v(id) ON v.id = t.id`, or
    `(SELECT ? AS id) AS v`.
    """
    joins = select.args.get("joins") or ()
    given: dict[tuple[str, str], int] = {}
    for source in [source_of(select), *(join.this for join in joins)]:
        for column, value in _one_row(source):
            number = slot_in(value)
            if number is not None:
                given[source.alias_or_name, column] = number
    if not given:
        return
    for condition in [select.args.get("where"), *(join.args.get("on") for join in joins)]:
        for part in conjuncts(condition):
            for side, other in _two_columns(part):
                if (other.table, other.name) in given:
                    yield _of(side, names, "=", (given[other.table, other.name],))


def _one_row(source: Any) -> list[tuple[str, Any]]:
    """The columns and values of a table of one row that a statement spells out."""
    inner = source.this if isinstance(source, exp.Subquery) else source
    if isinstance(inner, exp.Values) and len(inner.expressions) == 1:
        alias = source.args.get("alias")
        columns = [column.name for column in alias.columns] if alias else []
        return list(zip(columns, inner.expressions[0].expressions))  # noqa: B905  (a name may be missing)
    if isinstance(inner, exp.Select) and source_of(inner) is None:
        return [(node.alias_or_name, bare(node)) for node in inner.expressions]
    return []


def _two_columns(node: Any) -> list[tuple[Any, Any]]:
    """The columns that an = compares, both ways round."""
    if not isinstance(node, exp.EQ):
        return []
    if not isinstance(node.left, exp.Column) or not isinstance(node.right, exp.Column):
        return []
    return [(node.left, node.right), (node.right, node.left)]
