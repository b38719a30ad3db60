"""Values of MySQL as they are sent: texts in plain results, binary in those of prepared statements,
by the type's number.
"""

from __future__ import annotations

from collections.abc import Sequence
from struct import Struct, unpack_from

from askless.core.sql.slots import Value
from askless.sources.wire.mysql import packets
from askless.sources.wire.value_capture import integer

TINY, SHORT, LONG, FLOAT, DOUBLE, NULL, TIMESTAMP, LONGLONG, INT24, DATE, TIME, DATETIME, YEAR = (
    range(1, 14)
)
VARCHAR, BIT, DECIMAL_OLD, JSON, DECIMAL, ENUM, SET, BLOB_FIRST, BLOB_LAST, VAR_STRING, STRING = (
    15, 16, 0, 245, 246, 247, 248, 249, 252, 253, 254,
)  # fmt: skip
BINARY = 63  # the character set of bytes
_INTS = {
    TINY: (1, "b"),
    SHORT: (2, "h"),
    YEAR: (2, "h"),
    LONG: (4, "i"),
    INT24: (4, "i"),
    LONGLONG: (8, "q"),
}
# Types whose values may be keys of another table.
KEYS = frozenset(
    {TINY, SHORT, LONG, INT24, LONGLONG, VARCHAR, VAR_STRING, STRING, DECIMAL, DECIMAL_OLD}
)
_FLOATS = {FLOAT: Struct("<f"), DOUBLE: Struct("<d")}
_UNSIGNED = 0x20  # a column's flag


class Column:
    """A column of a result."""

    __slots__ = ("charset", "kind", "name", "origin", "unsigned")

    def __init__(self, name: str, origin: str, kind: int, charset: int, flags: int) -> None:
        self.name = name
        self.origin = origin  # table.column; "" for what is worked out
        self.kind = kind
        self.charset = charset
        self.unsigned = bool(flags & _UNSIGNED)


def column_of(data: bytes, position: int, extended: bool, encoding: str) -> Column:
    """A column's definition. Raises ValueError, IndexError if it is none."""
    for _ in range(3):  # catalog, schema, the table as the statement calls it
        _, position = packets.text(data, position)
    table, position = packets.text(data, position)
    name, position = packets.text(data, position)
    column, position = packets.text(data, position)
    origin = b".".join((table, column)).decode(encoding, "replace") if table and column else ""
    if extended:
        _, position = packets.text(data, position)
    _, position = packets.number(data, position)
    charset, kind, flags = (
        packets.two(data, position),
        data[position + 6],
        packets.two(data, position + 7),
    )
    return Column(name.decode(encoding, "replace"), origin, kind, charset, flags)


def text_row(row: bytes, count: int) -> list[bytes | None]:
    """The fields of a row in text form."""
    results: list[bytes | None] = []
    position = 0
    for _ in range(count):
        if row[position] == 0xFB:
            results.append(None)
            position += 1
        else:
            field, position = packets.text(row, position)
            results.append(field)
    return results


def text_value(raw: bytes, column: Column, encoding: str) -> Value:
    """A value that was sent as text."""
    kind = column.kind
    if kind == BIT or (column.charset == BINARY and kind in _TEXTS):
        return ("bytes", raw.hex())
    text = raw.decode(encoding, "replace")
    if kind in _INTS:
        return integer(text)
    if kind in _FLOATS:
        try:
            return float(text)
        except ValueError:
            return text
    name = _NAMES.get(kind)
    return text if name is None else (name, text)


_TEXTS = {VARCHAR, VAR_STRING, STRING, ENUM, SET, *range(BLOB_FIRST, BLOB_LAST + 1)}
_NAMES = {
    DECIMAL: "Decimal", DECIMAL_OLD: "Decimal", DATE: "date", DATETIME: "datetime",
    TIMESTAMP: "datetime", TIME: "timedelta",
}  # fmt: skip


def binary_row(
    row: bytes, columns: Sequence[Column], encoding: str
) -> tuple[list[Value], list[int]]:
    """(values, bytes of each) of a row in binary form: a zero, a bitmap of NULLs from its third
    bit, the values.
    """
    bitmap, position = 1, 1 + (len(columns) + 9) // 8
    values: list[Value] = []
    sizes: list[int] = []
    for place, column in enumerate(columns):
        bit = place + 2
        if row[bitmap + bit // 8] >> bit % 8 & 1:
            values.append(None)
            sizes.append(0)
            continue
        before = position
        value, position = binary_value(
            row, position, column.kind, column.unsigned, encoding, column.charset
        )
        values.append(value)
        sizes.append(position - before)
    return values, sizes


def binary_value(
    data: bytes, position: int, kind: int, unsigned: bool, encoding: str, charset: int = 0
) -> tuple[Value, int]:
    """(value, position after it). Raises ValueError, IndexError, struct.error where it is cut."""
    if kind in _INTS:
        size, form = _INTS[kind]
        return int(
            unpack_from("<" + (form.upper() if unsigned else form), data, position)[0]
        ), position + size
    if kind in _FLOATS:
        (value,) = _FLOATS[kind].unpack_from(data, position)
        return float(value) if value - value == 0 else ("float", str(value)), position + _FLOATS[
            kind
        ].size
    if kind == NULL:
        return None, position
    if kind in (DATE, DATETIME, TIMESTAMP):
        return _moment(data, position, kind)
    if kind == TIME:
        return _span(data, position)
    raw, position = packets.text(data, position)
    if kind in (DECIMAL, DECIMAL_OLD):
        return ("Decimal", raw.decode("ascii", "replace")), position
    if kind == BIT or (charset == BINARY and kind in _TEXTS):
        return ("bytes", raw.hex()), position
    if not charset and BLOB_FIRST <= kind <= BLOB_LAST and not _is_text(raw):
        return ("bytes", raw.hex()), position
    return raw.decode(encoding, "replace"), position


def _is_text(raw: bytes) -> bool:
    try:
        raw.decode()
    except UnicodeDecodeError:
        return False
    return True


def _moment(data: bytes, position: int, kind: int) -> tuple[Value, int]:
    size = data[position]
    end = position + 1 + size
    year = month = day = hour = minute = second = micros = 0
    if size >= 4:
        year, month, day = packets.two(data, position + 1), data[position + 3], data[position + 4]
    if size >= 7:
        hour, minute, second = data[position + 5 : position + 8]
    if size >= 11:
        micros = packets.four(data, position + 8)
    text = f"{year:04}-{month:02}-{day:02}"
    if kind == DATE and size <= 4:
        return ("date", text), end
    text += f" {hour:02}:{minute:02}:{second:02}" + (f".{micros:06}" if micros else "")
    return ("datetime", text), end


def _span(data: bytes, position: int) -> tuple[Value, int]:
    size = data[position]
    end = position + 1 + size
    if size < 8:
        return ("timedelta", "0:00:00"), end
    sign = "-" if data[position + 1] else ""
    days, (hours, minutes, seconds) = (
        packets.four(data, position + 2),
        data[position + 6 : position + 9],
    )
    return ("timedelta", f"{sign}{days * 24 + hours}:{minutes:02}:{seconds:02}"), end
