"""A statement's structure, parsed once a shape: tables, columns, predicates, joins, order, limit, aggregates.

What the parser can't read has no structure; it still has a shape and is still counted.
"""

from __future__ import annotations

import logging
import re
from functools import lru_cache
from typing import Any

import msgspec
import sqlglot
from sqlglot import exp

from askless.core.sql.slots import Slot, marked, slot_number, slots_of

logging.getLogger("sqlglot").setLevel(logging.CRITICAL)

TEXT_MOST = 50_000  # characters; a longer statement (an INSERT of thousands of rows) takes the parser seconds
DIALECTS = {"sqlite": "sqlite", "postgresql": "postgres", "mysql": "mysql", "mariadb": "mysql"}

_COMPARISONS: dict[type[exp.Expression], str] = {
    exp.EQ: "=", exp.NullSafeEQ: "=", exp.Is: "is", exp.GT: ">", exp.GTE: ">=", exp.LT: "<", exp.LTE: "<=",
    exp.NEQ: "<>", exp.Like: "like", exp.ILike: "ilike",
}  # fmt: skip
_MIRRORED = {">": "<", ">=": "<=", "<": ">", "<=": ">="}


# Functions whose value changes from call to call: the same text with the same parameters is then no duplicate.
_VOLATILE = re.compile(
    r"\b(?:random|rand|nextval|lastval|now|clock_timestamp|sysdate|uuid|gen_random_uuid|randomblob|changes"
    r"|last_insert_rowid|last_insert_id|pg_advisory\w*|get_lock)\s*\(|\bcurrent_(?:timestamp|date|time)\b|'now'",
    re.IGNORECASE,
)


class Column(msgspec.Struct, frozen=True):
    """A column of a table. `table` is the table's own name, or '' where it can't be told."""

    table: str
    name: str

    def __str__(self) -> str:
        return f"{self.table}.{self.name}" if self.table else self.name


class Predicate(msgspec.Struct, frozen=True):
    """`column operator value`. `slots` are the slots that supply the value (several for IN and BETWEEN).

    `required` tells that every row must meet it: it is joined to the others by AND, at the top.
    """

    column: Column
    operator: str
    slots: tuple[int, ...]
    required: bool = True
    inside: str = ""  # a function around the column, or 'leading wildcard'


class Join(msgspec.Struct, frozen=True):
    """Two columns that a join (in ON, USING or WHERE) sets equal. `outer` tells of a left, right or full join."""

    left: Column
    right: Column
    outer: bool = False


class Output(msgspec.Struct, frozen=True):
    """One column of the result: the column it comes from ('' table and name where it is computed), and its name."""

    column: Column
    name: str
    star: bool = False
    aggregate: str = ""


class Structure(msgspec.Struct, frozen=True):
    """What a statement asks, as far as it can be told from its text.

    `kind` is select, insert, update, delete or other. `tables` are the tables read or written, each once, in order;
    `main` is the first of FROM, or the one written.
    """

    kind: str
    main: str
    tables: tuple[str, ...]
    outputs: tuple[Output, ...] = ()
    predicates: tuple[Predicate, ...] = ()
    joins: tuple[Join, ...] = ()
    group_by: tuple[Column, ...] = ()
    order_by: tuple[tuple[Column, bool], ...] = ()
    has_limit: bool = False
    limit_slot: int | None = None
    offset_slot: int | None = None
    distinct: bool = False
    subqueries: int = 0
    locks: bool = False
    volatile: bool = False
    exists: bool = False
    slots: tuple[Slot, ...] = ()
    written: tuple[str, ...] = ()  # the columns that an insert or update names
    names: tuple[tuple[str, str], ...] = ()  # each name that the statement uses for a table, and the table
    used: tuple[Column, ...] = ()  # every column that the statement names anywhere, subqueries included

    @property
    def aggregates(self) -> tuple[str, ...]:
        """The aggregate functions of the result, where it is nothing but aggregates."""
        if self.outputs and all(output.aggregate for output in self.outputs):
            return tuple(output.aggregate for output in self.outputs)
        return ()

    @property
    def counts(self) -> bool:
        """Whether the result is one row of a count and nothing else."""
        return self.aggregates == ("count",) and not self.group_by


