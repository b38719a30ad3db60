"""How large a payload may become in memory: derived from its bytes, before it is decoded.

A message of two bytes takes some 190 in memory, so a limit of bytes alone is none. Small payloads
are decoded at once; of large ones the objects are counted first. The counting walks only into
messages; texts are passed over.
"""

from __future__ import annotations

from askless.core.formatting import plural

SMALL_BYTES = 4 * 1024**2  # as messages of nothing they take 400 MB in memory at most
OBJECTS_MOST = 1_000_000  # of a payload; 8,192 spans of 40 attributes have 700,000
SPANS_MOST = 100_000
OPTION = "--max-payload"

# Message -> its fields that are messages: the published schema of OpenTelemetry's traces, as far as
# it repeats anything.
_KEY_VALUE: dict[int, dict] = {}  # type: ignore[type-arg]
_VALUE: dict[int, dict] = {}  # type: ignore[type-arg]
_KEY_VALUE[2] = _VALUE
_VALUE[5], _VALUE[6] = {1: _VALUE}, {1: _KEY_VALUE}
_EVENT = {3: _KEY_VALUE}
_SPAN = {9: _KEY_VALUE, 11: _EVENT, 13: {4: _KEY_VALUE}, 15: {}}
_REQUEST = {1: {1: {1: _KEY_VALUE}, 2: {1: {3: _KEY_VALUE}, 2: _SPAN}}}
_DEPTH_MOST = 100  # what protobuf itself allows


class TooLarge(Exception):
    """A payload that would take too much memory."""


def check_protobuf(payload: bytes, objects_most: int = OBJECTS_MOST) -> None:
    """Raises TooLarge. What is not well-formed is left to anyone who decodes it."""
    if len(payload) > SMALL_BYTES:
        _walk(payload, objects_most)


def _walk(payload: bytes, objects_most: int) -> None:
    count = 0
    waiting = [(0, len(payload), _REQUEST, 0)]
    while waiting:
        at, end, fields, depth = waiting.pop()
        while at < end:
            tag, at = _varint(payload, at)
            kind, number = tag & 7, tag >> 3
            if kind == 0:
                _, at = _varint(payload, at)
            elif kind == 2:
                length, at = _varint(payload, at)
                inner = fields.get(number)
                if inner is not None:
                    count += 1
                    if count > objects_most:
                        raise TooLarge(f"it holds more than {plural(objects_most, 'object')}")
                    if inner and depth < _DEPTH_MOST:
                        waiting.append((at, min(at + length, end), inner, depth + 1))
                at += length
            elif kind in (1, 5):
                at += 8 if kind == 1 else 4
            else:
                return


def _varint(payload: bytes, at: int) -> tuple[int, int]:
    result = shift = 0
    while at < len(payload):
        byte = payload[at]
        at += 1
        result |= (byte & 0x7F) << shift
        if byte < 0x80 or shift > 63:
            return result, at
        shift += 7
    return 0, len(payload)


def check_json(payload: bytes, objects_most: int = OBJECTS_MOST) -> None:
    """Raises TooLarge. Each value of JSON is after a bracket or a comma."""
    if len(payload) > SMALL_BYTES:
        values = payload.count(b"{") + payload.count(b"[") + payload.count(b",")
        if values > 4 * objects_most:
            raise TooLarge(f"it holds more than {plural(4 * objects_most, 'value')}")
