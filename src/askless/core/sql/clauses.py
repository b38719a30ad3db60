"""The parts of a SELECT that can be omitted one at a time: joins, conditions, subqueries, the sort,
DISTINCT.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from typing import Any

import msgspec
from sqlglot import exp

from askless.core.sql.parsing import conjuncts, parse
from askless.core.sql.slots import slots_of

NAME_MOST = 60


class Part(msgspec.Struct, frozen=True):
    """A part of a statement, and the statement without it. Placeholders are named `:slot0`,
    `:slot1`, … in `sql`.

    `with_it` says what had to go along with the part, because it depends on it.
    """

    kind: str
    text: str
    sql: str
    with_it: str = ""


def named_form(text: str, system: str, prefix: str = "slot") -> str:
    """The statement with its placeholders as `:slot0`, `:slot1`, …, numbered among all slots."""
    pieces, start = [], 0
    for number, slot in enumerate(slots_of(text, system)):
        if slot.placeholder:
            pieces += [text[start : slot.start], f":{prefix}{number}"]
            start = slot.end
    return "".join(pieces) + text[start:]


def parts_of(text: str, system: str) -> list[Part]:
    """The parts of one SELECT that can be omitted; none where it can't be parsed."""
    parsed = parse(text, system)
    tree = parsed.tree if parsed is not None else None
    if parsed is None or not isinstance(tree, exp.Select):
        return []
    results: list[Part] = []

    def add(kind: str, what: Any, change: Callable[[Any], str | None]) -> None:
        copy = tree.copy()
        with_it = change(copy)
        sql = parsed.written(copy, named=True) if with_it is not None else ""
        if with_it is not None and sql:
            text_of = what if isinstance(what, str) else parsed.written(what)
            results.append(Part(kind, _brief(text_of), sql, with_it))

    for place, join in enumerate(tree.args.get("joins") or ()):
        add("join", join, partial(_without_join, place=place))
    for place, condition in enumerate(conjuncts(tree.args.get("where"))):
        add("condition", condition, partial(_without_condition, place=place))
    for place, output in enumerate(tree.expressions):
        if output.find(exp.Select) is not None and len(tree.expressions) > 1:
            add("subquery", output, partial(_without_output, place=place))
    for name, kind in (
        ("having", "group condition"),
        ("order", "sort"),
        ("distinct", "distinct"),
        ("limit", "limit"),
    ):
        if tree.args.get(name) is not None:
            what = "DISTINCT" if name == "distinct" else tree.args[name]
            add(kind, what, partial(_without_clause, name=name))
    return results


def _brief(text: str) -> str:
    flat = " ".join(text.split())
    return flat if len(flat) <= NAME_MOST else flat[: NAME_MOST - 1] + "…"


def _set_where(tree: Any, conditions: list[Any]) -> None:
    tree.set("where", exp.Where(this=exp.and_(*conditions)) if conditions else None)


def _without_condition(tree: Any, place: int) -> str:
    remaining = [node.copy() for i, node in enumerate(conjuncts(tree.args["where"])) if i != place]
    _set_where(tree, remaining)
    return ""


def _without_output(tree: Any, place: int) -> str:
    name = tree.expressions[place].alias_or_name
    tree.set("expressions", [node for i, node in enumerate(tree.expressions) if i != place])
    order = tree.args.get("order")
    if order is not None and name and any(name == c.name for c in order.find_all(exp.Column)):
        tree.set("order", None)
        return "the sort by it"
    return ""


def _without_clause(tree: Any, name: str) -> str:
    tree.set(name, None)
    if name == "limit":
        tree.set("offset", None)
    return ""


def _dependent(joins: Sequence[Any], place: int) -> set[int]:
    """A join and those whose conditions speak of what it joins, directly or through others."""
    dropped, gone = {place}, {joins[place].this.alias_or_name}
    while True:
        more = {
            i
            for i, join in enumerate(joins)
            if i not in dropped
            and join.args.get("on") is not None
            and _speaks(join.args["on"], gone)
        }
        if not more:
            return dropped
        dropped |= more
        gone |= {joins[i].this.alias_or_name for i in more}


def _has_bare_column(tree: Any) -> bool:
    """Whether a statement has a column without its table's name, and not an alias of its own."""
    own = {output.alias for output in tree.expressions if output.alias}
    return any(
        not column.table and column.name not in own and column.find_ancestor(exp.Select) is tree
        for column in tree.find_all(exp.Column)
    )


def _leave_out(tree: Any, name: str, gone: set[str]) -> bool:
    """Take what speaks of some tables out of a clause; whether there was any."""
    clause = tree.args.get(name)
    if clause is None or not _speaks(clause, gone):
        return False
    remaining = [node for node in clause.expressions if not _speaks(node, gone)]
    clause.set("expressions", remaining)
    if not remaining:
        tree.set(name, None)
    return True


def _without_join(tree: Any, place: int) -> str | None:
    """Leave out a join, with all that speaks of its table; None if nothing of the statement would
    be left.
    """
    joins = tree.args["joins"]
    dropped = _dependent(joins, place)
    gone = {joins[i].this.alias_or_name for i in dropped}
    if _has_bare_column(tree):
        return None  # a column without its table's name may belong to what goes
    texts = []
    outputs = [node for node in tree.expressions if not _speaks(node, gone)]
    if len(outputs) < len(tree.expressions):
        texts.append(_count(len(tree.expressions) - len(outputs), "column"))
    tree.set("expressions", outputs or [exp.Literal.number(1)])
    conditions = conjuncts(tree.args.get("where"))
    remaining = [node.copy() for node in conditions if not _speaks(node, gone)]
    if len(remaining) < len(conditions):
        texts.append(_count(len(conditions) - len(remaining), "condition"))
        _set_where(tree, remaining)
    if _leave_out(tree, "group", gone):
        texts.append("the grouping by it")
    if _leave_out(tree, "order", gone):
        texts.append("the sort by it")
    if len(dropped) > 1:
        texts.append(_count(len(dropped) - 1, "join"))
    tree.set("joins", [join for i, join in enumerate(joins) if i not in dropped])
    return ", ".join(texts)


def _count(count: int, word: str) -> str:
    return f"{count} {word}" + ("" if count == 1 else "s")


def _speaks(node: Any, names: set[str]) -> bool:
    return any(column.table in names for column in node.find_all(exp.Column))
