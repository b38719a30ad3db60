"""Reads the schema of a live database through SQLAlchemy's inspector, with row counts and average widths."""

from __future__ import annotations

import sqlalchemy
from sqlalchemy.engine import Connection
from sqlalchemy.exc import SAWarning

from askless.core.model import ForeignKey, Index, Schema, Table, TableColumn

WIDTH_SAMPLE_ROWS = 500


def reflect(connection: Connection) -> Schema:
    """The schema of a database."""
    import warnings

    with warnings.catch_warnings():
        warnings.simplefilter("ignore", SAWarning)
        inspector = sqlalchemy.inspect(connection)
        tables = tuple(_table(connection, inspector, name) for name in inspector.get_table_names())
    return Schema(connection.dialect.name, tables)


def _table(connection: Connection, inspector: sqlalchemy.Inspector, name: str) -> Table:
    columns = inspector.get_columns(name)
    widths = _widths(connection, name, [column["name"] for column in columns])
    indexes = [
        Index(str(index["name"]), tuple(c for c in index["column_names"] if c), bool(index.get("unique")))
        for index in inspector.get_indexes(name)
        if index["column_names"] and all(index["column_names"])
    ]
    indexes += [
        Index(str(key.get("name") or "unique"), tuple(key["column_names"]), True)
        for key in inspector.get_unique_constraints(name)
    ]
    return Table(
        name=name,
        columns=tuple(
            TableColumn(c["name"], str(c["type"]), bool(c.get("nullable", True)), widths.get(c["name"]))
            for c in columns
        ),
        primary_key=tuple(inspector.get_pk_constraint(name)["constrained_columns"]),
        foreign_keys=tuple(
            ForeignKey(tuple(k["constrained_columns"]), k["referred_table"], tuple(k["referred_columns"] or ()))
            for k in inspector.get_foreign_keys(name)
        ),
        indexes=tuple(indexes),
        rows=_rows(connection, name),
    )


def _quote(connection: Connection, name: str) -> str:
    return connection.dialect.identifier_preparer.quote(name)


def _rows(connection: Connection, table: str) -> int:
    """SQLite keeps no count: it is counted, from the smallest index that there is."""
    return int(connection.exec_driver_sql(f"SELECT COUNT(*) FROM {_quote(connection, table)}").scalar_one())  # noqa: S608


def _widths(connection: Connection, table: str, columns: list[str]) -> dict[str, float]:
    """Average bytes of each column over the first rows."""
    if not columns:
        return {}
    means = ", ".join(f"AVG(LENGTH(CAST({_quote(connection, column)} AS BLOB)))" for column in columns)
    sample = f"SELECT * FROM {_quote(connection, table)} LIMIT {WIDTH_SAMPLE_ROWS}"  # noqa: S608
    row = connection.exec_driver_sql(f"SELECT {means} FROM ({sample})").one()  # noqa: S608
    return {column: float(mean or 0.0) for column, mean in zip(columns, row, strict=True)}
