"""The registry of plan readers: a server's plan format is a file in this folder and a line here.

A live server's plans are read by the same modules: see `database/servers`.
"""

from __future__ import annotations

import re
from importlib import import_module

from askless.core.plans.tree import Node
from askless.core.plans.unreadable import UnreadablePlan

# Saved plans: name of the form -> its system, the module, the function that knows such a text when it sees one, and the
# function that reads it. The first form that knows a text reads it.
SAVED = {
    "PostgreSQL's JSON": ("postgresql", "askless.core.plans.postgresql", "is_json", "read_json"),
    "MariaDB's and MySQL's JSON": ("mariadb", "askless.core.plans.mysql", "is_json", "read_json"),
    "the table of MariaDB and MySQL": ("mariadb", "askless.core.plans.mysql", "is_table", "read_table"),
    "MySQL's tree": ("mysql", "askless.core.plans.mysql_tree", "is_tree", "read_tree"),
    "PostgreSQL's text": ("postgresql", "askless.core.plans.postgresql", "is_text", "read_text"),
}


def read_saved(text: str) -> tuple[str, tuple[Node, ...]]:
    """The system of a saved plan, and its tree. Raises UnreadablePlan, which names the line."""
    text = _unframed(text)
    for system, module, knows, read in SAVED.values():
        reading = import_module(module)
        if getattr(reading, knows)(text):
            nodes: tuple[Node, ...] = getattr(reading, read)(text)
            return system, nodes
    raise UnreadablePlan(1, "it is no plan in a form that is known: " + ", ".join(SAVED))


# What web pages and mail put into a text: invisible breaks, and spaces of another kind.
_INVISIBLE = dict.fromkeys(map(ord, "\u200b\u200c\u200d\u2060\ufeff\u00ad")) | {0xA0: " ", 0x2007: " ", 0x202F: " "}
_FRAME = re.compile(r"^\s*(?:QUERY PLAN|[-+=]{4,}|\(\d+ rows?\))\s*$")
_OTHER_FORMS = ((re.compile(r"^[ \t]*- Plan:", re.M), "YAML"), (re.compile(r"^[ \t]*<explain\b", re.M), "XML"))


def _unframed(text: str) -> str:
    """The text without what was wrapped around it; JSON in psql's frame as JSON. Lines keep their numbers."""
    text = text.translate(_INVISIBLE)
    for pattern, name in _OTHER_FORMS:
        found = pattern.search(text)
        if found:
            line = text.count("\n", 0, found.start()) + 1
            raise UnreadablePlan(
                line, f"this is the {name} form, which is not read; the plain text and FORMAT JSON are"
            )
    lines = text.splitlines()
    if '"Plan"' in text or '"query_block"' in text:
        lines = ["" if _FRAME.match(line) else re.sub(r"\s*\+$", "", line) for line in lines]
    return "\n".join(lines)
