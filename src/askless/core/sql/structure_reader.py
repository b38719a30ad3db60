"""Reads a statement's structure off its tree."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Sequence
from typing import Any

import msgspec
from sqlglot import exp

from askless.core.sql.conditions import comparisons, either_of, through_values
from askless.core.sql.names import Names
from askless.core.sql.parsing import (
    Parsed,
    bare,
    conjuncts,
    correlated,
    extreme_asked,
    is_star,
    parse,
    slot_in,
    source_of,
    trying,
)
from askless.core.sql.structure import (
    EVERYTHING,
    Column,
    Correlation,
    Join,
    Output,
    Predicate,
    Structure,
)

# Functions whose value changes from call to call: the same text with the same parameters then gives
# other rows.
_VOLATILE = re.compile(
    r"\b(?:random|rand|nextval|lastval|uuid|uuid_generate_v\w*|gen_random_uuid|newid|randomblob"
    r"|changes"
    r"|last_insert_rowid|last_insert_id|scope_identity|pg_advisory\w*|get_lock)\s*\(",
    re.IGNORECASE,
)
# What tells the time, the coarsest last: by the moment, by the transaction (on PostgreSQL) or by
# the day.
_CLOCKS = (
    ("moment", re.compile(r"\b(?:now|clock_timestamp|statement_timestamp|sysdate|getdate"
                          r"|getutcdate|sysdatetime"
                          r"|sysutcdatetime|utc_timestamp|curtime|unix_timestamp)\s*\("
                          r"|\b(?:current_timestamp|current_time"
                          r"|localtimestamp|localtime|sysdate|systimestamp)\b|'now'", re.I)),
    ("day", re.compile(r"\bcurrent_date\b|\b(?:curdate|utc_date)\s*\(", re.I)),
)  # fmt: skip
_BY_TRANSACTION = re.compile(
    r"\b(?:now|transaction_timestamp)\s*\(\s*\)|\b(?:current_timestamp|current_time|localtimestamp"
    r"|localtime)\b",
    re.I,
)
_LOCKING = re.compile(r"\b(?:pg_(?:try_)?advisory\w*|get_lock)\s*\(", re.IGNORECASE)
# Around an aggregate these change its value for each group, and make no other thing of it.
_WRAPPERS = (exp.Coalesce, exp.Cast, exp.Paren, exp.Round, exp.Abs, exp.Neg)
_KINDS = {
    exp.Insert: "insert",
    exp.Update: "update",
    exp.Delete: "delete",
    exp.Merge: "merge",
    exp.Copy: "copy",
    exp.TruncateTable: "truncate",
}
# Statements that the parser knows by their first word alone, and whether they may write.
_COMMANDS = {
    "replace": True,
    "call": True,
    "execute": True,
    "do": True,
    "load": True,
    "exec": True,
    "refresh": True,
}
_WRITTEN_BY_COMMAND = re.compile(
    r"^\s*(?:into|data\b.*?\binto\s+table|materialized\s+view)?\s*[\"`\[]?(\w+)", re.I | re.S
)


def read(text: str, system: str) -> Structure | None:
    """The structure of a statement, or None if the parser can't read it."""
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
    named = [(t.alias_or_name, t.name) for t in tree.find_all(exp.Table)]
    counted = Counter(name for name, _ in named)
    return msgspec.structs.replace(
        result,
        slots=tuple(parsed.slots),
        volatile=bool(_VOLATILE.search(text)),
        clock=_clock(text, parsed.system),
        locks=result.locks or bool(_LOCKING.search(text)),
        names=tuple(dict(named).items()),
        repeated=tuple(name for name, times in counted.items() if times > 1),
        used=_used(tree, names),
        writes=_writes(tree),
    )


def _clock(text: str, system: str) -> str:
    """How fine the clock is that a statement looks at; '' where it looks at none."""
    if system == "postgresql":  # there the clock does not advance while a transaction is open
        finer = _BY_TRANSACTION.sub("", text)
        if finer != text and not _CLOCKS[0][1].search(finer):
            return "transaction"
    return next((name for name, pattern in _CLOCKS if pattern.search(text)), "")


