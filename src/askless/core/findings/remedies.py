"""What a pattern ends with next to its evidence: a remedy, which says what is to be changed and
leaves the words to others.

Advice turns it into words, a replay into statements; neither works out again what the pattern knew.
"""

from __future__ import annotations

from collections.abc import Sequence
from enum import StrEnum

import msgspec

from askless.core.aggregation.shape_stats import ShapeStats
from askless.core.findings.finding import SourceLine
from askless.core.inference.failures import Failure
from askless.core.inference.lineage import Source
from askless.core.records.model import Load
from askless.core.sql.slots import Value
from askless.core.sql.structure import Column, Structure
from askless.core.sql.value_equality import single


class Variant(StrEnum):
    """What a lookup row by row asks for."""

    TO_ONE = "to-one"
    TO_MANY = "to-many"
    LINK_TABLE = "link-table"
    SAME_ROW = "same-row"
    FIRST = "first-of-each"
    FEW = "few-of-each"
    COUNT = "count"
    EXISTS = "exists"
    AGGREGATE = "aggregate"

    @property
    def is_number(self) -> bool:
        """Whether one value comes back instead of rows."""
        return self in (Variant.COUNT, Variant.EXISTS, Variant.AGGREGATE)


class Key(msgspec.Struct, frozen=True):
    """The key of a lookup: its place among the statement's slots, and the column that it is
    compared with.

    `listed`: the slot holds a list, which has just one value. `next to` are the other slots that
    vary with it: further columns of a composite key, or (`same`) the same value once more.
    """

    slot: int
    column: Column
    listed: bool = False
    same: bool = False
    beside: tuple[Key, ...] = ()

    @property
    def columns(self) -> tuple[str, ...]:
        """The names of the key's columns."""
        return (self.column.name, *(key.column.name for key in self.beside if not key.same))

    def value(self, row: Sequence[Value]) -> Value:
        """The key among the values of an execution; None if its list has not just one."""
        value = row[self.slot]
        return single(value)[1] if self.listed else value


class Remedy(msgspec.Struct, frozen=True, kw_only=True):
    """What all remedies hold: the shape to be changed, the line that asks most, and what a request
    is spared, in words.
    """

    stats: ShapeStats
    line: SourceLine | None
    saving: str

    @property
    def structure(self) -> Structure:
        """What the statement asks."""
        return self.stats.parsed


class Batch(Remedy, frozen=True, kw_only=True):
    """Read for all keys at once what is read key by key.

    `table` is that of the key's column. `queries` are asked in one request, and `load` is what the
    ORM said of them. `loop` is the shape of the outermost loop around them, so many levels above,
    which is over so many `objects`.
    `root` is the ORM's query that the loop depends on, and `path` names the relations from it to
    what is read. `parent` is the shape that supplied the keys, `parent_line` the line of the
    outermost one. `only_counted`: the rows were loaded and none was looked at; `conditions`: the
    lookup has others next to its key; `loaded`: the route loads the relation eagerly, too.
    `levels` are those of a tree that the lookups walk; 0 for none. `limit` is the LIMIT that each
    of them has; 0 if they have not one. `within` are the queries of the loop above that the rows
    can come with, one query each; 0 where they come with the first one. `expired`: the objects had
    lost by then what an earlier query loads with them.
    """

    key: Key
    table: str
    variant: Variant
    queries: float
    objects: float = 0.0
    loop: str = ""
    depth: int = 1
    load: Load | None = None
    source: Source | None = None
    root: ShapeStats | None = None
    path: tuple[Load, ...] = ()
    parent: ShapeStats | None = None
    parent_key: Key | None = None  # the parent is looked up row by row itself, by this column
    parent_line: SourceLine | None = None
    only_counted: bool = False
    conditions: bool = False
    loaded: bool = False
    levels: int = 0
    limit: int = 0
    within: float = 0.0
    expired: bool = False


class Group(Remedy, frozen=True, kw_only=True):
    """Ask once for what is asked for one constant after the other; `buckets`: for one range after
    the other.
    """

    key: Key
    table: str
    buckets: bool = False


