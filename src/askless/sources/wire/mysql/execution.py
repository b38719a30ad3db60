"""What runs on a connection of MySQL's protocol: prepared statements, executions, and what is
reported of one.
"""

from __future__ import annotations

from collections.abc import Sequence
from struct import error
from typing import Any

from askless.core.records.traffic import QuerySeen
from askless.core.sql.slots import Value
from askless.sources.wire.mysql.values import (
    BINARY,
    KEYS,
    VAR_STRING,
    VARCHAR,
    Column,
    binary_row,
    text_row,
    text_value,
)
from askless.sources.wire.running_statement import RunningStatement
from askless.sources.wire.value_capture import key_like, recordable, sampled_of


class Prepared:
    """A statement that the server knows by a number."""

    __slots__ = ("columns", "cursor", "kinds", "long_data", "parameters", "text")

    def __init__(self, text: str, parameters: int) -> None:
        self.text = text
        self.parameters = parameters
        self.kinds: list[int] = []  # of its parameters, as they were bound last
        self.long_data: set[int] = set()  # parameters that were sent in pieces
        self.columns: list[Column] = []
        self.cursor: Execution | None = None


class Execution(RunningStatement):
    """One statement that runs. `binary` rows come of prepared statements."""

    __slots__ = ("binary", "columns", "counted_columns", "parameters")

    def __init__(self, text: str, inside: bool, binary: bool) -> None:
        super().__init__(text, inside)
        self.binary = binary
        self.counted_columns = 0
        self.columns: list[Column] = []
        self.parameters: tuple[Value, ...] = ()


def _sample(rows: Sequence[Sequence[Any]], places: Sequence[int]) -> tuple[tuple[Any, ...], ...]:
    return tuple(tuple(key_like(row[place]) for place in places) for row in rows)


def query_of(execution: Execution, connection: int, encoding: str, widths_too: bool) -> QuerySeen:
    """What is reported of an execution that has ended."""
    columns = execution.columns
    names = [column.name for column in columns]
    rows, sizes = _rows(execution, encoding)
    may_be = [place for place, column in enumerate(columns) if _may_be_key(column)]
    sampled = sampled_of(names, may_be)
    sample = _sample(rows, sampled) if rows and sampled else None
    origins = tuple(column.origin for column in columns)
    widths: tuple[int, ...] = ()
    if sizes and widths_too:
        widths = tuple(
            sum(column) * execution.rows // len(sizes) for column in zip(*sizes, strict=False)
        )
    return execution.seen(
        connection,
        names,
        parameters=tuple(map(recordable, execution.parameters)),
        sampled=sampled,
        sample=sample,
        widths=widths,
        origins=origins if any(origins) else (),
    )


def _may_be_key(column: Column) -> bool:
    """Whether a column's values may be keys: numbers and texts, and the bytes of a UUID."""
    return column.kind in KEYS and not (
        column.charset == BINARY and column.kind in (VARCHAR, VAR_STRING)
    )


def _rows(execution: Execution, encoding: str) -> tuple[list[Sequence[Value]], list[list[int]]]:
    """(values, bytes) of the rows that were kept; none where they can't be read."""
    columns = execution.columns
    rows: list[Sequence[Value]] = []
    sizes: list[list[int]] = []
    try:
        for row in execution.sample:
            if execution.binary:
                values, measured = binary_row(row, columns, encoding)
            else:
                fields = text_row(row, len(columns))
                values = [
                    None if field is None else text_value(field, column, encoding)
                    for field, column in zip(fields, columns, strict=True)
                ]
                measured = [0 if field is None else len(field) + 4 for field in fields]
            rows.append(values)
            sizes.append(measured)
    except (error, ValueError, IndexError):  # columns that no one saw described
        return [], []
    return rows, sizes