def _tables(tree: Any) -> tuple[str, ...]:
    """The tables that a statement names, each once, in order; what it defines itself omitted."""
    own = {cte.alias for cte in tree.find_all(exp.CTE)}
    named = (t.name for t in tree.find_all(exp.Table))
    return tuple(
        dict.fromkeys(name for name in named if name and name not in own and name.lower() != "dual")
    )


def _used(tree: Any, names: Names) -> tuple[Column, ...]:
    """Every column named; `*` for a whole row, but not the one of COUNT(*)."""
    results = [names.column(node) for node in tree.find_all(exp.Column) if not is_star(node)]
    whole = any(not isinstance(node.parent, exp.Count) for node in tree.find_all(exp.Star))
    return tuple(dict.fromkeys([*results, *([Column("", "*")] if whole else [])]))


def _writes(tree: Any) -> tuple[str, ...]:
    """The tables that a statement writes, in lower case; EVERYTHING where it may write any."""
    results: list[str] = []
    for node in tree.find_all(
        exp.Insert,
        exp.Update,
        exp.Delete,
        exp.Merge,
        exp.TruncateTable,
        exp.Copy,
        exp.Into,
        exp.Command,
        exp.Create,
        exp.Drop,
        exp.Alter,
    ):
        if isinstance(node, exp.Command):
            results += _written_by(node)
        else:
            results += [table.name.lower() for table in _written_tables(node)]
    return tuple(dict.fromkeys(filter(None, results)))


def _written_by(command: exp.Command) -> list[str]:
    """What is written by a command that the parser keeps as text."""
    word = str(command.this).lower()
    if word not in _COMMANDS:
        return []
    if word not in ("replace", "load", "refresh") or command.expression is None:
        return [EVERYTHING]
    into = _WRITTEN_BY_COMMAND.match(str(command.expression.this))
    return [into[1].lower() if into is not None else EVERYTHING]


def _written_tables(node: Any) -> list[Any]:
    if isinstance(node, exp.TruncateTable):
        return list(node.expressions)
    if isinstance(node, exp.Copy) and not node.args.get("kind"):
        return []  # TO: rows go out
    others = node.args.get("from_") or node.args.get("using")
    if isinstance(node, exp.Update | exp.Delete) and others is None:
        return _targets(node)
    target = node.this.find(exp.Table) if node.this is not None else None
    return [target] if target is not None else []


def _targets(node: Any) -> list[Any]:
    """The tables that an UPDATE or a DELETE may change: MySQL names several."""
    named = [node.this] if node.this is not None else []
    return [table for part in named for table in part.find_all(exp.Table)]


def _other(tree: Any, names: Names) -> Structure:
    """What is not a query: writes, and all the rest."""
    tables = _tables(tree)
    kind = next((kind for node, kind in _KINDS.items() if isinstance(tree, node)), "")
    if isinstance(tree, exp.Command) and str(tree.this).lower() in _COMMANDS:
        kind = str(tree.this).lower()
    if not kind or kind in ("call", "execute", "do", "exec"):
        return Structure(kind or "other", next(iter(tables), ""), tables)
    if isinstance(tree, exp.Command):
        written = _writes(tree)
        kind = "insert" if kind == "replace" else kind
        return Structure(kind, next(iter(written), ""), written)
    if isinstance(tree, exp.TruncateTable):
        target = next(iter(tree.expressions), None)
    else:
        target = tree.this.find(exp.Table) if tree.this is not None else None
    main = target.name if target is not None else ""
    where = tree.args.get("where")
    return Structure(
        kind,
        main,
        tables,
        predicates=tuple(comparisons(where, names)),
        written=_columns_written(tree),
        computed=_columns_computed(tree),
        filters_by_query=any(one.find(exp.Select) is not None for one in conjuncts(where)),
        filters_more=any(_is_unread(one, names) for one in conjuncts(where)),
    )