class ShareResult(Remedy, frozen=True, kw_only=True):
    """Read once what is read again; `callers` are the lines that ask."""

    callers: tuple[SourceLine, ...]


class UseLoadedRows(Remedy, frozen=True, kw_only=True):
    """Use rows that `source` has fetched; they are looked up by `column`."""

    source: ShapeStats | None
    column: str


class Project(Remedy, frozen=True, kw_only=True):
    """Leave columns out of a result; `unread` says that no one was seen to read them. `path` names
    the eager loads from the first query to this one, if it is one.
    """

    wide: tuple[str, ...]
    unread: bool
    path: tuple[Load, ...] = ()


class Paginate(Remedy, frozen=True, kw_only=True):
    """Read a part of the rows at a time."""


class SeekByKey(Remedy, frozen=True, kw_only=True):
    """Reach a page by key, not by counting the rows before it."""


class ReadPlan(Remedy, frozen=True, kw_only=True):
    """Look at the plan. `missing` are compared columns that no index begins with, if that is
    known.
    """

    missing: tuple[str, ...] = ()


class PushDown(Remedy, frozen=True, kw_only=True):
    """Let the database choose, or count. `columns` are those that the application tested; none: it
    only counted.
    """

    columns: tuple[str, ...]
    rows: float


class DropEagerLoad(Remedy, frozen=True, kw_only=True):
    """Do not load a relation; `joined` says that a join brings it, not a query of its own.
    `needed_by` are the routes that read it, and load it at the same line.
    """

    load: Load
    joined: bool
    needed_by: tuple[str, ...] = ()


class BatchWrites(Remedy, frozen=True, kw_only=True):
    """Write at once what is written row by row; `alone` says that each write commits by itself.

    `parted`: each object is written to several tables, of which this is one. `flushed`: a read
    between them makes the ORM write.
    """

    alone: bool
    flushed: bool = False
    parted: bool = False


class ShortenTransaction(Remedy, frozen=True, kw_only=True):
    """End a transaction before something else is waited for. `locking`: it holds locks; `known`: it
    is known for what.
    """

    locking: bool
    known: bool


class FixFailure(Remedy, frozen=True, kw_only=True):
    """Mend what fails. `always`: it never went well."""

    failure: Failure
    always: bool


class BulkUpsert(Remedy, frozen=True, kw_only=True):
    """Look for all rows at once and insert those that are missing. `insert` is the shape of the
    INSERT, `columns` the key.

    `changes`: rows that are there are changed, not left alone.
    """

    insert: ShapeStats
    columns: tuple[str, ...]
    changes: bool


class SplitJoin(Remedy, frozen=True, kw_only=True):
    """Ask apart for what a join multiplies. `variant` is the pattern's; `tables` are those joined
    to the main one.
    """

    variant: str
    tables: tuple[str, ...]


class BindParameters(Remedy, frozen=True, kw_only=True):
    """Bind values instead of writing them into the text."""


class Decorrelate(Remedy, frozen=True, kw_only=True):
    """Group once what a subquery asks for each row; `scanned` are the columns that no index finds
    for it.
    """

    scanned: tuple[Column, ...]


class BatchPerType(Remedy, frozen=True, kw_only=True):
    """Read for all rows of a kind at once what is read row by row from the table that `kind` tells.

    `kinds` are the shapes of the lookups with the column that each is looked up by; `key` is the
    column of `root`'s result that holds their keys. `load` is what the ORM said, and `at` where the
    root is asked. `path` names the eager loads from the first query to the root, if it is one.
    """

    kinds: tuple[tuple[ShapeStats, str], ...]
    key: str
    kind: str
    load: Load | None
    root: ShapeStats
    at: SourceLine | None
    path: tuple[Load, ...] = ()


class CacheResult(Remedy, frozen=True, kw_only=True):
    """Keep a result for `live_s` seconds; `writes` tells who changes its tables."""

    live_s: int
    writes: tuple[str, ...]


class SelectColumn(Remedy, frozen=True, kw_only=True):
    """Ask for the one column that is read, not for whole objects."""

    column: str
