"""What a server keeps no statistics of is taken from a table's first rows."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy.engine import Connection

ROWS = 500


def mean_widths(
    connection: Connection, table: str, columns: Sequence[str], length: str
) -> dict[str, float]:
    """Mean bytes of each column; `length` is the server's expression for a value's bytes, with {}
    for the column.
    """
    if not columns:
        return {}
    quoted = connection.dialect.identifier_preparer.quote
    means = ", ".join(f"AVG({length.format(quoted(column))})" for column in columns)
    sample = f"SELECT * FROM {quoted(table)} LIMIT {ROWS}"  # noqa: S608
    row = connection.exec_driver_sql(f"SELECT {means} FROM ({sample}) AS first_rows").one()  # noqa: S608
    return {column: float(mean or 0.0) for column, mean in zip(columns, row, strict=True)}
