"""Reads a statement's structure off its tree."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

import msgspec
from sqlglot import exp

from askless.core.sql.names import Names
from askless.core.sql.parsing import Parsed, bare, conjuncts, is_star, parse, slot_in, source_of, trying
from askless.core.sql.structure import EVERYTHING, Column, Join, Output, Predicate, Structure

_COMPARISONS: dict[type[exp.Expression], str] = {
    exp.EQ: "=", exp.NullSafeEQ: "=", exp.Is: "is", exp.GT: ">", exp.GTE: ">=", exp.LT: "<", exp.LTE: "<=",
    exp.NEQ: "<>", exp.Like: "like", exp.ILike: "ilike",
}  # fmt: skip
_MIRRORED = {">": "<", ">=": "<=", "<": ">", "<=": ">="}
# Functions whose value changes from call to call: the same text with the same parameters then gives other rows.
_VOLATILE = re.compile(
    r"\b(?:random|rand|nextval|lastval|uuid|uuid_generate_v\w*|gen_random_uuid|newid|randomblob|changes"
    r"|last_insert_rowid|last_insert_id|scope_identity|pg_advisory\w*|get_lock)\s*\(",
    re.IGNORECASE,
)
# What tells the time, the coarsest last: by the moment, by the transaction (on PostgreSQL) or by the day.
_CLOCKS = (
    ("moment", re.compile(r"\b(?:now|clock_timestamp|statement_timestamp|sysdate|getdate|getutcdate|sysdatetime"
                          r"|sysutcdatetime|utc_timestamp|curtime|unix_timestamp)\s*\(|\b(?:current_timestamp|current_time"
                          r"|localtimestamp|localtime|sysdate|systimestamp)\b|'now'", re.I)),
    ("day", re.compile(r"\bcurrent_date\b|\b(?:curdate|utc_date)\s*\(", re.I)),
)  # fmt: skip
_BY_TRANSACTION = re.compile(
    r"\b(?:now|transaction_timestamp)\s*\(\s*\)|\b(?:current_timestamp|current_time|localtimestamp|localtime)\b", re.I
)
_LOCKING = re.compile(r"\b(?:pg_(?:try_)?advisory\w*|get_lock)\s*\(", re.IGNORECASE)
# Around an aggregate these change its value for each group, and make no other thing of it.
_WRAPPERS = (exp.Coalesce, exp.Cast, exp.Paren, exp.Round, exp.Abs, exp.Neg)
_KINDS = {exp.Insert: "insert", exp.Update: "update", exp.Delete: "delete", exp.Merge: "merge", exp.Copy: "copy",
          exp.TruncateTable: "truncate"}  # fmt: skip
# Statements that the parser knows by their first word alone, and whether they may write.
_COMMANDS = {"replace": True, "call": True, "execute": True, "do": True, "load": True, "exec": True, "refresh": True}
_WRITTEN_BY_COMMAND = re.compile(
    r"^\s*(?:into|data\b.*?\binto\s+table|materialized\s+view)?\s*[\"`\[]?(\w+)", re.I | re.S
)


def read(text: str, system: str) -> Structure | None:
    """The structure of a statement, or None where the parser can't read it."""
    parsed = parse(text, system)
    if parsed is None:
        return None
    with trying():
        return _structure(parsed, text)
    return None


def _structure(parsed: Parsed, text: str) -> Structure:
    tree = parsed.tree
    names = Names(tree)
    result = _select(tree, names) if isinstance(tree, exp.Query) else _other(tree, names)
    aliases = tuple({t.alias_or_name: t.name for t in tree.find_all(exp.Table)}.items())
    return msgspec.structs.replace(
        result,
        slots=tuple(parsed.slots),
        volatile=bool(_VOLATILE.search(text)),
        clock=_clock(text, parsed.system),
        locks=result.locks or bool(_LOCKING.search(text)),
        names=aliases,
        used=_used(tree, names),
        writes=_writes(tree),
    )


def _clock(text: str, system: str) -> str:
    """How fine the clock is that a statement looks at; '' where it looks at none."""
    if system == "postgresql":  # there the time stands still while a transaction is open
        finer = _BY_TRANSACTION.sub("", text)
        if finer != text and not _CLOCKS[0][1].search(finer):
            return "transaction"
    return next((name for name, pattern in _CLOCKS if pattern.search(text)), "")


