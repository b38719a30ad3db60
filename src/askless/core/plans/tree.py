"""The one plan tree for all servers."""

from __future__ import annotations

from collections.abc import Iterator

import msgspec

FULL_SCAN = "full scan"
INDEX_SCAN = "index scan"  # the whole index, in its order
INDEX_SEARCH = "index search"
KEY_SEARCH = "key search"  # by the row's own key
INDEX_ONLY = "index-only search"
AUTOMATIC_INDEX = "search of an index built for this query"
SORT = "sort"
GROUP = "group"
DISTINCT = "distinct"
SUBQUERY = "subquery"
SUBQUERY_PER_ROW = "subquery per row"
MATERIALIZE = "materialize"
COMPOUND = "compound"
CONSTANT = "constant rows"
OTHER = "step"

READS = (FULL_SCAN, INDEX_SCAN, INDEX_SEARCH, KEY_SEARCH, INDEX_ONLY, AUTOMATIC_INDEX)


class Node(msgspec.Struct, frozen=True):
    """What one step of a plan does. `searched` are the conditions that the index answers; `detail` the server's words.

    `name` is what the statement calls the table (its alias); `table` the table itself, where that is known.
    """

    kind: str
    detail: str
    name: str = ""
    table: str = ""
    index: str = ""
    covering: bool = False
    searched: tuple[str, ...] = ()
    outer: bool = False
    children: tuple[Node, ...] = ()

    def walk(self) -> Iterator[Node]:
        """This node and all below it, in the plan's order."""
        yield self
        for child in self.children:
            yield from child.walk()


def walk(nodes: tuple[Node, ...]) -> Iterator[Node]:
    """All nodes of a plan, in its order."""
    for node in nodes:
        yield from node.walk()
