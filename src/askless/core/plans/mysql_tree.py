"""Reads the tree form of MySQL 8: EXPLAIN FORMAT=TREE and EXPLAIN ANALYZE, as clients print them,
and its JSON.

The JSON of version 2 (the default of MySQL 9) is the same tree, with the same words and some fields
next to them. Rows and times are per loop; times are multiplied out here.
https://dev.mysql.com/doc/refman/8.0/en/explain.html#explain-execution-plan
"""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from typing import Any

import msgspec

from askless.core.plans import tree
from askless.core.plans.errors import LOST_INDENTATION, UnreadablePlan
from askless.core.plans.tree import Actual, Estimate, Node

_STEP = re.compile(r"^(?P<indent>[\s|]*?)(?:EXPLAIN:\s*)?->\s+(?P<words>.*?)[\s|]*$")
_NUMBER = r"[\d.]+(?:e[+-]?\d+)?"
_COST = re.compile(
    rf"\s*\(cost=(?:{_NUMBER}\.\.)?(?P<cost>{_NUMBER})(?: rows=(?P<rows>{_NUMBER}))?\)"
)
_ROWS = re.compile(rf"\s*\(rows=(?P<rows>{_NUMBER})\)")
_ACTUAL = re.compile(
    rf"\s*\(actual time={_NUMBER}\.\.(?P<time>{_NUMBER}) rows=(?P<rows>{_NUMBER}) "
    rf"loops=(?P<loops>\d+)\)"
)
_NEVER = re.compile(r"\s*\(never executed\)")
_ON = re.compile(r" on (?P<table><\w+>|\S+?)(?: using (?P<index>\S+))?(?: |$|,)")
_ANSWERED = re.compile(r"\((?P<columns>[^()]*=[^()]*)\)|over \((?P<range>.*?)\)(?:,|$)")
_COLUMN = re.compile(
    r"'(?:[^']|'')*'|\b(?!(?:and|or|not|null|is|in|like|between)\b)(?P<name>[^\W\d]\w*)", re.I
)
_FRAME = re.compile(
    r"^\s*(?:[+-]{4,}|\|?\s*EXPLAIN\s*\|?|\d+ rows? in set.*|\*+ \d+\. row \*+|mysql>.*)\s*$"
)

_INPUTS = (
    "inputs",
    "inputs_from_condition",
    "inputs_from_group_by",
    "inputs_from_order_by",
    "inputs_from_having",
)

# What a step is, by words that are in it; the first that fits.
_KINDS = (
    ("Single-row covering index lookup", tree.INDEX_ONLY),
    ("Single-row index lookup", tree.INDEX_SEARCH), ("Covering index lookup", tree.INDEX_ONLY),
    ("Covering index range scan", tree.INDEX_ONLY), ("Covering index skip scan", tree.INDEX_ONLY),
    ("Covering index scan", tree.INDEX_SCAN), ("Index lookup", tree.INDEX_SEARCH),
    ("Index range scan", tree.INDEX_SEARCH), ("Index skip scan", tree.INDEX_SEARCH),
    ("Multi-range index lookup", tree.INDEX_SEARCH), ("Full-text", tree.INDEX_SEARCH),
    ("Index scan", tree.INDEX_SCAN), ("Index merge", tree.BITMAP),
    ("Deduplicate rows sorted by row ID", tree.BITMAP),
    ("Intersect rows sorted by row ID", tree.BITMAP), ("Table scan on <", tree.OTHER_SCAN),
    ("Table scan", tree.FULL_SCAN), ("Constant row", tree.KEY_SEARCH),
    ("Rows fetched before execution", tree.CONSTANT), ("Zero rows", tree.CONSTANT),
    ("Rows", tree.CONSTANT), ("Nested loop", tree.NESTED_LOOP),
    ("Batched key access", tree.NESTED_LOOP), ("hash", tree.HASH_JOIN), ("Hash", tree.HASH),
    ("Sort", tree.SORT), ("Group", tree.GROUP), ("Aggregate using temporary table", tree.GROUP),
    ("Aggregate", tree.AGGREGATE), ("Window", tree.WINDOW), ("Remove duplicate", tree.DISTINCT),
    ("Weedout", tree.DISTINCT), ("Limit", tree.LIMIT), ("Count rows", tree.AGGREGATE),
    ("Filter", tree.FILTER), ("Invalidate materialized", tree.MATERIALIZE),
    ("Materialize", tree.MATERIALIZE), ("Temporary table", tree.MATERIALIZE),
    ("Union", tree.COMPOUND), ("Append", tree.COMPOUND), ("Intersect", tree.COMPOUND),
    ("Except", tree.COMPOUND), ("Repeat until", tree.COMPOUND), ("Update", tree.WRITE),
    ("Delete", tree.WRITE), ("Insert", tree.WRITE), ("Replace", tree.WRITE),
)  # fmt: skip