@lru_cache(maxsize=4096)
def structure_of(text: str, system: str) -> Structure | None:
    """The structure of a statement, or None where the parser can't read it."""
    if len(text) > TEXT_MOST:
        return None
    slots = tuple(slots_of(text, system))
    try:
        tree = sqlglot.parse_one(marked(text, slots), read=DIALECTS.get(system, "sqlite"))
    except (sqlglot.errors.SqlglotError, RecursionError, ValueError, AttributeError, TypeError):
        return None
    try:
        found = _read(tree, slots)
        names = tuple({t.alias_or_name: t.name for t in tree.find_all(exp.Table)}.items())
        used = _used(tree, dict(names), found.main if len(names) == 1 else "")
        return msgspec.structs.replace(found, volatile=bool(_VOLATILE.search(text)), names=names, used=used)
    except (AttributeError, KeyError, TypeError, ValueError, RecursionError):
        return None


def _used(tree: Any, names: dict[str, str], only: str) -> tuple[Column, ...]:
    """Every column named; `*` for a whole row, but not the one of COUNT(*)."""
    found = [_column(node, names, only) for node in tree.find_all(exp.Column)]
    stars = [node for node in tree.find_all(exp.Star) if not isinstance(node.parent, exp.Count | exp.Column)]
    return tuple(dict.fromkeys([*found, *(Column("", "*") for _ in stars[:1])]))


def _read(tree: Any, slots: tuple[Slot, ...]) -> Structure:
    tables = tuple(dict.fromkeys(t.name for t in tree.find_all(exp.Table) if t.name and t.name not in _ctes(tree)))
    if isinstance(tree, exp.Insert | exp.Update | exp.Delete):
        target = tree.this.find(exp.Table) if tree.this is not None else None
        kind = type(tree).__name__.lower()
        main = target.name if target is not None else ""
        names = _aliases(tree)
        where = _predicates(tree.args.get("where"), names, main)
        return Structure(kind, main, tables, predicates=where, slots=slots, written=_written(tree))
    select = tree if isinstance(tree, exp.Select) else None
    if select is None:
        kind = "select" if isinstance(tree, exp.Query) else "other"
        return Structure(kind, tables[0] if tables else "", tables, slots=slots)
    return _read_select(select, tables, slots)


def _written(tree: Any) -> tuple[str, ...]:
    """The columns that an INSERT lists or an UPDATE sets."""
    if isinstance(tree, exp.Insert):
        return tuple(node.name for node in tree.this.expressions) if isinstance(tree.this, exp.Schema) else ()
    return tuple(node.this.name for node in tree.expressions if isinstance(node, exp.EQ))


