"""Values of PostgreSQL as they are sent, in text and binary, by the number of their type (catalog
pg_type).
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import date, datetime, timedelta
from decimal import Decimal
from struct import Struct, error, unpack, unpack_from
from typing import Any

from askless.core.sql.slots import Value
from askless.sources.wire.value_capture import integer, listed

BOOL, BYTEA, CHAR, NAME, INT8, INT2, INT4, TEXT, OID, JSON, XID = (
    16,
    17,
    18,
    19,
    20,
    21,
    23,
    25,
    26,
    114,
    28,
)
FLOAT4, FLOAT8, UNKNOWN, BPCHAR, VARCHAR, NUMERIC, UUID, JSONB = (
    700,
    701,
    705,
    1042,
    1043,
    1700,
    2950,
    3802,
)
DATE, TIME, TIMESTAMP, TIMESTAMPTZ, INTERVAL, TIMETZ = 1082, 1083, 1114, 1184, 1186, 1266
_INTS = {
    INT2: Struct(">h"),
    INT4: Struct(">i"),
    INT8: Struct(">q"),
    OID: Struct(">I"),
    XID: Struct(">I"),
}
_TEXTS = {TEXT, VARCHAR, BPCHAR, NAME, JSON, UNKNOWN, CHAR, 0}
# The types of an array's elements, by the array's type.
_ARRAYS = {
    1000: BOOL, 1005: INT2, 1007: INT4, 1016: INT8, 1028: OID, 1009: TEXT, 1015: VARCHAR,
    1014: BPCHAR, 1003: NAME, 2951: UUID, 1231: NUMERIC, 1182: DATE, 1115: TIMESTAMP,
    1185: TIMESTAMPTZ, 1021: FLOAT4, 1022: FLOAT8, 199: JSON,
}  # fmt: skip
# Types whose values may be keys of another table.
KEYS = frozenset({INT2, INT4, INT8, OID, TEXT, VARCHAR, BPCHAR, NAME, UUID, NUMERIC})
# Types that an extension or the application has made (enums, domains over text, citext): sent as
# texts, if in text form.
FIRST_OWN = 16384
_EPOCH = datetime(2000, 1, 1)


def text_value(raw: bytes, oid: int, encoding: str) -> Value:
    """A value that was sent as text."""
    text = raw.decode(encoding, "replace")
    if oid in _INTS:
        return integer(text)
    if oid == BOOL:
        return text[:1] in ("t", "1", "y", "T", "Y")
    if oid in (FLOAT4, FLOAT8):
        return _float(text)
    if oid in _ARRAYS and text[:1] == "{":
        return _text_array(text, _ARRAYS[oid])
    if oid == BYTEA and text[:2] == "\\x":
        return ("bytes", text[2:])
    kind = _KINDS.get(oid)
    return text if kind is None else (kind, text)


_KINDS = {
    NUMERIC: "Decimal",
    UUID: "UUID",
    DATE: "date",
    TIMESTAMP: "datetime",
    TIMESTAMPTZ: "datetime",
    TIME: "time",
}


def _float(text: str) -> Value:
    try:
        value = float(text)
    except ValueError:
        return text
    return value if value - value == 0 else ("float", str(value))


def _text_array(text: str, oid: int) -> Value:
    """An array of plain values in braces; as it is where it is more than that."""
    inner = text[1:-1]
    if '"' in inner or "{" in inner or "\\" in inner:
        return text
    items = inner.split(",") if inner else []
    if oid in _INTS and all(item.lstrip("-").isdigit() for item in items):
        return listed([int(item) for item in items])
    return listed([None if item == "NULL" else item for item in items])


def binary_value(raw: bytes, oid: int, encoding: str) -> Value:
    """A value that was sent in the type's binary form; its bytes where the type is not known."""
    if oid in _TEXTS:
        if not oid:  # no one said what it is
            return ("bytes", raw.hex())
        return raw.decode(encoding, "replace")
    try:
        if oid in _INTS:
            return int(_INTS[oid].unpack(raw)[0])
        read = _BINARY.get(oid)
        if read is not None:
            return read(raw)
        if oid in _ARRAYS:
            return _binary_array(raw, encoding)
    except (error, ValueError, IndexError, OverflowError, ArithmeticError):
        pass
    return ("bytes", raw.hex())


def _moment(raw: bytes) -> Value:
    (micros,) = unpack(">q", raw)
    return ("datetime", str(_EPOCH + timedelta(microseconds=micros)))


def _moment_in_zone(raw: bytes) -> Value:
    (micros,) = unpack(">q", raw)
    return ("datetime", str(_EPOCH + timedelta(microseconds=micros)) + "+00:00")


def _day(raw: bytes) -> Value:
    return ("date", str(date(2000, 1, 1) + timedelta(days=unpack(">i", raw)[0])))


def _clock(raw: bytes) -> Value:
    return ("time", str((_EPOCH + timedelta(microseconds=unpack(">q", raw)[0])).time()))


def _numeric(raw: bytes) -> Value:
    """Digits to the base of 10,000, as src/backend/utils/adt/numeric.c of the server sends them."""
    count, weight, sign, scale = unpack_from(">hhHH", raw)
    if sign == 0xC000:
        return ("Decimal", "NaN")
    digits = unpack_from(f">{count}h", raw, 8)
    value = sum(
        Decimal(digit) * Decimal(10000) ** (weight - place) for place, digit in enumerate(digits)
    )
    value = (
        Decimal(value).quantize(Decimal(1).scaleb(-scale))
        if scale
        else Decimal(value).to_integral_value()
    )
    return ("Decimal", f"{'-' if sign == 0x4000 else ''}{value:f}")


def _uuid(raw: bytes) -> Value:
    text = raw.hex()
    return ("UUID", "-".join((text[:8], text[8:12], text[12:16], text[16:20], text[20:])))


def _binary_float(form: str) -> Callable[[bytes], Value]:
    def read(raw: bytes) -> Value:
        (value,) = unpack(form, raw)
        return float(value) if value - value == 0 else ("float", str(value))

    return read


_BINARY: dict[int, Callable[[bytes], Value]] = {
    BOOL: lambda raw: raw == b"\x01",
    BYTEA: lambda raw: ("bytes", raw.hex()),
    FLOAT4: _binary_float(">f"),
    FLOAT8: _binary_float(">d"),
    NUMERIC: _numeric,
    UUID: _uuid,
    DATE: _day,
    TIME: _clock,
    TIMESTAMP: _moment,
    TIMESTAMPTZ: _moment_in_zone,
    JSONB: lambda raw: raw[1:].decode("utf-8", "replace"),
}


def _binary_array(raw: bytes, encoding: str) -> Value:
    """An array of one dimension: its header, then each value with its length (array_send of the
    server).
    """
    dimensions, _, element = unpack_from(">iiI", raw)
    if dimensions > 1:
        return ("bytes", raw.hex())
    items: list[Any] = []
    position = 20
    while dimensions and position < len(raw):
        (length,) = unpack_from(">i", raw, position)
        position += 4
        if length < 0:
            items.append(None)
            continue
        value = binary_value(raw[position : position + length], element, encoding)
        items.append(list(value) if isinstance(value, tuple) else value)
        position += length
    return listed(items)