def is_json(text: str) -> bool:
    """Whether a text looks like the JSON form of version 2."""
    return text.lstrip().startswith("{") and '"query_plan"' in text


def read_json(text: str) -> tuple[Node, ...]:
    """A plan in JSON of version 2. Raises UnreadablePlan."""
    try:
        result = json.loads(text)
    except ValueError as error:
        raise UnreadablePlan(
            getattr(error, "lineno", 1), f"it is not valid JSON: {error}"
        ) from None
    plan = result.get("query_plan") if isinstance(result, dict) else None
    if not isinstance(plan, dict) or "operation" not in plan:
        raise UnreadablePlan(1, "the JSON contains no query_plan with an operation")
    return _operation(plan)


def _operation(raw: Mapping[str, Any]) -> tuple[Node, ...]:
    """An operation with what it takes in; after it the subqueries of what it selects, as in the
    tree.
    """
    children = [
        node for key in _INPUTS for entry in _dicts(raw.get(key)) for node in _operation(entry)
    ]
    node = _node(
        str(raw.get("operation", "")),
        tuple(children),
        _expected(raw),
        _measured(raw),
        raw.get("actual_loops") == 0,
    )
    if raw.get("table_name") and node.name:
        node = msgspec.structs.replace(node, table=str(raw["table_name"]) if node.table else "")
    if raw.get("heading"):
        node = _node(str(raw["heading"]), (node,), None, None, False)
    beside = [
        node for entry in _dicts(raw.get("inputs_from_select_list")) for node in _operation(entry)
    ]
    return node, *beside


def _dicts(value: Any) -> list[Mapping[str, Any]]:
    return [entry for entry in value if isinstance(entry, dict)] if isinstance(value, list) else []


def _expected(raw: Mapping[str, Any]) -> Estimate | None:
    rows, cost = raw.get("estimated_rows"), raw.get("estimated_total_cost")
    if not isinstance(rows, int | float):
        return None
    return Estimate(float(rows), float(cost) if isinstance(cost, int | float) else None)


def _measured(raw: Mapping[str, Any]) -> Actual | None:
    rows, loops, last = (raw.get("actual_" + name) for name in ("rows", "loops", "last_row_ms"))
    if not isinstance(rows, int | float) or not isinstance(loops, int | float) or not loops:
        return None
    return Actual(
        float(rows), int(loops), float(last) * loops if isinstance(last, int | float) else None
    )


def is_tree(text: str) -> bool:
    """Whether a text is such a tree: it begins with an arrow, and its costs come without a
    width.
    """
    lines = (line for line in text.splitlines() if line.strip() and not _FRAME.match(line))
    match = _STEP.match(next(lines, ""))
    return match is not None and " width=" not in text


def read_tree(text: str) -> tuple[Node, ...]:
    """The tree. Raises UnreadablePlan, which names the line."""
    roots: list[_Step] = []
    stack: list[_Step] = []
    for number, line in enumerate(text.replace("\\n", "\n").splitlines(), 1):
        if not line.strip(" |+-\r") or _FRAME.match(line):
            continue
        match = _STEP.match(line)
        if match is None:
            _check_words(number, line.strip(), not roots)
            continue
        step = _Step(len(match["indent"].replace("|", " ").expandtabs()), match["words"])
        if not roots:
            step.column = 0  # the first line may are after a client's frame or label
        while stack and stack[-1].column >= step.column:
            stack.pop()
        if roots and not stack and not step.words.startswith("Select #"):
            raise UnreadablePlan(number, LOST_INDENTATION)
        (stack[-1].children if stack else roots).append(step)
        stack.append(step)
    if not roots:
        raise UnreadablePlan(1, "there is no plan in it")
    return tuple(step.node() for step in roots)