def _columns_computed(tree: Any) -> tuple[str, ...]:
    """The columns that an UPDATE sets to more than a value that it is given."""
    if not isinstance(tree, exp.Update):
        return ()
    return tuple(
        node.this.name
        for node in tree.expressions
        if isinstance(node, exp.EQ)
        and slot_in(node.expression) is None
        and not isinstance(node.expression, exp.Null | exp.Boolean | exp.Literal)
    )


def _columns_written(tree: Any) -> tuple[str, ...]:
    """The columns that an INSERT lists or an UPDATE sets."""
    if isinstance(tree, exp.Insert):
        return (
            tuple(node.name for node in tree.this.expressions)
            if isinstance(tree.this, exp.Schema)
            else ()
        )
    if isinstance(tree, exp.Update):
        return tuple(node.this.name for node in tree.expressions if isinstance(node, exp.EQ))
    return ()


def _select(tree: Any, names: Names) -> Structure:
    """A query: its first SELECT, with the conditions of all others, each marked as not the
    statement's own.
    """
    select = _first_select(tree)
    tables = _tables(tree)
    if select is None:
        return Structure("select", "", tables)
    where, alone = select.args.get("where"), select is tree
    main = "" if _is_dummy(source_of(select)) else names.table(source_of(select))
    limit = tree.args.get("limit") or select.args.get("fetch")
    offset = tree.args.get("offset")
    return Structure(
        kind="select",
        main=main or next(iter(tables), ""),
        tables=tables,
        outputs=tuple(_output(node, names) for node in select.expressions),
        predicates=tuple(_all_predicates(tree, select, names)),
        either=tuple(either_of(where, names)) if alone else (),
        joins=tuple(_all_joins(select, main, names)),
        correlations=tuple(_correlations(select, names)) if alone else (),
        group_by=tuple(
            names.column(node)
            for node in _expressions(select, "group")
            if isinstance(node, exp.Column)
        ),
        order_by=_order_by(tree, names),
        has_limit=limit is not None,
        bounded=_is_bounded(tree) or _is_bounded(select),
        limit_slot=_limit_slot(limit),
        offset_slot=slot_in(offset.expression) if offset is not None else None,
        distinct=select.args.get("distinct") is not None,
        subqueries=sum(1 for _ in tree.find_all(exp.Select)) - 1,
        locks=bool(select.args.get("locks")),
        exists=_is_exists(select),
        filters_by_query=any(one.find(exp.Select) is not None for one in conjuncts(where)),
        extreme=_extreme(select, names),
        filters_more=any(_is_unread(one, names) for one in conjuncts(where)),
    )


def _is_unread(condition: Any, names: Names) -> bool:
    """Whether a condition is none of the predicates, nor a join's."""
    if condition.find(exp.Select) is not None:
        return False
    return not [*comparisons(condition, names), *_joins(condition, names, False)]


def _first_select(tree: Any) -> Any:
    while not isinstance(tree, exp.Select):
        if isinstance(tree, exp.SetOperation):
            tree = tree.left
        elif isinstance(tree, exp.Subquery):
            tree = tree.this
        else:
            return None
    return tree


def _order_by(tree: Any, names: Names) -> tuple[tuple[Column, bool], ...]:
    return tuple(
        (names.column(node.this), bool(node.args.get("desc")))
        for node in _expressions(tree, "order")
        if isinstance(node.this, exp.Column)
    )


def _expressions(tree: Any, clause: str) -> Sequence[Any]:
    node = tree.args.get(clause)
    return node.expressions if node is not None else ()


