"""The registries of plan readers: a server's plan format is a file in this folder and a line here."""

from __future__ import annotations

from importlib import import_module
from typing import Any

from askless.core.plans.tree import Node
from askless.core.plans.unreadable import UnreadablePlan

# System -> the module whose `read` takes the rows that a live database gives.
READERS = {"sqlite": "askless.core.plans.sqlite"}

# Saved plans: name of the form -> its system, the module, the function that knows such a text when it sees one, and the
# function that reads it. The first form that knows a text reads it.
SAVED = {
    "PostgreSQL's JSON": ("postgresql", "askless.core.plans.postgresql", "is_json", "read_json"),
    "MariaDB's and MySQL's JSON": ("mariadb", "askless.core.plans.mysql", "is_json", "read_json"),
    "the table of MariaDB and MySQL": ("mariadb", "askless.core.plans.mysql", "is_table", "read_table"),
    "PostgreSQL's text": ("postgresql", "askless.core.plans.postgresql", "is_text", "read_text"),
}


def reader(system: str) -> Any:
    """The module that reads a system's plans. Raises KeyError where there is none."""
    return import_module(READERS[system])


def read_saved(text: str) -> tuple[str, tuple[Node, ...]]:
    """The system of a saved plan, and its tree. Raises UnreadablePlan, which names the line."""
    for system, module, knows, read in SAVED.values():
        reading = import_module(module)
        if getattr(reading, knows)(text):
            nodes: tuple[Node, ...] = getattr(reading, read)(text)
            return system, nodes
    raise UnreadablePlan(1, "it is no plan in a form that is known: " + ", ".join(SAVED))
