"""Packets of MySQL's protocol: their heads, and the numbers and texts of varying length in them."""

from __future__ import annotations

from struct import Struct

LONGEST = 0xFFFFFF  # bytes of one packet; a payload of this length goes on in the next one
_TWO, _FOUR, _EIGHT = Struct("<H").unpack_from, Struct("<I").unpack_from, Struct("<Q").unpack_from

# Capabilities that both sides agree on in the beginning. Those from 32 are MariaDB's own.
CONNECT_WITH_DB, COMPRESS, PROTOCOL_41, SSL, SECURE = 1 << 3, 1 << 5, 1 << 9, 1 << 11, 1 << 15
PLUGIN_AUTH, CONNECT_ATTRS, PLUGIN_AUTH_LENENC = 1 << 19, 1 << 20, 1 << 21
DEPRECATE_EOF, OPTIONAL_METADATA, ZSTD, QUERY_ATTRIBUTES = 1 << 24, 1 << 25, 1 << 26, 1 << 27
MARIADB_PROGRESS, MARIADB_EXTENDED, MARIADB_CACHED = 1 << 32, 1 << 35, 1 << 36


def head(data: bytes, position: int) -> tuple[int, int]:
    """(bytes of payload, number in its sequence) of the packet at a position."""
    return data[position] | data[position + 1] << 8 | data[position + 2] << 16, data[position + 3]


def packet(payload: bytes, number: int) -> bytes:
    """A payload as a packet."""
    return len(payload).to_bytes(3, "little") + bytes((number & 0xFF,)) + payload


def number(data: bytes, position: int) -> tuple[int, int]:
    """(value, position after it) of an integer of varying length. Raises ValueError for what begins
    none.
    """
    first = data[position]
    if first < 0xFB:
        return first, position + 1
    if first == 0xFC:
        return _TWO(data, position + 1)[0], position + 3
    if first == 0xFD:
        return data[position + 1] | data[position + 2] << 8 | data[position + 3] << 16, position + 4
    if first == 0xFE:
        return _EIGHT(data, position + 1)[0], position + 9
    raise ValueError


def text(data: bytes, position: int) -> tuple[bytes, int]:
    """(bytes, position after them) of a text with its length before it. Raises ValueError,
    IndexError if it is cut.
    """
    length, position = number(data, position)
    if position + length > len(data):
        raise ValueError
    return data[position : position + length], position + length


def two(data: bytes, position: int) -> int:
    """An integer of two bytes."""
    return int(_TWO(data, position)[0])


def four(data: bytes, position: int) -> int:
    """An integer of four bytes."""
    return int(_FOUR(data, position)[0])