def _check_words(number: int, line: str, first: bool) -> None:
    """Raises UnreadablePlan for a line without an arrow that is the first one, or has numbers of a
    step: others are the rest of a condition.
    """
    if first:
        raise UnreadablePlan(number, f"this is not a step of a MySQL plan: {line[:60]!r}")
    if _COST.search(line) or _ACTUAL.search(line):
        raise UnreadablePlan(number, f"this step has no arrow: {line[:60]!r}")


class _Step:
    """A line of the plan while it is read."""

    def __init__(self, column: int, words: str) -> None:
        self.column = column
        self.words = words
        self.children: list[_Step] = []

    def node(self) -> Node:
        """The step and all below it."""
        head = _NEVER.sub("", _ACTUAL.sub("", _ROWS.sub("", _COST.sub("", self.words)))).strip()
        children = tuple(child.node() for child in self.children)
        never = _NEVER.search(self.words) is not None
        return _node(head, children, self._estimate(), self._actual(), never)

    def _estimate(self) -> Estimate | None:
        cost, rows = _COST.search(self.words), _ROWS.search(self.words)
        said = (cost["rows"] if cost is not None else None) or (
            rows["rows"] if rows is not None else None
        )
        return (
            Estimate(float(said), float(cost["cost"]) if cost is not None else None)
            if said
            else None
        )

    def _actual(self) -> Actual | None:
        match = _ACTUAL.search(self.words)
        if match is None:
            return None
        loops = int(match["loops"])
        return Actual(float(match["rows"]), loops, float(match["time"]) * loops)


def _subselect(head: str, children: tuple[Node, ...]) -> Node:
    kind = tree.SUBQUERY_PER_ROW if "dependent" in head else tree.SUBQUERY
    return Node(kind, head, children=children, actual=children[0].actual if children else None)


def _begins(head: str, words: str) -> bool:
    return head.startswith(words) or (words == "hash" and " hash " in head)


def _node(
    head: str,
    children: tuple[Node, ...],
    estimate: Estimate | None,
    actual: Actual | None,
    never: bool,
) -> Node:
    """A step by its words, whichever form they come in."""
    if head.startswith("Select #"):
        return _subselect(head, children)
    kind = next((kind for words, kind in _KINDS if _begins(head, words)), tree.OTHER)
    name = index = condition = ""
    searched: tuple[str, ...] = ()
    reads = kind in (*tree.READS, tree.OTHER_SCAN)
    if reads and (on := _ON.search(head)) is not None:
        name, index = on["table"], on["index"] or ""
    if reads and (answered := _ANSWERED.search(head)) is not None:
        condition = next(filter(None, (answered["columns"], answered["range"])), "")
        searched = _searched(answered)
    if (kind, index) == (tree.INDEX_SEARCH, "PRIMARY") and head.startswith("Single-row"):
        kind = tree.KEY_SEARCH
    return Node(
        kind=kind,
        detail=head,
        name=name,
        table="" if name.startswith("<") else name,
        index=index,
        covering=head.lower().startswith(("covering", "single-row covering")),
        searched=searched,
        outer="left join" in head or "Left hash" in head,
        children=children,
        answered=condition,
        filtered=head.partition(": ")[2] if kind == tree.FILTER else "",
        estimate=estimate,
        actual=actual,
        never=never,
    )


def _searched(answered: re.Match[str]) -> tuple[str, ...]:
    """The columns that an index answers: on the left of each `=`, or all that a range names, on
    either side: (100 < id).
    """
    if answered["range"]:
        names = [name for match in _COLUMN.finditer(answered["range"]) if (name := match["name"])]
    else:
        names = re.findall(r"(\w+)\s*=", answered["columns"] or "")
    return tuple(dict.fromkeys(names))
