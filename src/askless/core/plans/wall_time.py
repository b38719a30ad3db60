"""Whose time it is: PostgreSQL's plans count some of it twice, for each worker, or where it was
waited for.

After this each node's time is wall time, and holds that of its children and nothing else, so that
shares add up:

- below a gather, times of all workers together are divided by their number;
- a CTE, or a subquery that is run once, hangs below the node that names it, and is run by the node
  that first reads its rows: the time is taken off that one, and off all between.
"""

from __future__ import annotations

import re

import msgspec

from askless.core.plans import tree
from askless.core.plans.tree import Node

_RETURNS = re.compile(r"\(returns ((?:\$\d+,?)+)\)")
_INIT = re.compile(r"^InitPlan \d+")


def settled(nodes: tuple[Node, ...]) -> tuple[Node, ...]:
    """The plan with each node's time its own and its children's."""
    return tuple(_taken_off(_of_workers(node, 1.0)) for node in nodes)


def _of_workers(node: Node, workers: float) -> Node:
    actual = node.actual
    if actual is not None and actual.total_ms is not None and workers > 1:
        actual = msgspec.structs.replace(actual, total_ms=actual.total_ms / workers)
    below = workers
    if (
        node.kind == tree.GATHER
        and node.actual is not None
        and node.children
        and node.children[-1].actual is not None
    ):
        below = workers * max(node.children[-1].actual.loops / max(node.actual.loops, 1), 1.0)
    children = tuple(
        _of_workers(child, workers if child.kind == tree.SUBQUERY else below)
        for child in node.children
    )
    return msgspec.structs.replace(node, actual=actual, children=children)


def _taken_off(node: Node) -> Node:
    """What hangs below a node and is run elsewhere below it is taken off there; innermost first."""
    node = msgspec.structs.replace(node, children=tuple(map(_taken_off, node.children)))
    for hung in node.children:
        words = _words_for(hung)
        if words is None or not hung.total_ms:
            continue
        remaining_ms, children = hung.total_ms, []
        for child in node.children:
            if child is not hung and remaining_ms > 0:
                child, taken = _spared(child, words, remaining_ms)
                remaining_ms -= taken
            children.append(child)
        node = msgspec.structs.replace(node, children=tuple(children))
    return node


def _words_for(hung: Node) -> re.Pattern[str] | None:
    """What a node says that reads this CTE, or the result of this subquery; None for a node of
    another kind.
    """
    if hung.kind == tree.MATERIALIZE and hung.detail.startswith("CTE "):
        return re.compile(rf"^CTE Scan on {re.escape(hung.detail[4:])}(?!\w)")
    returns = _RETURNS.search(hung.detail)
    if hung.kind != tree.SUBQUERY or (returns is None and not _INIT.match(hung.detail)):
        return None
    if returns is not None:
        return re.compile(
            "|".join(re.escape(name) + r"(?!\d)" for name in returns[1].split(",") if name)
        )
    return re.compile(re.escape(hung.detail) + r"\)?\.")


def _spared(node: Node, words: re.Pattern[str], most_ms: float) -> tuple[Node, float]:
    """The node and all below it without time of something else that those which say so waited for;
    how much that was.
    """
    children, taken = [], 0.0
    gathers = node.kind == tree.GATHER and any(_says(below, words) for below in node.walk())
    for child in node.children:
        if taken < most_ms and not gathers and child.kind != tree.MATERIALIZE:
            child, ms = _spared(child, words, most_ms - taken)
            taken += ms
        children.append(child)
    actual = node.actual
    # What its workers need to know a gather finds out before it starts them.
    if (gathers or _says(node, words)) and actual is not None and actual.total_ms is not None:
        own = actual.total_ms - sum(child.total_ms for child in node.children)
        taken += max(min(own, most_ms - taken), 0.0)
    if taken and actual is not None and actual.total_ms is not None:
        actual = msgspec.structs.replace(actual, total_ms=max(actual.total_ms - taken, 0.0))
    return msgspec.structs.replace(node, children=tuple(children), actual=actual), taken


def _says(node: Node, words: re.Pattern[str]) -> bool:
    return any(words.search(text) for text in (node.detail, node.filtered, node.answered))