def _read_select(select: exp.Select, tables: tuple[str, ...], slots: tuple[Slot, ...]) -> Structure:
    names = _aliases(select)
    source = select.args.get("from_") or select.args.get("from")
    main_table = source.this if source is not None else None
    main = main_table.name if isinstance(main_table, exp.Table) else (tables[0] if tables else "")
    only = main if len(names) == 1 else ""
    predicates = list(_predicates(select.args.get("where"), names, only))
    inner = _only_inner(select) if not predicates else None
    if inner is not None:  # SELECT EXISTS(SELECT ...), SELECT COUNT(*) FROM (SELECT ...): the inner one holds the key
        inner_names = _aliases(inner)
        main = main or next(iter(inner_names.values()), "")
        predicates = list(_predicates(inner.args.get("where"), inner_names, main if len(inner_names) == 1 else ""))
    joins: list[Join] = []
    for join in select.args.get("joins") or ():
        outer = bool(join.side)
        on = join.args.get("on")
        joins += [j for j in _joins(on, names, only) if j]
        joins = [msgspec.structs.replace(j, outer=outer) if i >= len(joins) - 1 else j for i, j in enumerate(joins)]
        predicates += _predicates(on, names, only)
        joined = join.this.name if isinstance(join.this, exp.Table) else ""
        for using in join.args.get("using") or ():
            joins.append(Join(Column(main, using.name), Column(joined, using.name), outer))
    joins += _joins(select.args.get("where"), names, only)
    order = select.args.get("order")
    group = select.args.get("group")
    limit = select.args.get("limit")
    offset = select.args.get("offset")
    return Structure(
        kind="select",
        main=main,
        tables=tables,
        outputs=tuple(_output(e, names, only) for e in select.expressions),
        predicates=tuple(predicates),
        joins=tuple(joins),
        group_by=tuple(
            _column(e, names, only) for e in (group.expressions if group else ()) if isinstance(e, exp.Column)
        ),
        order_by=tuple(
            (_column(e.this, names, only), bool(e.args.get("desc")))
            for e in (order.expressions if order else ())
            if isinstance(e.this, exp.Column)
        ),
        has_limit=limit is not None or select.args.get("fetch") is not None,
        limit_slot=_slot(limit.expression) if isinstance(limit, exp.Limit) else None,
        offset_slot=_slot(offset.expression) if offset is not None else None,
        distinct=select.args.get("distinct") is not None,
        subqueries=sum(1 for _ in select.find_all(exp.Select)) - 1,
        locks=bool(select.args.get("locks")) or "advisory" in select.sql().lower(),
        exists=_is_exists(select),
        slots=slots,
    )


def _ctes(tree: exp.Expression) -> set[str]:
    return {cte.alias for cte in tree.find_all(exp.CTE)}


def _aliases(tree: exp.Expression) -> dict[str, str]:
    """Name used in the statement -> table, of the statement itself and not of its subqueries."""
    names: dict[str, str] = {}
    for table in tree.find_all(exp.Table):
        if table.parent_select in (None, tree) or not isinstance(tree, exp.Select):
            names.setdefault(table.alias_or_name, table.name)
    for derived in tree.find_all(exp.Subquery):
        if derived.parent_select is tree and derived.alias:
            inner = derived.find(exp.Table)
            names.setdefault(derived.alias, inner.name if inner is not None else "")
    return names


def _column(node: exp.Expression, names: dict[str, str], only: str) -> Column:
    if not isinstance(node, exp.Column):
        return Column("", "")
    return Column(names.get(node.table, node.table) if node.table else only, node.name)


def _output(node: exp.Expression, names: dict[str, str], only: str) -> Output:
    inner = node.this if isinstance(node, exp.Alias) else node
    if isinstance(inner, exp.Star):
        return Output(Column(only, "*"), "*", star=True)
    if isinstance(inner, exp.Column):
        if isinstance(inner.this, exp.Star):
            return Output(Column(names.get(inner.table, inner.table), "*"), "*", star=True)
        return Output(_column(inner, names, only), node.alias_or_name)
    if isinstance(inner, exp.AggFunc):
        argument = inner.find(exp.Column)
        column = _column(argument, names, only) if argument is not None else Column("", "")
        return Output(column, node.alias_or_name, aggregate=type(inner).__name__.lower())
    return Output(Column("", ""), node.alias_or_name)


def _conjuncts(node: Any) -> list[Any]:
    if node is None:
        return []
    if isinstance(node, exp.Where):
        return _conjuncts(node.this)
    if isinstance(node, exp.And):
        return _conjuncts(node.left) + _conjuncts(node.right)
    if isinstance(node, exp.Paren):
        return _conjuncts(node.this)
    return [node]


