"""The registry of plan readers: a server's plan format is a file in this folder and a line here.

A live server's plans are read by the same modules: see `database/servers`.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from importlib import import_module

import msgspec

from askless.core.errors import MALFORMED
from askless.core.plans.errors import UnreadablePlan
from askless.core.plans.pasted_text import unframed
from askless.core.plans.tree import OTHER, Node, walk

_NUMBER_MOST = 1e18  # of rows, blocks, milliseconds or costs
_COST = re.compile(r"\(cost=\d")
_UNREAD = re.compile(r"\(cost=\d|\(actual (?:time|rows)=")

# Saved plans: name of the form -> its system, the module, the function that knows such a text when
# it sees one, and the function that reads it. The first form that knows a text reads it.
SAVED = {
    "PostgreSQL's JSON": ("postgresql", "askless.core.plans.postgresql", "is_json", "read_json"),
    "MariaDB's and MySQL's JSON": ("mariadb", "askless.core.plans.mysql", "is_json", "read_json"),
    "MySQL's JSON of version 2": ("mysql", "askless.core.plans.mysql_tree", "is_json", "read_json"),
    "the table of MariaDB and MySQL": (
        "mariadb",
        "askless.core.plans.mysql",
        "is_table",
        "read_table",
    ),
    "MySQL's tree": ("mysql", "askless.core.plans.mysql_tree", "is_tree", "read_tree"),
    "the tree of SQLite's shell": ("sqlite", "askless.core.plans.sqlite", "is_tree", "read_tree"),
    "PostgreSQL's text": ("postgresql", "askless.core.plans.postgresql", "is_text", "read_text"),
}


def read_saved(text: str) -> tuple[str, tuple[Node, ...]]:
    """The system of a saved plan, and its tree. Raises UnreadablePlan, which names the line."""
    system = ""

    def read(text: str) -> tuple[Node, ...]:
        nonlocal system
        text = unframed(text)
        for system, module, knows, name in SAVED.values():  # noqa: B007  (whose plan it is)
            reading = import_module(module)
            if getattr(reading, knows)(text):
                nodes: tuple[Node, ...] = getattr(reading, name)(text)
                _check(text, nodes)
                return nodes
        raise UnreadablePlan(1, "it is not a plan in a known format: " + ", ".join(SAVED))

    nodes = checked(read, text)
    return system, nodes


def checked(read: Callable[[str], tuple[Node, ...]], text: str) -> tuple[Node, ...]:
    """The plan that a reader makes of a text. Raises UnreadablePlan, also for values that no server
    writes.

    A plan is a text that anybody may have changed: of what is not a number in it nothing can be
    said.
    """
    try:
        nodes = read(text)
    except MALFORMED as error:
        raise UnreadablePlan(1, f"it has an impossible value ({type(error).__name__})") from None
    for node in walk(nodes):
        for part in (node.estimate, node.actual):
            numbers = msgspec.structs.astuple(part) if part is not None else ()
            if any(
                isinstance(number, int | float) and not abs(number) <= _NUMBER_MOST
                for number in numbers
            ):
                raise UnreadablePlan(1, "it has an impossible number")
    return nodes


def _check(text: str, nodes: tuple[Node, ...]) -> None:
    """Raises UnreadablePlan if a step was misread: each cost belongs to one step, and none is left
    in its words.
    """
    costs = _COST.findall(text)
    if not costs:
        return
    steps = list(walk(nodes))
    uncut = next(
        (node for node in steps if _UNREAD.search(node.detail) or _UNREAD.search(node.name)), None
    )
    if uncut is not None:
        line = text[: text.index("(cost=")].count("\n") + 1
        raise UnreadablePlan(
            line, f"a step could not be separated from its numbers: {uncut.detail[:60]!r}"
        )
    stray = next(
        (node for node in steps if node.kind == OTHER and node.estimate is None and not node.never),
        None,
    )
    if stray is not None and any(node.estimate is not None for node in nodes[1:] or stray.children):
        raise UnreadablePlan(
            1, f"this is not a plan step, although one is expected here: {stray.detail[:60]!r}"
        )
