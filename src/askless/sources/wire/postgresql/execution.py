"""What runs on a PostgreSQL connection: statements that were prepared, portals, executions, and
what is reported of one.
"""

from __future__ import annotations

from collections.abc import Sequence
from struct import Struct

from askless.core.records.traffic import QuerySeen
from askless.core.sql.slots import Value
from askless.sources.wire.postgresql.values import FIRST_OWN, KEYS, binary_value, text_value
from askless.sources.wire.running_statement import RunningStatement
from askless.sources.wire.value_capture import key_like, recordable, sampled_of

_LENGTH = Struct(">i").unpack_from
_SHORT = Struct(">H").unpack_from
Columns = tuple[tuple[str, int, int], ...]  # name, type, format of each


class Prepared:
    """A statement that the server knows by a name."""

    __slots__ = ("columns", "text", "types")

    def __init__(self, text: str, types: Sequence[int]) -> None:
        self.text = text
        self.types = list(types)
        self.columns: Columns | None = None


class Portal:
    """A prepared statement with its values. `running`: what has given a part of its rows."""

    __slots__ = ("columns", "formats", "prepared", "results", "running", "values")

    def __init__(
        self,
        prepared: Prepared,
        formats: Sequence[int],
        values: Sequence[bytes | None],
        results: Sequence[int],
    ) -> None:
        self.prepared = prepared
        self.formats = formats
        self.values = values
        self.results = results
        self.columns: Columns | None = None
        self.running: Execution | None = None


class Execution(RunningStatement):
    """One statement that runs, by itself or in a portal."""

    __slots__ = ("columns", "portal")

    def __init__(self, text: str, portal: Portal | None, start_ns: int, inside: bool) -> None:
        super().__init__(text, inside, start_ns)
        self.portal = portal
        self.columns: Columns | None = None


class Step:
    """One message of the client that the server will answer. `texts` are those of a simple query,
    one after the other.
    """

    __slots__ = ("at_ns", "execution", "kind", "portal", "prepared", "texts", "turn")

    def __init__(
        self,
        kind: str,
        at_ns: int,
        portal: Portal | None = None,
        prepared: Prepared | None = None,
        texts: Sequence[str] = (),
    ) -> None:
        self.kind = kind
        self.at_ns = at_ns
        self.portal = portal
        self.prepared = prepared
        self.texts = texts
        self.turn = 0
        self.execution: Execution | None = None


def query_of(execution: Execution, connection: int, encoding: str, widths_too: bool) -> QuerySeen:
    """What is reported of an execution that has ended."""
    columns = execution.columns or ()
    rows = [_fields(row) for row in execution.sample]
    sampled, sample = _sample(execution, columns, rows, encoding)
    widths: tuple[int, ...] = ()
    if rows and widths_too:
        sums = [
            sum(0 if field is None else len(field) + 4 for field in column)
            for column in zip(*rows, strict=False)
        ]
        widths = tuple(total * execution.rows // len(rows) for total in sums)
    return execution.seen(
        connection,
        [name for name, _, _ in columns],
        parameters=_parameters(execution.portal, encoding),
        sampled=sampled,
        sample=sample,
        widths=widths,
    )


def _parameters(portal: Portal | None, encoding: str) -> tuple[Value, ...]:
    if portal is None:
        return ()
    types = portal.prepared.types
    results: list[Value] = []
    for place, raw in enumerate(portal.values):
        if raw is None:
            results.append(None)
            continue
        read = binary_value if _format(portal.formats, place) else text_value
        results.append(recordable(read(raw, types[place] if place < len(types) else 0, encoding)))
    return tuple(results)


def _sample(
    execution: Execution, columns: Columns, rows: list[list[bytes | None]], encoding: str
) -> tuple[tuple[int, ...], tuple[tuple[Value, ...], ...] | None]:
    """The first rows' values in columns whose types keys have."""
    may_be = [place for place, (_, oid, _) in enumerate(columns) if oid in KEYS or oid >= FIRST_OWN]
    sampled = sampled_of([name for name, _, _ in columns], may_be)
    if not rows or not sampled:
        return sampled, None
    results = execution.portal.results if execution.portal is not None else None

    def key(row: list[bytes | None], place: int) -> Value:
        raw = row[place] if place < len(row) else None
        if raw is None:
            return None
        _, oid, form = columns[place]
        form = form if results is None else _format(results, place)
        return key_like((binary_value if form else text_value)(raw, oid, encoding))

    return sampled, tuple(tuple(key(row, place) for place in sampled) for row in rows)


def _format(formats: Sequence[int], place: int) -> int:
    """0 for text, 1 for binary: none for all text, one for all, or one each."""
    if len(formats) > 1:
        return formats[place] if place < len(formats) else 0
    return formats[0] if formats else 0


def _fields(row: bytes) -> list[bytes | None]:
    """The fields of a DataRow, after their number."""
    (count,) = _SHORT(row, 0)
    position = 2
    results: list[bytes | None] = []
    for _ in range(count):
        if position + 4 > len(row):
            break
        (length,) = _LENGTH(row, position)
        position += 4
        results.append(None if length < 0 else row[position : position + length])
        position += max(length, 0)
    return results