def _tables(tree: Any) -> tuple[str, ...]:
    """The tables that a statement names, each once, in order; what it defines itself left out."""
    own = {cte.alias for cte in tree.find_all(exp.CTE)}
    named = (t.name for t in tree.find_all(exp.Table))
    return tuple(dict.fromkeys(name for name in named if name and name not in own and name.lower() != "dual"))


def _used(tree: Any, names: Names) -> tuple[Column, ...]:
    """Every column named; `*` for a whole row, but not the one of COUNT(*)."""
    results = [names.column(node) for node in tree.find_all(exp.Column) if not is_star(node)]
    whole = any(not isinstance(node.parent, exp.Count) for node in tree.find_all(exp.Star))
    return tuple(dict.fromkeys([*results, *([Column("", "*")] if whole else [])]))


def _writes(tree: Any) -> tuple[str, ...]:
    """The tables that a statement writes, in lower case; EVERYTHING where it may write any."""
    results: list[str] = []
    for node in tree.find_all(exp.Insert, exp.Update, exp.Delete, exp.Merge, exp.TruncateTable, exp.Copy, exp.Into,
                              exp.Command, exp.Create, exp.Drop, exp.Alter):  # fmt: skip
        if isinstance(node, exp.Command):
            word = str(node.this).lower()
            if word in _COMMANDS:
                into = _WRITTEN_BY_COMMAND.match(str(node.expression.this)) if node.expression is not None else None
                known = word in ("replace", "load", "refresh") and into is not None
                results.append(into[1].lower() if known and into is not None else EVERYTHING)
        elif isinstance(node, exp.TruncateTable):
            results += [table.name.lower() for table in node.expressions]
        elif isinstance(node, exp.Copy):
            if node.args.get("kind"):  # FROM: rows come in
                target = node.this.find(exp.Table)
                results += [target.name.lower()] if target is not None else []
        elif isinstance(node, exp.Update | exp.Delete) and (node.args.get("from_") or node.args.get("using")) is None:
            results += [table.name.lower() for table in _targets(node)]
        else:
            target = node.this.find(exp.Table) if node.this is not None else None
            results += [target.name.lower()] if target is not None else []
    return tuple(dict.fromkeys(name for name in results if name))


def _targets(node: Any) -> list[Any]:
    """The tables that an UPDATE or a DELETE may change: MySQL names several."""
    named = [node.this] if node.this is not None else []
    return [table for part in named for table in part.find_all(exp.Table)]


def _other(tree: Any, names: Names) -> Structure:
    """What is no query: writes, and all the rest."""
    tables = _tables(tree)
    kind = next((kind for node, kind in _KINDS.items() if isinstance(tree, node)), "")
    if isinstance(tree, exp.Command) and str(tree.this).lower() in _COMMANDS:
        kind = str(tree.this).lower()
    if not kind or kind in ("call", "execute", "do", "exec"):
        return Structure(kind or "other", tables[0] if tables else "", tables)
    if isinstance(tree, exp.Command):
        written = _writes(tree)
        return Structure("insert" if kind == "replace" else kind, written[0] if written else "", written)
    target = tree.this.find(exp.Table) if tree.this is not None else None
    if isinstance(tree, exp.TruncateTable):
        target = tree.expressions[0] if tree.expressions else None
    main = target.name if target is not None else ""
    where = tuple(_predicates(tree.args.get("where"), names))
    return Structure(kind, main, tables, predicates=where, written=_columns_written(tree))


def _columns_written(tree: Any) -> tuple[str, ...]:
    """The columns that an INSERT lists or an UPDATE sets."""
    if isinstance(tree, exp.Insert):
        return tuple(node.name for node in tree.this.expressions) if isinstance(tree.this, exp.Schema) else ()
    if isinstance(tree, exp.Update):
        return tuple(node.this.name for node in tree.expressions if isinstance(node, exp.EQ))
    return ()


