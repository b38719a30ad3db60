"""The tables of a database: columns, keys, indexes, as far as they are known."""

from __future__ import annotations

from functools import cached_property

import msgspec


class TableColumn(msgspec.Struct, frozen=True):
    """A column of the schema. `width_bytes` is the catalog's average, `distinct` its number of
    values, where known.

    `correlation` says how far the rows are on disk in the order of its values: 1 or -1 for all of
    them, 0 for none.
    """

    name: str
    type: str
    nullable: bool = True
    width_bytes: float | None = None
    distinct: float | None = None
    correlation: float | None = None


class Index(msgspec.Struct, frozen=True, dict=True):
    """An index, or a primary key or unique constraint that acts as one.

    `where` is the condition of a partial index, `include` what it carries next to its columns. An
    expression in it is called "(expression)". `kind` says what makes it another index than a plain
    one of its columns: the access method where it is not a tree ("gin"), else "descending",
    "operator class", "collation", "prefix" or "clustered" (the rows lie in its order); '' for a
    plain one.
    """

    name: str
    columns: tuple[str, ...]
    unique: bool = False
    where: str = ""
    include: tuple[str, ...] = ()
    kind: str = ""

    @cached_property
    def lowered(self) -> tuple[str, ...]:
        """Its columns in lower case."""
        return tuple(name.lower() for name in self.columns)

    @property
    def is_plain(self) -> bool:
        """Whether its columns say all there is to say about what it serves."""
        return not self.where and not self.kind and "(expression)" not in self.columns

    @property
    def serves_equality(self) -> bool:
        """Whether it finds the rows of one value of its first column, among all rows."""
        ordered = ("", "descending", "operator class", "collation", "prefix", "clustered")
        return not self.where and self.kind in (*ordered, "hash")


class ForeignKey(msgspec.Struct, frozen=True):
    """Columns that refer to another table."""

    columns: tuple[str, ...]
    table: str


class Table(msgspec.Struct, frozen=True, dict=True):
    """A table of the schema. `rows` is a count or the server's estimate, where known; `bytes`
    without indexes. `partitioned_by` are the columns that say in which of its `partitions` a row
    is.
    """

    name: str
    columns: tuple[TableColumn, ...]
    primary_key: tuple[str, ...] = ()
    foreign_keys: tuple[ForeignKey, ...] = ()
    indexes: tuple[Index, ...] = ()
    rows: int | None = None
    bytes: int = 0
    partitioned_by: tuple[str, ...] = ()
    partitions: int = 0

    @property
    def types(self) -> dict[str, str]:
        """The type of each column."""
        return {column.name: column.type for column in self.columns}

    def column(self, name: str) -> TableColumn | None:
        """The column of this name, in any case."""
        return self._columns.get(name.lower())

    @cached_property
    def _columns(self) -> dict[str, TableColumn]:
        return {column.name.lower(): column for column in reversed(self.columns)}

    @cached_property
    def unique_columns(self) -> frozenset[str]:
        """The columns, in lower case, that alone tell a row from all others."""
        keys = (
            self.primary_key,
            *(index.columns for index in self.indexes if index.unique and not index.where),
        )
        return frozenset(key[0].lower() for key in keys if len(key) == 1)


class Schema(msgspec.Struct, frozen=True, dict=True):
    """The tables of a database."""

    system: str
    tables: tuple[Table, ...] = ()
    extensions: tuple[str, ...] = ()

    def table(self, name: str) -> Table | None:
        """The table of this name, in any case."""
        return self._tables.get(name.lower())

    @cached_property
    def _tables(self) -> dict[str, Table]:
        return {table.name.lower(): table for table in reversed(self.tables)}

    def is_unique(self, table: str, column: str) -> bool:
        """Whether a column alone tells one row of a table from all others."""
        result = self.table(table)
        return result is not None and column.lower() in result.unique_columns

    def foreign_key(self, table: str, column: str) -> ForeignKey | None:
        """The single-column foreign key that is on a column."""
        result = self.table(table)
        for key in result.foreign_keys if result else ():
            if tuple(name.lower() for name in key.columns) == (column.lower(),):
                return key
        return None
