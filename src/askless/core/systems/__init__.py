"""What is particular to a database system, as data: one file a system, one line here.

What a system *does* (how it explains, if an index is tried) is in `askless.database.servers`, under
the same name.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from functools import lru_cache
from importlib import import_module

import msgspec

# Name -> module, which has its `SYSTEM`.
REGISTRY = {
    "sqlite": "askless.core.systems.sqlite",
    "postgresql": "askless.core.systems.postgresql",
    "mysql": "askless.core.systems.mysql",
    "mariadb": "askless.core.systems.mariadb",
    "mssql": "askless.core.systems.mssql",
    "oracle": "askless.core.systems.oracle",
}
UNKNOWN = "sqlite"  # whose rules hold for a system that is not known: they are the most common ones


class Lexis(msgspec.Struct, frozen=True):
    """How a system's SQL is written: regular expressions for what varies in a statement, and for
    what only looks like it.

    `names` are quoted identifiers; `placeholders` the signs that begin one; `extra_literals` are
    tried before `string`.
    """

    line_comment: str
    block_comment: str
    string: str
    names: tuple[str, ...]
    placeholders: str
    extra_literals: tuple[str, ...] = ()


class Traits(msgspec.Struct, frozen=True):
    """How a server differs, for the index advisor's model of a planner. The unit of costs is one
    page read in sequence.

    `random`: one page read out of sequence. `clustered`: the rows are in the primary key itself.
    """

    random: float
    hash_join: bool
    clustered: bool


class Layout(msgspec.Struct, frozen=True, kw_only=True):
    """How a server stores an index that it builds of rows that are there: what an entry takes next
    to its values.

    `usable_bytes` is what entries may fill of a page of `page_bytes`. An entry has `entry_bytes`
    and, for each column, `column_bytes`, for a text `length_bytes` too; its values are padded to `aligned_bytes`. It ends in
    `locator_bytes`, or the primary key where that is 0. With `posting_bytes`, entries with equal
    values share one copy of them, up to that size together. An entry that may hold a NULL
    has `null_bytes` more. Pages come one by one up to the first of `extents`, then by the second.
    `widths` are bytes by a type's
    beginning, for types that are not stored as their text; with `integers_by_value`, whole numbers
    take as many bytes as they need.
    """

    page_bytes: int
    usable_bytes: float
    entry_bytes: float
    column_bytes: float = 0.0
    length_bytes: float = 0.0
    aligned_bytes: int = 1
    locator_bytes: int = 0
    posting_bytes: int = 0
    null_bytes: int = 0
    extents: tuple[int, int] = (0, 0)
    integers_by_value: bool = False
    widths: tuple[tuple[str, float], ...] = ()


class Meaning(msgspec.Struct, frozen=True):
    """What an error of a server means to a person. `codes` are SQLSTATEs, their first characters,
    or error numbers.

    `texts` are for errors to which the driver gives no code; they are looked for in lower case.
    """

    slug: str
    remedy: str
    codes: tuple[str, ...] = ()
    texts: tuple[str, ...] = ()


class Upsert(msgspec.Struct, frozen=True):
    """How an INSERT says what becomes of a row that is there: `leave` it, or `change` it by
    `assignment` of each column.

    `{keys}` are the unique key's columns, `{first}` is the first of them.
    """

    leave: str
    change: str
    assignment: str


BY_CONFLICT = Upsert(
    "ON CONFLICT ({keys}) DO NOTHING",
    "ON CONFLICT ({keys}) DO UPDATE SET {assignments}",
    "{column} = excluded.{column}",
)
BY_DUPLICATE = Upsert(
    "ON DUPLICATE KEY UPDATE {first} = {first}",
    "ON DUPLICATE KEY UPDATE {assignments}",
    "{column} = VALUES({column})",
)


# https://sqlite.org/fileformat2.html, "B-tree pages" and "Record format"
SQLITE_LAYOUT = Layout(
    page_bytes=4096,
    usable_bytes=4070.0,
    entry_bytes=5.0,  # the cell's pointer and length, the record's header and its locator's type
    column_bytes=1.0,
    integers_by_value=True,
)


class Statistics(msgspec.Struct, frozen=True):
    """What helps a planner whose estimate was wrong: of one column, of several, of an
    expression.
    """

    one: str
    several: str
    expression: str


ANALYZE = "first update the statistics (ANALYZE)"


class System(msgspec.Struct, frozen=True, kw_only=True):
    """One system. `dialect` is what the parser calls it; `driver` the package that connects, and
    the extra that brings it. `is_file`: a database is a file. `aliases` are other names for it in
    URLs.

    `noise` and `catalogs` are regular expressions, next to those that hold for all systems: the
    beginning of a shape that no application's author wrote, and what is after FROM or JOIN where a
    table of the system's own is read. `quote` is the mark around names; with `folds_names` an
    unquoted name loses its capitals. `reads_in_turn`: a plan lists the reads of a join one after
    the other instead of nesting them; `joins_in_batches`: an inner side is read for each batch of
    rows, not for each row. `number_hides_text`: a text column that is compared with a number is
    converted row by row, past its indexes. `typed_values`: the driver takes dates, decimals and
    lists as such, so that values need not be sent as texts.
    """

    name: str
    title: str
    dialect: str
    lexis: Lexis
    driver: str = ""
    is_file: bool = False
    aliases: tuple[str, ...] = ()
    quote: str = '"'
    folds_names: bool = False
    reserved: frozenset[str] = frozenset()
    noise: str = ""
    catalogs: str = ""
    traits: Traits
    layout: Layout = SQLITE_LAYOUT
    # Types (regular expression) whose values may be too long for an entry of an index.
    unbounded: str = ""
    entry_bytes_most: int = 0  # of an index's values; 0 where there is no limit
    equality_index: str = ""  # the method of an index that takes values of any length
    changes_in_place: bool = False  # an UPDATE that changes no indexed column touches no index
    partial_indexes: bool = False
    expression_index: str = ""  # how an index names an expression; "" where it can't
    drop_names_table: bool = False
    # An extension, and the index that it has for a LIKE that begins with a wildcard.
    wildcard_index: tuple[str, str] = ("", "")
    # An index of a TEXT or BLOB holds so many characters of its beginning; 0: all of it.
    text_beginning: int = 0
    named_schemas: bool = False  # an index may be tried on a table that is named with its schema
    reads_in_turn: bool = False
    sorts_by_parts: bool = False  # rows in the order of some columns are sorted run by run
    joins_in_batches: bool = False
    number_hides_text: bool = False
    typed_values: bool = True
    lists_as_arrays: bool = False
    offset_alone: bool = False  # OFFSET may come without LIMIT
    row_values: str = ":keys"  # what `(a, b) IN (…)` takes; "" where there is no such comparison
    upsert: Upsert | None = None
    statistics: Statistics = Statistics(ANALYZE, ANALYZE, ANALYZE)
    meanings: tuple[Meaning, ...] = ()

    def meaning(self, code: str, text: str) -> Meaning | None:
        """What an error means, by its code ('' where it has none), else by what it says."""
        for meaning in self.meanings:
            if code and any(
                code == known or (len(known) < 4 and code.startswith(known))
                for known in meaning.codes
            ):
                return meaning
        low = text.lower()
        return next((m for m in self.meanings if any(sign in low for sign in m.texts)), None)

    def quoted(self, name: str) -> str:
        """A name as a statement takes it: bare where it can be."""
        bare = name.isidentifier() and name.isascii() and name.lower() not in self.reserved
        if bare and not (self.folds_names and name != name.lower()):
            return name
        return self.quote + name.replace(self.quote, self.quote * 2) + self.quote


_LONG_TYPES = ("TEXT", "BLOB")
_LENGTH = re.compile(r"CHAR\w*(?: VARYING)?\((\d+|MAX)\)", re.I)
_CHARACTER_BYTES = 4


def is_unbounded(type_name: str, system: str) -> bool:
    """Whether a value of this type may be too long for an index: the INSERT of one would fail. So
    is what can't be indexed at all.
    """
    known = system_of(system)
    if known.unbounded and re.match(known.unbounded, type_name, re.I):
        return True
    length = _LENGTH.search(type_name)
    if length is None or not known.entry_bytes_most or known.text_beginning:
        return False
    return length[1].upper() == "MAX" or int(length[1]) > known.entry_bytes_most


def bytes_most(type_name: str, system: str) -> int:
    """How many bytes of a text of this type an index may have to hold; 0 for other types. Servers
    that refuse to build an index count the widest characters.
    """
    known, length = system_of(system), _LENGTH.search(type_name)
    if is_cut(type_name, system):
        return known.text_beginning * _CHARACTER_BYTES
    if length is None or not length[1].isdigit():
        return 0
    return int(length[1]) * (_CHARACTER_BYTES if known.text_beginning else 1)


def is_cut(type_name: str, system: str) -> bool:
    """Whether an index holds only the beginning of a column of this type: it finds rows by it, and
    does nothing else.
    """
    known, length = system_of(system), _LENGTH.search(type_name)
    if not known.text_beginning:
        return False
    if length is not None and length[1].isdigit():
        return int(length[1]) * _CHARACTER_BYTES > known.entry_bytes_most
    return any(word in type_name.upper() for word in _LONG_TYPES)


@lru_cache(maxsize=32)
def system_of(name: str) -> System:
    """The system of a name; for one that is not known, the data of the one whose rules are the most
    common.
    """
    result: System = import_module(REGISTRY.get(name, REGISTRY[UNKNOWN])).SYSTEM
    return result


def called(name: str, among: Iterable[str] = REGISTRY) -> System | None:
    """The system that a URL's scheme means, by its name or another one of it; None if it is none of
    these.
    """
    return next(
        (system for system in map(system_of, among) if name in (system.name, *system.aliases)), None
    )


@lru_cache(maxsize=2)
def noise_of(names: tuple[str, ...], catalog: str) -> tuple[re.Pattern[str], re.Pattern[str]]:
    """What is noise in any of these systems, from a shape's first letter on, and what reads a
    catalog: a capture need not know its system.
    """
    systems = [system_of(name) for name in names]
    noise = dict.fromkeys(system.noise for system in systems if system.noise)
    catalogs = dict.fromkeys((catalog, *(system.catalogs for system in systems if system.catalogs)))
    return re.compile("|".join(noise)), re.compile(rf"\b(?:from|join) ?(?:{'|'.join(catalogs)})")
