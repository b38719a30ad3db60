"""The one place where SQL text becomes a tree, and a tree text again. Whatever goes wrong in a
parser ends here.

Each slot of the text (a literal, a placeholder) carries its number through the tree, so that what
was written comes back as it was, whatever a dialect's writer makes of it.
"""

from __future__ import annotations

import logging
import re
import sys  # for the depth of recursion only
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import Any

import sqlglot
from sqlglot import exp

from askless.core.sql.slots import Slot, marked, slot_number, slots_of
from askless.core.systems import system_of
from askless.core.whole_numbers import whole_number

logging.getLogger("sqlglot").setLevel(logging.CRITICAL)

# characters; a longer statement (an INSERT of thousands of rows) takes the parser seconds
TEXT_MOST = 50_000
# brackets within brackets; beyond that no person wrote it, and the parser needs 20 calls for each
DEPTH_MOST = 150
# Nodes that the parser may make. Statements take at most one for two characters; but where it tries
# one reading after another, each JOIN without ON doubles them: 30 of them would take hours.
NODES_LEAST, NODES_PER_CHARACTER = 5_000, 1
RECURSION_MOST = 12_000
# What the parser, the writer and a walk over their trees may raise on text that no one foresaw.
_FAULTS = (
    sqlglot.errors.SqlglotError, AttributeError, KeyError, IndexError, TypeError, ValueError,
    RecursionError,
)  # fmt: skip
_MARK = re.compile(r"'~slot(\d+)~'|\b77(\d{8})\b|(?<!:):slot(\d+)\b")
# What the writers of dialects make of a named placeholder.
_NAMED = re.compile(r"%\((slot\d+|keys|last_seen)\)s|@(slot\d+|keys|last_seen)\b")

Tree = exp.Expression


class Parsed:
    """A statement: its tree, its slots, and the system whose SQL it is. Changes are made to a
    `copy`.
    """

    __slots__ = ("slots", "system", "tree")

    def __init__(self, tree: Tree, slots: Sequence[Slot], system: str) -> None:
        self.tree = tree
        self.slots = slots
        self.system = system

    def written(self, tree: Tree, named: bool = False, pretty: bool = False) -> str:
        """A tree made of this statement's as text; '' where it can't be written.

        Literals and placeholders come back as they were; with `named`, placeholders as `:slot0`,
        `:slot1`, …
        """
        try:
            with _deep():
                text = tree.sql(dialect=system_of(self.system).dialect, pretty=pretty)
        except _FAULTS:
            return ""

        def original(match: re.Match[str]) -> str:
            number = whole_number(match[1] or match[2] or match[3])
            if (
                number is None
                or number >= len(self.slots)
                or (named and self.slots[number].placeholder)
            ):
                return match[0]
            return self.slots[number].text

        return _MARK.sub(original, _NAMED.sub(lambda match: f":{match[1] or match[2]}", text))


def parse_all(text: str, system: str) -> list[Parsed]:
    """The statements of a text; none where one of them can't be parsed."""
    if len(text) > TEXT_MOST or _depth(text) > DEPTH_MOST:
        return []
    slots = slots_of(text, system)
    most = NODES_LEAST + NODES_PER_CHARACTER * len(text)
    try:
        with _deep():
            trees = sqlglot.parse(
                marked(text, slots), read=system_of(system).dialect, max_nodes=most
            )
    except _FAULTS:
        return []
    return [Parsed(tree, slots, system) for tree in trees if isinstance(tree, exp.Expression)]


def parse(text: str, system: str) -> Parsed | None:
    """The one statement of a text; None if it can't be parsed, or where there are several."""
    result = parse_all(text, system)
    return result[0] if len(result) == 1 else None


@contextmanager
def trying() -> Iterator[None]:
    """A walk over a tree that is given up where it meets something no one foresaw: nothing is
    better than wrong.
    """
    try:
        with _deep():
            yield
    except _FAULTS:
        return


@contextmanager
def _deep() -> Iterator[None]:
    """Room for the recursion that deep statements take; a call of Python's own needs no stack of
    the machine's.
    """
    before = sys.getrecursionlimit()
    if before >= RECURSION_MOST:
        yield
        return
    sys.setrecursionlimit(RECURSION_MOST)
    try:
        yield
    finally:
        sys.setrecursionlimit(before)


def _depth(text: str) -> int:
    """How deep brackets stand within brackets, at most; those in literals count too, which does no
    harm.
    """
    deepest = depth = 0
    for sign in re.findall(r"[()]", text):
        depth += 1 if sign == "(" else -1
        deepest = max(deepest, depth)
    return deepest


def slot_in(node: Any) -> int | None:
    """The slot that is in an expression: a literal or a placeholder, with a cast, a sign or
    brackets around it.
    """
    while isinstance(node, exp.Cast | exp.Neg | exp.Paren):
        node = node.this
    if isinstance(node, exp.Literal | exp.Placeholder):
        return slot_number(str(node.this)) if node.this else None
    if isinstance(node, exp.Parameter | exp.Column):
        return slot_number(node.name)
    return None


def conjuncts(node: Any) -> list[Any]:
    """What AND joins at the top of a condition, in order."""
    results: list[Any] = []
    waiting = [node]
    while waiting:
        part = waiting.pop()
        if isinstance(part, exp.Where | exp.Paren | exp.Having):
            waiting.append(part.this)
        elif isinstance(part, exp.And):
            waiting += [part.right, part.left]
        elif part is not None:
            results.append(part)
    return results


def correlated(part: Any, scope: Any) -> tuple[Any, Any] | None:
    """The column of a subquery's own and that of the query around it which a condition sets equal;
    None for any other.
    """
    if not isinstance(part, exp.EQ):
        return None
    sides: list[Any] = [
        side.unnest() if isinstance(side, exp.Paren) else side for side in (part.left, part.right)
    ]
    if not all(isinstance(side, exp.Column) for side in sides):
        return None
    own = [not side.table or side.table in scope.sources for side in sides]
    if own.count(True) != 1:
        return None
    return (sides[0], sides[1]) if own[0] else (sides[1], sides[0])


def source_of(select: Any) -> Any:
    """What is first in FROM; None for a SELECT without. (Newer parsers call the argument
    `from_`.)
    """
    clause = select.args.get("from_") or select.args.get("from")
    return clause.this if clause is not None else None


def bare(node: Any) -> Any:
    """An output without its alias."""
    return node.this if isinstance(node, exp.Alias) else node


def is_star(node: Any) -> bool:
    """`*` or `t.*`."""
    return isinstance(node, exp.Star) or (
        isinstance(node, exp.Column) and isinstance(node.this, exp.Star)
    )


def extreme_asked(node: Any) -> tuple[Any, Any] | None:
    """The column and the query of `column = (SELECT MAX(…) …)` or `column IN (SELECT MAX(…) …)`;
    MIN as well.
    """
    side = query = None
    if isinstance(node, exp.In) and not node.args.get("negate"):
        side, query = node.this, node.args.get("query")
    elif isinstance(node, exp.EQ):
        side, query = (
            (node.left, node.right)
            if isinstance(node.left, exp.Column)
            else (node.right, node.left)
        )
    while isinstance(query, exp.Subquery | exp.Paren):
        query = query.this
    if (
        not isinstance(side, exp.Column)
        or not isinstance(query, exp.Select)
        or len(query.expressions) != 1
    ):
        return None
    return (side, query) if isinstance(bare(query.expressions[0]), exp.Max | exp.Min) else None