def _select(tree: Any, names: Names) -> Structure:
    """A query: its first SELECT, with the conditions of all others, each marked as not the statement's own."""
    select = tree
    while not isinstance(select, exp.Select):
        if isinstance(select, exp.SetOperation):
            select = select.left
        elif isinstance(select, exp.Subquery):
            select = select.this
        else:
            return Structure("select", "", _tables(tree))
    tables = _tables(tree)
    main = names.table(source_of(select)) if not _is_dummy(source_of(select)) else ""
    predicates = list(_predicates(select.args.get("where"), names))
    joins: list[Join] = []
    for join in select.args.get("joins") or ():
        on, outer = join.args.get("on"), bool(join.side)
        joins += _joins(on, names, outer)
        predicates += _predicates(on, names)
        joined = names.table(join.this)
        joins += [Join(Column(main, c.name), Column(joined, c.name), outer) for c in join.args.get("using") or ()]
    joins += _joins(select.args.get("where"), names, False)
    predicates += _through_values(select, names)
    if select is tree:
        predicates += _inner_predicates(select, names)
    else:  # a row may come from another branch
        predicates = [msgspec.structs.replace(one, required=False) for one in predicates]
        for branch in tree.find_all(exp.Select):
            if branch is not select:
                predicates += _predicates_of(branch, names, required=False)
    limit, offset = tree.args.get("limit"), tree.args.get("offset")
    group, order = select.args.get("group"), tree.args.get("order")
    return Structure(
        kind="select",
        main=main or (tables[0] if tables else ""),
        tables=tables,
        outputs=tuple(_output(node, names) for node in select.expressions),
        predicates=tuple(predicates),
        joins=tuple(joins),
        group_by=tuple(names.column(e) for e in (group.expressions if group else ()) if isinstance(e, exp.Column)),
        order_by=tuple(
            (names.column(e.this), bool(e.args.get("desc")))
            for e in (order.expressions if order else ())
            if isinstance(e.this, exp.Column)
        ),
        has_limit=limit is not None or select.args.get("fetch") is not None,
        bounded=_is_bounded(tree) or _is_bounded(select),
        limit_slot=slot_in(limit.expression) if isinstance(limit, exp.Limit) else None,
        offset_slot=slot_in(offset.expression) if offset is not None else None,
        distinct=select.args.get("distinct") is not None,
        subqueries=sum(1 for _ in tree.find_all(exp.Select)) - 1,
        locks=bool(select.args.get("locks")),
        exists=_is_exists(select),
    )


def _is_bounded(query: Any) -> bool:
    """Whether a query has a limit, or all its rows come from one inside that has."""
    while isinstance(query, exp.Subquery):
        query = query.this
    if not isinstance(query, exp.Query):
        return False
    if query.args.get("limit") is not None or query.args.get("fetch") is not None:
        return True
    if not isinstance(query, exp.Select):
        return False
    if not query.args.get("joins") and _is_bounded(source_of(query)):
        return True
    for node in conjuncts(query.args.get("where")):
        if isinstance(node, exp.In) and _is_bounded(node.args.get("query")):
            return True
        counted = node.this if isinstance(node, exp.LT | exp.LTE | exp.EQ) else None
        if isinstance(counted, exp.Column) and counted.name.lower() == "rownum":
            return True
    return False


def _through_values(select: Any, names: Names) -> Iterator[Predicate]:
    """Keys that come as a table of one row: `JOIN (VALUES (?)) AS v(id) ON v.id = t.id`, or `(SELECT ? AS id) AS v`."""
    given: dict[tuple[str, str], int] = {}
    for source in [source_of(select), *(join.this for join in select.args.get("joins") or ())]:
        inner = source.this if isinstance(source, exp.Subquery) else source
        if isinstance(inner, exp.Values) and len(inner.expressions) == 1 and inner.expressions[0].expressions:
            columns = [column.name for column in source.args["alias"].columns] if source.args.get("alias") else []
            values = inner.expressions[0].expressions
        elif isinstance(inner, exp.Select) and source_of(inner) is None:
            columns = [node.alias_or_name for node in inner.expressions]
            values = [bare(node) for node in inner.expressions]
        else:
            continue
        for column, value in zip(columns, values):  # noqa: B905  (a name may be missing)
            number = slot_in(value)
            if number is not None:
                given[source.alias_or_name, column] = number
    if not given:
        return
    conditions = [select.args.get("where"), *(join.args.get("on") for join in select.args.get("joins") or ())]
    for node in (part for condition in conditions for part in conjuncts(condition) if isinstance(part, exp.EQ)):
        for side, other in ((node.left, node.right), (node.right, node.left)):
            if isinstance(side, exp.Column) and isinstance(other, exp.Column) and (other.table, other.name) in given:
                yield Predicate(names.column(side), "=", (given[other.table, other.name],))


