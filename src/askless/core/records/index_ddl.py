"""Names and CREATE INDEX statements, in the words of each server."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

from askless.core.records.schema import Table
from askless.core.systems import is_cut, system_of

NAME_MOST = 60  # PostgreSQL cuts names at 63 bytes


def name_for(table: str, columns: Sequence[str], taken: Collection[str] = ()) -> str:
    """A name for an index that is not taken."""
    stem = "_".join((table, *columns))[:NAME_MOST]
    name, turn = stem, 2
    while name in taken:
        name, turn = f"{stem[: NAME_MOST - 3]}_{turn}", turn + 1
    return name


def create_index(
    name: str,
    table: str,
    columns: Sequence[str],
    system: str,
    where: str = "",
    types: Mapping[str, str] | None = None,
    kind: str = "",
) -> str:
    """A CREATE INDEX statement. `types` are those of the table's columns: some are indexed by their
    beginning only. `kind` is the method, where it is not a tree.
    """
    known = system_of(system)
    quoted, types = known.quoted, types or {}
    listed = ", ".join(
        quoted(column)
        + (f"({known.text_beginning})" if is_cut(types.get(column, ""), system) else "")
        for column in columns
    )
    tail = f" WHERE {where}" if where else ""
    method = f" USING {kind}" if kind else ""
    return f"CREATE INDEX {quoted(name)} ON {quoted(table)}{method} ({listed}){tail}"


def plain_index(table: Table, columns: Sequence[str], system: str) -> str:
    """A CREATE INDEX statement for columns of a table that is known, under a name that is free
    there.
    """
    name = name_for(table.name, columns, {index.name for index in table.indexes})
    return create_index(name, table.name, columns, system, types=table.types)


def drop_index(name: str, table: str, system: str) -> str:
    """A DROP INDEX statement."""
    known = system_of(system)
    tail = f" ON {known.quoted(table)}" if known.drop_names_table else ""
    return f"DROP INDEX {known.quoted(name)}{tail}"