def _predicates(node: exp.Expression | None, names: dict[str, str], only: str) -> tuple[Predicate, ...]:
    found: list[Predicate] = []
    for part in _conjuncts(node):
        if isinstance(part, exp.Or):
            for inner in part.find_all(*_COMPARISONS, exp.In, exp.Between):
                one = _predicate(inner, names, only, False)
                if one:
                    found.append(one)
            continue
        one = _predicate(part, names, only, True)
        if one:
            found.append(one)
    return tuple(found)


def _predicate(node: exp.Expression, names: dict[str, str], only: str, required: bool) -> Predicate | None:
    negated = isinstance(node, exp.Not)
    if negated:
        node = node.this
    if isinstance(node, exp.In):
        side, inside = _sided(node.this)
        if side is None or node.args.get("query") is not None:
            return None
        slots = tuple(s for s in map(_slot, node.expressions) if s is not None)
        return Predicate(_column(side, names, only), "not in" if negated else "in", slots, required, inside)
    if isinstance(node, exp.Between):
        side, inside = _sided(node.this)
        if side is None:
            return None
        slots = tuple(s for s in (_slot(node.args["low"]), _slot(node.args["high"])) if s is not None)
        return Predicate(_column(side, names, only), "between", slots, required, inside)
    operator = _COMPARISONS.get(type(node))
    if operator is None:
        return None
    left, right = node.this, node.args.get("expression")
    side, inside = _sided(left)
    value = right
    if side is None or (_slot(left) is not None):
        side, inside = _sided(right)
        value = left
        operator = _MIRRORED.get(operator, operator)
    if side is None:
        return None
    number = _slot(value)
    if number is None and not isinstance(value, exp.Null | exp.Boolean):
        return None
    if operator == "is":
        operator = "is not null" if negated else "is null"
    elif negated:
        operator = "not " + operator
    return Predicate(_column(side, names, only), operator, () if number is None else (number,), required, inside)


def _sided(node: exp.Expression | None) -> tuple[exp.Column | None, str]:
    """The column that one side of a comparison is about, and the function around it ('' for none)."""
    if isinstance(node, exp.Paren):
        return _sided(node.this)
    if isinstance(node, exp.Column):
        return node, ""
    if isinstance(node, exp.Func | exp.Cast | exp.Binary) and not isinstance(node, exp.AggFunc):
        inner = list(node.find_all(exp.Column))
        if len(inner) == 1:
            return inner[0], type(node).__name__.lower() if not isinstance(node, exp.Anonymous) else node.name.lower()
    return None, ""


def _slot(node: exp.Expression | None) -> int | None:
    """The slot number that stands in an expression: a literal, a placeholder, a cast or a sign around one."""
    while isinstance(node, exp.Cast | exp.Neg | exp.Paren):
        node = node.this
    if isinstance(node, exp.Literal | exp.Placeholder):
        return slot_number(str(node.this)) if node.this else None
    if isinstance(node, exp.Parameter | exp.Column):
        return slot_number(node.name)
    return None


def _joins(node: exp.Expression | None, names: dict[str, str], only: str) -> list[Join]:
    found = []
    for part in _conjuncts(node):
        if isinstance(part, exp.EQ) and isinstance(part.left, exp.Column) and isinstance(part.right, exp.Column):
            left, right = _column(part.left, names, only), _column(part.right, names, only)
            if left != right and slot_number(left.name) is None and slot_number(right.name) is None:
                found.append(Join(left, right))
    return found


def _only_inner(select: exp.Select) -> exp.Select | None:
    """The one SELECT inside another, where there is exactly one."""
    inner = [found for found in select.find_all(exp.Select) if found is not select]
    return inner[0] if len(inner) == 1 else None


def _is_exists(select: exp.Select) -> bool:
    """SELECT EXISTS(...), or SELECT 1 ... LIMIT 1."""
    if len(select.expressions) != 1:
        return False
    only = select.expressions[0]
    only = only.this if isinstance(only, exp.Alias) else only
    return isinstance(only, exp.Exists) or (isinstance(only, exp.Literal) and select.args.get("limit") is not None)