def _inner_predicates(select: Any, names: Names) -> Iterator[Predicate]:
    """The conditions of subqueries. Those of the only one, which all that comes out goes through, every row must meet:
    SELECT COUNT(*) FROM (SELECT …), SELECT EXISTS(SELECT …)."""
    inner = [found for found in select.find_all(exp.Select) if found is not select and source_of(found) is not None]
    bare_select = select.args.get("where") is None or (
        _is_dummy(source_of(select)) and _only_exists(select) is not None
    )
    only = len(inner) == 1 and bare_select and not select.args.get("joins")
    for one in inner:
        yield from _predicates_of(one, names, required=only)


def _predicates_of(select: Any, names: Names, required: bool) -> Iterator[Predicate]:
    conditions = [select.args.get("where"), *(join.args.get("on") for join in select.args.get("joins") or ())]
    for condition in conditions:
        for one in _predicates(condition, names):
            yield one if required else msgspec.structs.replace(one, required=False)


def _output(node: Any, names: Names) -> Output:
    inner = bare(node)
    if is_star(inner):
        table = (
            names.column(exp.column("*", table=inner.table), names.scope_around(node)).table
            if isinstance(inner, exp.Column)
            else ""
        )
        if not table:
            scope = names.scope_around(node)
            sources = list(scope.selected_sources) if scope is not None else []
            table = names.column(exp.column("*", table=sources[0]), scope).table if len(sources) == 1 else ""
        return Output(Column(table, "*"), "*", star=True)
    if isinstance(inner, exp.Column):
        return Output(names.column(inner), node.alias_or_name)
    aggregate = inner
    while isinstance(aggregate, _WRAPPERS):
        aggregate = aggregate.this
    if isinstance(aggregate, exp.AggFunc):
        argument = aggregate.find(exp.Column)
        column = names.column(argument) if argument is not None else Column("", "")
        return Output(column, node.alias_or_name, aggregate=type(aggregate).__name__.lower())
    return Output(Column("", ""), node.alias_or_name)


def _predicates(node: Any, names: Names) -> Iterator[Predicate]:
    """The conditions of a WHERE or an ON, those of its subqueries left out."""
    for part in conjuncts(node):
        if isinstance(part, exp.Or):
            for inner in _alternatives(part):
                yield from _predicate(inner, names, False)
        else:
            yield from _predicate(part, names, True)


def _alternatives(node: Any) -> list[Any]:
    """The comparisons that AND and OR join, in order; what stands in subqueries is not among them."""
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
    if isinstance(node, exp.Expression) and node.args.get("negate"):  # newer parsers keep a NOT in the comparison
        negated = not negated
    if isinstance(node, exp.In):
        if isinstance(node.this, exp.Tuple) and len(node.expressions) == 1 and not negated:
            yield from _pairs(node.this, node.expressions[0], names, required)
            return
        side, inside = _sided(node.this)
        if side is not None and node.args.get("query") is None:
            slots = tuple(slot for slot in map(slot_in, node.expressions) if slot is not None)
            yield Predicate(names.column(side), "not in" if negated else "in", slots, required, inside)
        return
    if isinstance(node, exp.Between):
        side, inside = _sided(node.this)
        if side is not None:
            ends = (slot_in(node.args["low"]), slot_in(node.args["high"]))
            slots = tuple(slot for slot in ends if slot is not None)
            yield Predicate(names.column(side), "not between" if negated else "between", slots, required, inside)
        return
    yield from _comparison(node, names, required, negated)