def _all_joins(select: Any, main: str, names: Names) -> list[Join]:
    joins: list[Join] = []
    for join in select.args.get("joins") or ():
        outer = bool(join.side)
        joins += _joins(join.args.get("on"), names, outer)
        joined = names.table(join.this)
        for column in join.args.get("using") or ():
            joins.append(Join(Column(main, column.name), Column(joined, column.name), outer))
    joins += _joins(select.args.get("where"), names, False)
    inner, only = _inner(select)
    if only and isinstance(source_of(select), exp.Subquery):
        joins += _all_joins(inner[0], names.table(source_of(inner[0])), names)
    return joins


def _all_predicates(tree: Any, select: Any, names: Names) -> list[Predicate]:
    """The conditions of a statement's first SELECT, then those of all others."""
    predicates = list(comparisons(select.args.get("where"), names))
    for join in select.args.get("joins") or ():
        predicates += _on(join, names)
    predicates += through_values(select, names)
    if select is tree:
        return [*predicates, *_inner_predicates(select, names)]
    # A row may come from another branch.
    predicates = [msgspec.structs.replace(one, required=False) for one in predicates]
    for branch in tree.find_all(exp.Select):
        if branch is not select:
            predicates += _predicates_of(branch, names, required=False)
    return predicates


def _on(join: Any, names: Names) -> Iterator[Predicate]:
    """The conditions of a join. Those of an outer join keep no row of the result out; of a LEFT
    JOIN they filter what is joined.
    """
    joined = join.this.alias_or_name if join.side == "LEFT" else None
    for one in comparisons(join.args.get("on"), names):
        filters = one.filters and (not join.side or one.source == joined)
        yield msgspec.structs.replace(one, filters=filters, required=one.required and not join.side)


def _limit_slot(limit: Any) -> int | None:
    """The slot of the number of rows, as LIMIT or FETCH FIRST says it."""
    count = (
        limit.args.get("count")
        if isinstance(limit, exp.Fetch)
        else getattr(limit, "expression", None)
    )
    return slot_in(count) if count is not None else None


def _extreme(select: Any, names: Names) -> Column | None:
    """The column that a condition sets equal to its highest or lowest value of some of the same
    table's rows.

    `at = (SELECT MAX(at) FROM the same table …)`, if the query inside asks for the group that the
    row is in: it refers to the row, has groups, or compares the same column with a value as the
    statement does.
    """
    conditions = conjuncts(select.args.get("where"))
    keys = _compared(conditions)
    for node in conditions:
        extreme = extreme_asked(node)
        if extreme is None:
            continue
        side, inner = extreme
        source, own = source_of(inner), names.column(side, names.scope_of(select))
        if not isinstance(source, exp.Table) or source.name.lower() != own.table.lower():
            continue
        within = _compared(conjuncts(inner.args.get("where")))
        inside = {table.alias_or_name for table in inner.find_all(exp.Table)}
        refers = any(
            column.table and column.table not in inside for column in inner.find_all(exp.Column)
        )
        if (
            refers
            or inner.args.get("group") is not None
            or (within and (within & keys or not keys))
        ):
            return own
    return None


def _compared(conditions: list[Any]) -> set[str]:
    """The names of the columns that are set equal to a value."""
    return {
        side.name.lower()
        for node in conditions
        if isinstance(node, exp.EQ)
        for side, other in ((node.left, node.right), (node.right, node.left))
        if isinstance(side, exp.Column) and slot_in(side) is None and slot_in(other) is not None
    }


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
    if _is_bounded(source_of(query)):  # what is joined to a page of rows goes with that page
        return True
    for node in conjuncts(query.args.get("where")):
        if isinstance(node, exp.In) and _is_bounded(node.args.get("query")):
            return True
        counted = node.this if isinstance(node, exp.LT | exp.LTE | exp.EQ) else None
        if isinstance(counted, exp.Column) and counted.name.lower() == "rownum":
            return True
    return False


def _inner_predicates(select: Any, names: Names) -> Iterator[Predicate]:
    """The conditions of subqueries. Those of the only one, which all that comes out goes through,
    every row must meet: SELECT COUNT(*) FROM (SELECT …), SELECT EXISTS(SELECT …).
    """
    inner, only = _inner(select)
    for one in inner:
        yield from _predicates_of(one, names, required=only)


