"""Names and CREATE INDEX statements, in the words of each server."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from askless.core.systems import system_of

NAME_MOST = 60  # PostgreSQL cuts names at 63 bytes


def name_for(table: str, columns: Sequence[str], taken: Collection[str] = ()) -> str:
    """A name for an index that is not taken."""
    stem = "_".join((table, *columns))[:NAME_MOST]
    name, turn = stem, 2
    while name in taken:
        name, turn = f"{stem[: NAME_MOST - 3]}_{turn}", turn + 1
    return name


def create_index(name: str, table: str, columns: Sequence[str], system: str, where: str = "") -> str:
    """A CREATE INDEX statement."""
    quoted = system_of(system).quoted
    listed = ", ".join(map(quoted, columns))
    tail = f" WHERE {where}" if where else ""
    return f"CREATE INDEX {quoted(name)} ON {quoted(table)} ({listed}){tail}"


def drop_index(name: str, table: str, system: str) -> str:
    """A DROP INDEX statement."""
    known = system_of(system)
    tail = f" ON {known.quoted(table)}" if known.drop_names_table else ""
    return f"DROP INDEX {known.quoted(name)}{tail}"
