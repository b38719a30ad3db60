"""Reads the schema of a live database through SQLAlchemy's inspector, with row counts and average
widths.
"""

from __future__ import annotations

import warnings
from collections.abc import Mapping
from typing import Any

import sqlalchemy
from sqlalchemy.engine import Connection
from sqlalchemy.exc import SAWarning

from askless.core.records.schema import ForeignKey, Index, Schema, Table, TableColumn
from askless.database.servers import Size, server_of


def reflect(connection: Connection) -> Schema:
    """The schema of a database: the tables that a name without a schema finds."""
    server = server_of(connection)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", SAWarning)
        inspector = sqlalchemy.inspect(connection)
        names = inspector.get_table_names()
        results = {
            "columns": inspector.get_multi_columns(),
            "indexes": inspector.get_multi_indexes(),
            "keys": inspector.get_multi_unique_constraints(),
            "primary": inspector.get_multi_pk_constraint(),
            "foreign": inspector.get_multi_foreign_keys(),
        }
    parts = {
        what: {name: value for (_, name), value in by_table.items()}  # type: ignore[attr-defined]
        for what, by_table in results.items()
    }
    kinds, unique = server.kinds(connection), server.unique_keys(connection)
    partitions = server.partitions(connection)
    sizes = server.sizes(
        connection, {name: [c["name"] for c in parts["columns"].get(name, [])] for name in names}
    )
    tables = tuple(
        _table(
            name,
            {what: of.get(name) for what, of in parts.items()}
            | {"unique": unique.get(name), "partitions": partitions.get(name)},
            sizes.get(name, Size(None, 0)),
            kinds,
        )
        for name in sorted(names)
    )
    return Schema(server.system(connection), tables, server.extensions(connection))


def _table(
    name: str, parts: Mapping[str, Any], size: Size, kinds: Mapping[tuple[str, str], str]
) -> Table:
    partitioned_by, count = parts["partitions"] or ((), 0)
    return Table(
        name=name,
        columns=tuple(_column(c, size) for c in parts["columns"] or ()),
        primary_key=tuple((parts["primary"] or {}).get("constrained_columns") or ()),
        foreign_keys=tuple(
            ForeignKey(tuple(k["constrained_columns"]), k["referred_table"])
            for k in parts["foreign"] or ()
        ),
        indexes=tuple(_indexes(name, parts, kinds)),
        rows=size.rows,
        bytes=size.bytes,
        partitioned_by=partitioned_by,
        partitions=count,
    )


def _column(column: Any, size: Size) -> TableColumn:
    name = column["name"]
    return TableColumn(
        name,
        str(column["type"]),
        bool(column.get("nullable", True)),
        size.widths.get(name),
        size.distinct.get(name),
        size.correlations.get(name),
    )


def _indexes(
    name: str, parts: Mapping[str, Any], kinds: Mapping[tuple[str, str], str]
) -> list[Index]:
    """The indexes of a table, and the unique constraints that act as one."""
    indexes = [
        _index(index, kinds.get((name, str(index["name"])), ""))
        for index in parts["indexes"] or ()
        if index["column_names"]
    ]
    known = {index.name for index in indexes}
    indexes += [
        Index(str(key.get("name") or "unique"), tuple(key["column_names"]), True)
        for key in parts["keys"] or ()
        if key.get("name") not in known
    ]
    there = {index.columns for index in indexes if index.unique}
    return [
        *indexes,
        *(
            Index("unique", columns, True)
            for columns in parts["unique"] or ()
            if columns not in there
        ),
    ]


def _index(index: Any, kind: str) -> Index:
    """An index on expressions, or on some of the rows only, is known and serves no plain lookup."""
    options = index.get("dialect_options") or {}
    where = next(
        (
            str(value)
            for key, value in options.items()
            if key.endswith("_where") and value is not None
        ),
        "",
    )
    columns = tuple(name or "(expression)" for name in index["column_names"])
    included = options.get("postgresql_include") or index.get("include_columns") or ()
    return Index(
        str(index["name"]), columns, bool(index.get("unique")), where, tuple(included), kind
    )