def _inner(select: Any) -> tuple[list[Any], bool]:
    """(the SELECTs inside of one that read tables, whether all that comes out goes through the one
    that there is).
    """
    inner = [
        branch
        for branch in select.find_all(exp.Select)
        if branch is not select and source_of(branch) is not None
    ]
    bare_select = select.args.get("where") is None or (
        _is_dummy(source_of(select)) and _only_exists(select) is not None
    )
    return inner, len(inner) == 1 and bare_select and not select.args.get("joins")


def _predicates_of(select: Any, names: Names, required: bool) -> Iterator[Predicate]:
    conditions = [
        select.args.get("where"),
        *(join.args.get("on") for join in select.args.get("joins") or ()),
    ]
    for condition in conditions:
        for one in comparisons(condition, names):
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
            table = (
                names.column(exp.column("*", table=sources[0]), scope).table
                if len(sources) == 1
                else ""
            )
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


def _joins(node: Any, names: Names, outer: bool) -> list[Join]:
    results = []
    for part in conjuncts(node):
        if (
            isinstance(part, exp.EQ)
            and isinstance(part.left, exp.Column)
            and isinstance(part.right, exp.Column)
        ):
            left, right = names.column(part.left), names.column(part.right)
            if left != right and slot_in(part.left) is None and slot_in(part.right) is None:
                results.append(Join(left, right, outer))
    return results


def _correlations(select: Any, names: Names) -> Iterator[Correlation]:
    """The equalities by which subqueries ask for the row of the query around them."""
    for inner in select.find_all(exp.Select):
        scope = names.scope_of(inner)
        if inner is select or scope is None:
            continue
        exists = inner.find_ancestor(exp.Exists, exp.In, exp.Select)
        per_row = isinstance(inner.parent, exp.Subquery) and not isinstance(
            exists, (exp.Exists, exp.In)
        )
        for part in conjuncts(inner.args.get("where")):
            pair = correlated(part, scope)
            if pair is not None:
                yield Correlation(
                    names.column(pair[0], scope),
                    names.column(pair[1]),
                    per_row,
                    _is_shown(inner, select),
                )


def _is_shown(inner: Any, select: Any) -> bool:
    """Whether a subquery is in what a SELECT gives."""
    node = inner
    while node is not None and node.parent is not select:
        node = node.parent
    return node is not None and node.arg_key == "expressions"


def _is_exists(select: Any) -> bool:
    """SELECT EXISTS(...), SELECT 1 ... LIMIT 1, or SELECT 1 [FROM (SELECT 1)] WHERE EXISTS(...)."""
    if len(select.expressions) != 1:
        return False
    only = bare(select.expressions[0])
    # CASE WHEN EXISTS(...) THEN 1 ELSE 0 END
    while isinstance(only, exp.Case) and only.args.get("ifs"):
        only = only.args["ifs"][0].this
    if isinstance(only, exp.Exists):
        return True
    if slot_in(only) is None and not isinstance(only, exp.Literal):
        return False
    source = source_of(select)
    limited = select.args.get("limit") is not None or select.args.get("fetch") is not None
    return (limited and source is not None) or (
        _is_dummy(source) and _only_exists(select) is not None
    )


def _is_dummy(source: Any) -> bool:
    """Whether a FROM is there for form's sake alone: none, DUAL, or (SELECT 1)."""
    if isinstance(source, exp.Table):
        return source.name.lower() == "dual"
    return source is None or (isinstance(source, exp.Subquery) and source.find(exp.Table) is None)


def _only_exists(select: Any) -> Any:
    """The EXISTS that is the whole condition of a SELECT; None if there is none, or more."""
    conditions = conjuncts(select.args.get("where"))
    return conditions[0] if len(conditions) == 1 and isinstance(conditions[0], exp.Exists) else None
