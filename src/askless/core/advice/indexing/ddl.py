"""Names and CREATE INDEX statements, in the words of each server."""

from __future__ import annotations

from collections.abc import Collection, Sequence

NAME_MOST = 60  # PostgreSQL cuts names at 63 bytes
_RESERVED = frozenset(
    [
        "all",
        "analyze",
        "and",
        "any",
        "array",
        "as",
        "asc",
        "between",
        "both",
        "by",
        "case",
        "cast",
        "check",
        "collate",
        "column",
        "condition",
        "constraint",
        "create",
        "cross",
        "current_date",
        "default",
        "delete",
        "desc",
        "describe",
        "distinct",
        "div",
        "drop",
        "else",
        "end",
        "except",
        "exists",
        "explain",
        "false",
        "fetch",
        "for",
        "foreign",
        "from",
        "full",
        "grant",
        "group",
        "having",
        "in",
        "index",
        "inner",
        "insert",
        "intersect",
        "interval",
        "into",
        "is",
        "join",
        "key",
        "keys",
        "leading",
        "left",
        "like",
        "limit",
        "lines",
        "load",
        "lock",
        "match",
        "natural",
        "not",
        "null",
        "offset",
        "on",
        "or",
        "order",
        "out",
        "outer",
        "primary",
        "procedure",
        "range",
        "rank",
        "read",
        "references",
        "release",
        "rename",
        "repeat",
        "replace",
        "right",
        "row",
        "rows",
        "schema",
        "select",
        "set",
        "show",
        "signal",
        "some",
        "ssl",
        "system",
        "table",
        "then",
        "to",
        "trigger",
        "true",
        "union",
        "unique",
        "update",
        "usage",
        "use",
        "user",
        "using",
        "values",
        "when",
        "where",
        "window",
        "with",
        "write",
    ]
)


def quoted(name: str, system: str) -> str:
    """A name as DDL takes it: bare where it can be."""
    bare = name.isidentifier() and name.isascii() and name.lower() not in _RESERVED
    if system == "postgresql" and name != name.lower():
        bare = False
    if bare:
        return name
    mark = "`" if system in ("mysql", "mariadb") else '"'
    return mark + name.replace(mark, mark * 2) + mark


def name_for(table: str, columns: Sequence[str], taken: Collection[str] = ()) -> str:
    """A name for an index that is not taken."""
    stem = "_".join((table, *columns))[:NAME_MOST]
    name, turn = stem, 2
    while name in taken:
        name, turn = f"{stem[: NAME_MOST - 3]}_{turn}", turn + 1
    return name


def create_index(name: str, table: str, columns: Sequence[str], system: str, where: str = "") -> str:
    """A CREATE INDEX statement."""
    listed = ", ".join(quoted(column, system) for column in columns)
    tail = f" WHERE {where}" if where else ""
    return f"CREATE INDEX {quoted(name, system)} ON {quoted(table, system)} ({listed}){tail}"


def drop_index(name: str, table: str, system: str) -> str:
    """A DROP INDEX statement."""
    tail = f" ON {quoted(table, system)}" if system in ("mysql", "mariadb") else ""
    return f"DROP INDEX {quoted(name, system)}{tail}"