def _comparison(node: Any, names: Names, required: bool, negated: bool) -> Iterator[Predicate]:
    operator = _COMPARISONS.get(type(node))
    if operator is None:
        return
    left, right = node.this, node.args.get("expression")
    if isinstance(node, exp.EQ) and isinstance(left, exp.Tuple) and not negated:
        yield from _pairs(left, right, names, required)
        return
    if isinstance(node, exp.EQ) and isinstance(right, exp.Any) and not negated:
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
    yield Predicate(names.column(side), operator, () if number is None else (number,), required, inside, alike)


def _value_slot(value: Any, inside: str) -> tuple[int | None, bool]:
    """The slot of the value, and whether it stands in the same function as the column does."""
    number = slot_in(value)
    if number is not None or not inside or not isinstance(value, exp.Func) or value.find(exp.Column) is not None:
        return number, False
    name = value.name.lower() if isinstance(value, exp.Anonymous) else type(value).__name__.lower()
    slots = {slot for node in value.find_all(exp.Placeholder, exp.Literal) if (slot := slot_in(node)) is not None}
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
            yield Predicate(names.column(column), "=", (number,), required)


def _any(left: Any, values: Any, names: Names, required: bool) -> Iterator[Predicate]:
    """`column = ANY(?)`, whose value is a list, or `= ANY(ARRAY[?, …])`, which is an IN."""
    side, inside = _sided(left)
    while isinstance(values, exp.Paren | exp.Cast):
        values = values.this
    if side is None:
        return
    if isinstance(values, exp.Array):
        slots = tuple(slot for slot in map(slot_in, values.expressions) if slot is not None)
        yield Predicate(names.column(side), "in", slots, required, inside)
    elif (number := slot_in(values)) is not None:
        yield Predicate(names.column(side), "any", (number,), required, inside)


def _sided(node: Any) -> tuple[exp.Column | None, str]:
    """The column that one side of a comparison is about, and the function around it ('' for none)."""
    if isinstance(node, exp.Paren):
        return _sided(node.this)
    if isinstance(node, exp.Column):
        return node, ""
    if isinstance(node, exp.Func | exp.Cast | exp.Binary) and not isinstance(node, exp.AggFunc):
        inner = [column for column in node.find_all(exp.Column) if slot_in(column) is None]
        if len(inner) == 1 and node.find(exp.Select) is None:
            return inner[0], type(node).__name__.lower() if not isinstance(node, exp.Anonymous) else node.name.lower()
    return None, ""


def _joins(node: Any, names: Names, outer: bool) -> list[Join]:
    results = []
    for part in conjuncts(node):
        if isinstance(part, exp.EQ) and isinstance(part.left, exp.Column) and isinstance(part.right, exp.Column):
            left, right = names.column(part.left), names.column(part.right)
            if left != right and slot_in(part.left) is None and slot_in(part.right) is None:
                results.append(Join(left, right, outer))
    return results


def _is_exists(select: Any) -> bool:
    """SELECT EXISTS(...), SELECT 1 ... LIMIT 1, or SELECT 1 [FROM (SELECT 1)] WHERE EXISTS(...)."""
    if len(select.expressions) != 1:
        return False
    only = bare(select.expressions[0])
    while isinstance(only, exp.Case) and only.args.get("ifs"):  # CASE WHEN EXISTS(...) THEN 1 ELSE 0 END
        only = only.args["ifs"][0].this
    if isinstance(only, exp.Exists):
        return True
    if slot_in(only) is None and not isinstance(only, exp.Literal):
        return False
    source = source_of(select)
    limited = select.args.get("limit") is not None or select.args.get("fetch") is not None
    return (limited and source is not None) or (_is_dummy(source) and _only_exists(select) is not None)


def _is_dummy(source: Any) -> bool:
    """Whether a FROM stands there for form's sake alone: none, DUAL, or (SELECT 1)."""
    if isinstance(source, exp.Table):
        return source.name.lower() == "dual"
    return source is None or (isinstance(source, exp.Subquery) and source.find(exp.Table) is None)


def _only_exists(select: Any) -> Any:
    """The EXISTS that is the whole condition of a SELECT; None where there is none, or more."""
    conditions = conjuncts(select.args.get("where"))
    return conditions[0] if len(conditions) == 1 and isinstance(conditions[0], exp.Exists) else None
