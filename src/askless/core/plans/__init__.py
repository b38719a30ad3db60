"""The registries of plan readers: a server's plan format is a file in this folder and a line here."""

from __future__ import annotations

from collections.abc import Callable
from importlib import import_module
from typing import Any

from askless.core.plans.tree import Node
from askless.core.plans.unreadable import UnreadablePlan

# System -> the module whose `read` takes the rows that a live database gives.
READERS = {"sqlite": "askless.core.plans.sqlite"}

# Saved plans: name of the form -> its system, the module, and the function that reads a text. The first form that
# `recognised` finds is taken.
SAVED = {
    "PostgreSQL's JSON": ("postgresql", "askless.core.plans.postgresql", "read_json"),
    "MariaDB's and MySQL's JSON": ("mariadb", "askless.core.plans.mysql", "read_json"),
    "the table of MariaDB and MySQL": ("mariadb", "askless.core.plans.mysql", "read_table"),
    "PostgreSQL's text": ("postgresql", "askless.core.plans.postgresql", "read_text"),
}


def reader(system: str) -> Any:
    """The module that reads a system's plans. Raises KeyError where there is none."""
    return import_module(READERS[system])


def recognised(text: str) -> str:
    """The form of a saved plan, by its first sign; '' where it is none that is known."""
    bare = text.lstrip()
    if bare.startswith(("[", "{")):
        if '"query_block"' in bare:
            return "MariaDB's and MySQL's JSON"
        return "PostgreSQL's JSON" if '"Plan"' in bare else ""
    is_table: Callable[[str], bool] = import_module("askless.core.plans.mysql").is_table
    if is_table(bare):
        return "the table of MariaDB and MySQL"
    begins: Callable[[str], bool] = import_module("askless.core.plans.postgresql").begins_a_plan
    return "PostgreSQL's text" if begins(bare) else ""


def read_saved(text: str) -> tuple[str, tuple[Node, ...]]:
    """The system of a saved plan, and its tree. Raises UnreadablePlan, which names the line."""
    form = recognised(text)
    if not form:
        raise UnreadablePlan(1, "it is no plan in a form that is known: " + ", ".join(SAVED))
    system, module, function = SAVED[form]
    read: Callable[[str], tuple[Node, ...]] = getattr(import_module(module), function)
    return system, read(text)
