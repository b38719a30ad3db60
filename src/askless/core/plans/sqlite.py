"""Reads SQLite's EXPLAIN QUERY PLAN: rows of (id, parent, unused, detail), as
https://sqlite.org/eqp.html has them.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from askless.core.plans import tree
from askless.core.plans.errors import LOST_INDENTATION, UnreadablePlan
from askless.core.plans.tree import Node

_READ = re.compile(
    r"^(?P<how>SCAN|SEARCH) (?:TABLE |SUBQUERY )?(?P<name>\S+)(?: AS (?P<alias>\S+))?"
    r"(?: VIRTUAL TABLE INDEX \S+)?"
    r"(?: USING (?P<auto>AUTOMATIC )?(?:PARTIAL )?(?P<covering>COVERING )?(?P<index>INDEX "
    r"(?P<index_name>\S+)?|INTEGER PRIMARY KEY|PRIMARY KEY|ROWID SEARCH\S*.*?))?"
    r"\s*(?:\((?P<searched>.*)\))?(?P<rest>(?: [A-Z-]+)*)$"
)
_CONDITION = re.compile(r"([^\s()<>=]+|<expr>)\s*(?:[<>=]|$)")
_FIXED = (
    (
        re.compile(
            r"^USE TEMP B-TREE FOR (?:(?:LAST |RIGHT PART OF |LAST TERM OF |\d+ TERMS OF "
            r").*)?ORDER BY"
        ),
        tree.SORT,
    ),
    (re.compile(r"^USE TEMP B-TREE FOR (?:.*)ORDER BY"), tree.SORT),
    (re.compile(r"^USE TEMP B-TREE FOR GROUP BY"), tree.GROUP),
    (re.compile(r"^USE TEMP B-TREE FOR (?:DISTINCT|.*\(DISTINCT\))"), tree.DISTINCT),
    (re.compile(r"^SCAN (?:\d+ )?CONSTANT ROW"), tree.CONSTANT),
    (re.compile(r"^CORRELATED "), tree.SUBQUERY_PER_ROW),
    (re.compile(r"^(?:EXECUTE )?(?:SCALAR|LIST) SUBQUERY|^EXECUTE LIST|^REUSE"), tree.SUBQUERY),
    (re.compile(r"^MATERIALIZE|^CO-ROUTINE"), tree.MATERIALIZE),
    (
        re.compile(
            r"^COMPOUND|^UNION|^EXCEPT|^INTERSECT|^LEFT-MOST|^MERGE|^LEFT$|^RIGHT$|^MULTI-INDEX"
            r"|^INDEX \d|^SETUP|^RECURSIVE"
        ),
        tree.COMPOUND,
    ),
)


_BRANCH = re.compile(r"^(?P<indent>(?:[| ]  )*)[|`]--(?P<detail>\S.*)$")
_ROW = re.compile(r"^(\d+)\|(\d+)\|\d+\|(\S.*)$")


def is_tree(text: str) -> bool:
    """Whether a text is the tree that SQLite's shell draws, or its rows with bars between them."""
    filled = [line for line in text.splitlines() if line.strip()]
    return bool(filled) and any(_BRANCH.match(line) or _ROW.match(line) for line in filled[:2])


def read_tree(text: str) -> tuple[Node, ...]:
    """The shell's tree. Raises UnreadablePlan, which names the line."""
    rows: list[tuple[int, int, int, str]] = []
    path: list[int] = []
    last: set[int] = set()  # the depths whose last step was read
    for number, line in enumerate(text.splitlines(), 1):
        branch, row = _BRANCH.match(line.rstrip()), _ROW.match(line.rstrip())
        if row is not None:
            rows.append((int(row[1]), int(row[2]), 0, row[3]))
        elif branch is not None:
            depth = len(branch["indent"]) // 3
            if depth > len(path):
                raise UnreadablePlan(number, f"this step has no parent: {line.strip()[:60]!r}")
            if depth in last:
                raise UnreadablePlan(number, LOST_INDENTATION)
            last = {one for one in last if one < depth}
            if line.rstrip()[3 * depth] == "`":
                last.add(depth)
            del path[depth:]
            rows.append((number, path[-1] if path else 0, 0, branch["detail"]))
            path.append(number)
        elif line.strip():
            raise UnreadablePlan(
                number, f"this is not a step of an SQLite plan: {line.strip()[:60]!r}"
            )
    return read(rows, {})


def read(rows: Sequence[tuple[int, int, int, str]], names: Mapping[str, str]) -> tuple[Node, ...]:
    """The plan tree. `names` tells the table after each name that the statement uses."""
    children: dict[int, list[tuple[int, str]]] = {}
    for ident, parent, _, detail in rows:
        children.setdefault(parent, []).append((ident, detail))

    def build(ident: int, detail: str) -> Node:
        below = tuple(
            build(child, text) for child, text in children.get(ident, ()) if child != ident
        )
        return node_of(detail, names, below)

    return tuple(build(ident, detail) for ident, detail in children.get(0, ()))


def _kind(line: re.Match[str]) -> str:
    """The kind of a line that reads a table."""
    index, scans = line["index"] or "", line["how"] == "SCAN"
    if not index:
        return tree.FULL_SCAN if scans else tree.OTHER
    if line["auto"]:
        return tree.AUTOMATIC_INDEX
    if not index.startswith("INDEX"):
        return tree.FULL_SCAN if scans else tree.KEY_SEARCH
    if scans:
        return tree.INDEX_SCAN
    return tree.INDEX_ONLY if line["covering"] else tree.INDEX_SEARCH


def node_of(detail: str, names: Mapping[str, str], children: tuple[Node, ...] = ()) -> Node:
    """One line of the plan as a node; a line that is not known keeps its words and is a `step`."""
    result = None if "CONSTANT ROW" in detail else _READ.match(detail)
    if result is None:
        kind = next((kind for pattern, kind in _FIXED if pattern.search(detail)), tree.OTHER)
        return Node(kind, detail, children=children)
    name = result["alias"] or result["name"]
    table = result["name"] if result["alias"] else names.get(name, name)
    searched = tuple(_CONDITION.findall(result["searched"] or ""))
    kind, covering = _kind(result), bool(result["covering"])
    if name.startswith("("):
        kind, table = tree.OTHER, ""
    index_name = (result["index_name"] or "") if not result["auto"] else ""
    outer = "LEFT-JOIN" in result["rest"]
    return Node(kind, detail, name, table, index_name, covering, searched, outer, children)
