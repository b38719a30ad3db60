"""The one plan tree for all servers."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import msgspec

FULL_SCAN = "full scan"
INDEX_SCAN = "index scan"  # the whole index, in its order
INDEX_SEARCH = "index search"
KEY_SEARCH = "key search"  # by the row's own key
INDEX_ONLY = "index-only search"
AUTOMATIC_INDEX = "search of an index built for this query"
# collects where the rows are, for the scan above it to fetch in order
BITMAP = "bitmap of an index search"
OTHER_SCAN = "scan"  # of a function, a CTE, a list of values
NESTED_LOOP = "nested loop"
HASH_JOIN = "hash join"
MERGE_JOIN = "merge join"
SORT = "sort"
GROUP = "group"
AGGREGATE = "aggregate"
WINDOW = "window functions"
DISTINCT = "distinct"
LIMIT = "limit"
HASH = "hash table"
MEMOIZE = "remembered lookups"
FILTER = "filter"
GATHER = "gather from workers"
SUBQUERY = "subquery"
SUBQUERY_PER_ROW = "subquery per row"
MATERIALIZE = "materialize"
COMPOUND = "compound"
CONSTANT = "constant rows"
WRITE = "write"
LOCK = "lock rows"
OTHER = "step"

READS = (FULL_SCAN, INDEX_SCAN, INDEX_SEARCH, KEY_SEARCH, INDEX_ONLY, AUTOMATIC_INDEX)


class Estimate(msgspec.Struct, frozen=True):
    """What the planner expected, for one run of the node. `cost` is in the planner's own unit,
    which is not a time.
    """

    rows: float
    cost: float | None = None
    width_bytes: int | None = None


class Actual(msgspec.Struct, frozen=True):
    """What was measured. `rows` and `removed` (by filters) are per loop; `total_ms` is over all
    loops, children included.

    `spilled_bytes` went to disk for want of memory; blocks are what the node and its children
    touched.
    """

    rows: float
    loops: int = 1
    total_ms: float | None = None
    removed: float = 0.0
    spilled_bytes: int = 0
    blocks_hit: int = 0
    blocks_read: int = 0


class Node(msgspec.Struct, frozen=True):
    """What one step of a plan does. `searched` are the conditions that the index answers; `detail`
    the server's words.

    `name` is what the statement calls the table (its alias); `table` the table itself, if that is
    known. `answered` is the condition as the server writes it that the index answers, `filtered`
    the one that is checked afterwards.
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
    answered: str = ""
    filtered: str = ""
    estimate: Estimate | None = None
    actual: Actual | None = None
    never: bool = False  # planned, and not run once

    def walk(self) -> Iterator[Node]:
        """This node and all below it, in the plan's order."""
        yield self
        for child in self.children:
            yield from child.walk()

    @property
    def own_ms(self) -> float | None:
        """Time spent in the node itself, its children's taken off; None if it was not measured."""
        if self.actual is None or self.actual.total_ms is None:
            return None
        return max(self.actual.total_ms - sum(child.total_ms for child in self.children), 0.0)

    @property
    def total_ms(self) -> float:
        """Time spent in the node and all below it; of a node that was not measured itself, what was
        measured below.
        """
        if self.actual is not None and self.actual.total_ms is not None:
            return self.actual.total_ms
        return sum(child.total_ms for child in self.children)


def walk(nodes: tuple[Node, ...]) -> Iterator[Node]:
    """All nodes of a plan, in its order."""
    for node in nodes:
        yield from node.walk()


def without_values(nodes: tuple[Node, ...], mask: Callable[[str], str]) -> tuple[Node, ...]:
    """The plan with the literals of its conditions masked: a server writes the values of a query
    into them.
    """
    return tuple(
        msgspec.structs.replace(
            node,
            detail=mask(node.detail),
            answered=mask(node.answered),
            filtered=mask(node.filtered),
            children=without_values(node.children, mask),
        )
        for node in nodes
    )


def form(nodes: tuple[Node, ...]) -> tuple[object, ...]:
    """What a plan does, without its numbers and words: two plans of one form work the same way."""
    return tuple(
        (node.kind, node.name, node.table, node.index, form(node.children)) for node in nodes
    )
