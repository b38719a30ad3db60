"""What two statements promise about their results: which order, which joins."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import msgspec
from sqlglot import exp

from askless.core.sql.parsing import bare, parse
from askless.core.sql.slots import Slot, slot_number, slots_of
from askless.core.sql.structure_store import structure_of
from askless.core.whole_numbers import whole_number


class ResultGuarantees(msgspec.Struct, frozen=True):
    """What is known of the two statements.

    `order` are positions of the columns that the order promised; None for no order at all, () for
    an order by what is not in the result. `order_kept`: the second statement asks for the same
    order; `order_dropped`: for none at all.
    """

    order: tuple[int, ...] | None = None
    order_kept: bool = False
    order_dropped: bool = False
    inner_join_added: bool = False
    limited: bool = False


def question_of(before: str, after: str, system: str, columns: Sequence[str]) -> ResultGuarantees:
    """What is known of a statement and its rewriting. `columns` are the names in the first one's
    result.
    """
    first, second = _select(before, system), _select(after, system)
    if first is None or second is None:
        return ResultGuarantees()
    ours, theirs = _order_text(first), _order_text(second)
    return ResultGuarantees(
        order=_order(first, columns, slots_of(before, system)),
        order_kept=bool(ours) and theirs[: len(ours)] == ours,
        order_dropped=bool(ours) and not theirs,
        inner_join_added=_inner_joins(second) > _inner_joins(first),
        limited=first.args.get("limit") is not None or second.args.get("limit") is not None,
    )


def caveats_of(
    before: str, after: str, system: str, keys: Mapping[str, Sequence[str]]
) -> tuple[str, ...]:
    """What the texts leave to chance, so that equal rows today prove less. `keys` are the primary
    keys by table.
    """
    doubts = []
    first, second = _select(before, system), _select(after, system)
    if first is None or second is None:
        return ()
    ours, theirs = _order_text(first), _order_text(second)
    if ours and theirs and theirs[: len(ours)] != ours:
        doubts.append(
            "the second statement has another ORDER BY: the rows had the same order here, but "
            "that is not guaranteed"
        )
    doubts += _paging(first, second)
    for which, tree, text in (("first", first, before), ("second", second, after)):
        doubts += _left_open(which, tree, keys)
        if tree.args.get("limit") is None:
            continue
        if tree.args.get("order") is None:
            doubts.append(
                f"the {which} statement has a LIMIT without ORDER BY: its choice of rows is "
                "arbitrary"
            )
        elif not _is_total(tree, text, system, keys):
            doubts.append(
                f"the {which} statement has a LIMIT, and its order is not unique: its choice "
                "among ties is arbitrary"
            )
    return tuple(doubts)


_LISTS = (exp.GroupConcat, exp.ArrayAgg, exp.JSONArrayAgg)
_LIST_NAMES = frozenset(
    ("string_agg", "array_agg", "group_concat", "json_agg", "jsonb_agg", "json_arrayagg")
)


def _left_open(
    which: str, tree: exp.Expression, keys: Mapping[str, Sequence[str]]
) -> Iterator[str]:
    """What functions leave to chance: the order inside lists that are put together, the numbers of
    rows that tie.
    """
    lists = [node for node in tree.find_all(*_LISTS, exp.Anonymous) if _is_list(node)]
    if any(node.find(exp.Order) is None for node in lists):
        yield (
            f"the {which} statement puts values together into a list without an ORDER BY inside: "
            "their order is not guaranteed"
        )
    single = {columns[0].lower() for columns in keys.values() if len(columns) == 1}
    for window in tree.find_all(exp.Window):
        order = window.args.get("order")
        ordered = order.find_all(exp.Column) if order is not None else ()
        if isinstance(window.this, exp.RowNumber) and not single & {
            column.name.lower() for column in ordered
        }:
            yield (
                f"the {which} statement numbers rows by an order that is not unique: which of two "
                "rows that tie comes first is arbitrary"
            )
            return


def _is_list(node: Any) -> bool:
    if isinstance(node.parent, exp.WithinGroup):
        return False
    return not isinstance(node, exp.Anonymous) or node.name.lower() in _LIST_NAMES


def _paging(first: exp.Expression, second: exp.Expression) -> Iterator[str]:
    """Pages by OFFSET on one side, and by a key on the other."""
    skips = [tree.args.get("offset") is not None for tree in (first, second)]
    ranges = [
        sum(1 for _ in tree.find_all(exp.GT, exp.GTE, exp.LT, exp.LTE)) for tree in (first, second)
    ]
    if skips[0] != skips[1] and ranges[0] != ranges[1]:
        yield (
            "one statement skips rows by OFFSET and the other begins after a key: they agree only "
            "where as many rows precede that key, so compare a page after deleted rows too"
        )


def _is_total(
    tree: exp.Expression, text: str, system: str, keys: Mapping[str, Sequence[str]]
) -> bool:
    """Whether no two rows tie: the order goes by the whole key of each table, or by all groups."""
    structure = structure_of(text, system)
    if structure is None or not isinstance(tree, exp.Select):
        return False
    ordered = {(column.table.lower(), column.name.lower()) for column, _ in structure.order_by}
    group = tree.args.get("group")
    if group is not None:
        groups = [(column.table.lower(), column.name.lower()) for column in structure.group_by]
        return len(groups) == len(group.expressions) and ordered >= set(groups)
    wanted = {
        (table.lower(), column.lower())
        for table in structure.tables
        for column in keys.get(table, ("",))
    }
    return not structure.subqueries and ordered >= wanted


def _order_text(tree: exp.Expression) -> list[str]:
    """What a statement orders by, in a form that can be compared."""
    order = tree.args.get("order")
    return [entry.sql().lower() for entry in order.expressions] if order is not None else []


def _select(text: str, system: str) -> exp.Expression | None:
    parsed = parse(text, system)
    return parsed.tree if parsed is not None else None


def _inner_joins(tree: exp.Expression) -> int:
    return sum(1 for join in tree.find_all(exp.Join) if not join.side)


def _order(
    tree: exp.Expression, columns: Sequence[str], slots: Sequence[Slot]
) -> tuple[int, ...] | None:
    """Positions in the result of what the rows are ordered by; None for no order, () where the
    result does not show it.
    """
    order = tree.args.get("order")
    if order is None:
        return None
    names = [column.lower() for column in columns]
    selected = tree.expressions if isinstance(tree, exp.Select) else []
    results = []
    for entry in order.expressions:
        place = _place(entry.this, selected, names, slots)
        if place is None:
            return ()
        results.append(place)
    return tuple(results)


def _place(
    node: exp.Expression,
    selected: Sequence[exp.Expression],
    names: Sequence[str],
    slots: Sequence[Slot],
) -> int | None:
    if isinstance(node, exp.Literal):  # ORDER BY 2
        number = slot_number(str(node.this))
        written = slots[number].text if number is not None and number < len(slots) else ""
        place = whole_number(written) or 0
        return place - 1 if 0 < place <= len(names) else None
    for place, output in enumerate(selected):
        inner = bare(output)
        if len(selected) == len(names) and (
            inner == node or (isinstance(node, exp.Column) and output.alias_or_name == node.name)
        ):
            return place
    if isinstance(node, exp.Column) and names.count(node.name.lower()) == 1:
        return names.index(node.name.lower())
    return None
