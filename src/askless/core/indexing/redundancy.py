"""Indexes that there are: what they serve, which of them another one makes redundant, and which
foreign keys have none.
"""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from askless.core.indexing.workload import IndexAdvice, Statement
from askless.core.records import index_ddl
from askless.core.records.schema import Index, Schema, Table
from askless.core.sql.structure import Structure


def usable(table: Table) -> list[Index]:
    """The indexes that any lookup may use, the primary key among them."""
    own = [index for index in table.indexes if index.serves_equality]
    return [Index("", table.primary_key, True), *own] if table.primary_key else own


def leads(columns: Sequence[str], longer: Sequence[str]) -> bool:
    """Whether a list of columns begins with all of these, in any case."""
    return [name.lower() for name in columns] == [name.lower() for name in longer[: len(columns)]]


def begins_with_key(table: Table, columns: Sequence[str]) -> bool:
    """Whether an index would begin with the whole primary key: that finds the one row already."""
    return bool(table.primary_key) and leads(table.primary_key, columns)


def begins_one(table: Table, columns: Sequence[str]) -> bool:
    return any(leads(columns, index.columns) for index in usable(table))


def redundant_indexes(
    schema: Schema, advice: Sequence[IndexAdvice] = ()
) -> list[tuple[str, str, str]]:
    """(table, index, the index that serves all it serves): what could be dropped, now or with the
    advice taken.

    Only plain indexes are judged, and by plain ones that stay themselves: another kind serves what
    these do not.
    """
    results = []
    for table in schema.tables:
        planned = [Index(a.name, a.columns, kind=a.kind) for a in advice if a.table == table.name]
        staying = [other for other in [*usable(table), *planned] if other.is_plain]
        for index in sorted(table.indexes, key=lambda index: -len(index.columns)):
            if index.unique or not index.is_plain:
                continue
            other = next((other for other in staying if serves(other, index)), None)
            if other is not None:
                results.append((table.name, index.name, other.name or "the primary key"))
                # An index that goes serves no other one.
                staying = [one for one in staying if one.name != index.name]
    return results


def serves(other: Index, index: Index) -> bool:
    """Whether another index serves all that this one does. Of two equal ones the first name
    stays.
    """
    if not leads(index.columns, other.columns) or (other.name and other.name == index.name):
        return False
    carried = {name.lower() for name in (*other.columns, *other.include)}
    if not carried >= {name.lower() for name in index.include}:
        return False
    longer = len(other.columns) > len(index.columns)
    return longer or other.unique or other.name < index.name


class BareKey(msgspec.Struct, frozen=True):
    """A foreign key without an index. `shapes` are those that look rows up, or join, by it."""

    table: str
    columns: tuple[str, ...]
    target: str
    rows: int | None
    ddl: str
    shapes: tuple[str, ...]


def bare_foreign_keys(
    schema: Schema, workload: Sequence[Statement], advice: Sequence[IndexAdvice] = ()
) -> list[BareKey]:
    """Foreign keys that no index begins with: deleting a parent, and loading its children, reads
    the whole table.
    """
    results = []
    for table in schema.tables:
        planned = [a.columns for a in advice if a.table == table.name]
        for key in table.foreign_keys:
            if begins_one(table, key.columns) or any(
                leads(key.columns, columns) for columns in planned
            ):
                continue
            queries = tuple(
                s.digest
                for s in workload
                if _asks_by(s.structure, table.name, key.columns[0].lower())
            )
            product = index_ddl.plain_index(table, key.columns, schema.system)
            results.append(
                BareKey(table.name, key.columns, key.table, table.rows, product, queries)
            )
    return results


def _asks_by(structure: Structure, table: str, column: str) -> bool:
    wanted = (table.lower(), column)
    looked_up = any(
        (p.column.table.lower(), p.column.name.lower()) == wanted
        for p in structure.predicates
        if p.slots
    )
    joined = any(
        (side.table.lower(), side.name.lower()) == wanted
        for join in structure.joins
        for side in (join.left, join.right)
    )
    return looked_up or joined
