"""Files of spans, as collectors write them: JSON, JSON lines, dumps of protobuf; compressed or not."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO

from askless.core.errors import AskLessError
from askless.sources.tracing.decoding import Malformed, of_protobuf, spans_of, spans_of_json
from askless.sources.tracing.spans import Span
from askless.sources.unpacking import unpacked

_LENGTH_BYTES = 4  # before each message of a collector's dump, most significant first
MESSAGE_MOST = 256 * 1024**2


def payloads(path: Path) -> Iterator[tuple[str, list[Span]]]:
    """The payloads of a file: where each stands, and its spans.

    Raises AskLessError: file-missing, traces-unreadable.
    """
    with unpacked(path, "file-missing", "traces-unreadable") as stream:
        yield from _payloads(path, stream)


def _payloads(path: Path, stream: BinaryIO) -> Iterator[tuple[str, list[Span]]]:
    start = stream.read(_LENGTH_BYTES)
    if start.lstrip()[:1] in (b"{", b"["):
        yield from _json(path, start, stream)
    elif start:
        yield from _messages(path, start, stream)


def _json(path: Path, start: bytes, stream: BinaryIO) -> Iterator[tuple[str, list[Span]]]:
    """A payload a line; or one that stands on many."""
    first = start + stream.readline()
    rest = b""
    try:
        spans = spans_of_json(first)
    except Malformed:
        rest = first + stream.read()
        try:
            yield str(path), spans_of_json(rest)
        except Malformed as error:
            raise _unreadable(path, "line 1", str(error)) from None
        return
    yield f"{path}, line 1", spans
    for number, line in enumerate(stream, 2):
        if not line.strip():
            continue
        try:
            yield f"{path}, line {number}", spans_of_json(line)
        except Malformed as error:
            if not line.endswith(b"\n"):  # torn: whoever writes it is not done, or has died
                return
            raise _unreadable(path, f"line {number}", str(error)) from None


def _messages(path: Path, start: bytes, stream: BinaryIO) -> Iterator[tuple[str, list[Span]]]:
    """Messages with their lengths before them; or one alone."""
    size = int.from_bytes(start, "big")
    number = 0
    if 0 < size <= MESSAGE_MOST:
        data = stream.read(size)
        try:
            spans = list(spans_of(of_protobuf(data))) if len(data) == size else None
        except Malformed:
            spans = None
        if spans is not None:
            while True:
                number += 1
                yield f"{path}, message {number}", spans
                head = stream.read(_LENGTH_BYTES)
                size = int.from_bytes(head, "big")
                data = stream.read(size) if len(head) == _LENGTH_BYTES and size <= MESSAGE_MOST else b""
                if len(data) < size or len(head) < _LENGTH_BYTES:
                    return
                try:
                    spans = list(spans_of(of_protobuf(data)))
                except Malformed as error:
                    raise _unreadable(path, f"message {number + 1}", str(error)) from None
        start += data
    try:
        yield str(path), list(spans_of(of_protobuf(start + stream.read(MESSAGE_MOST))))
    except Malformed as error:
        raise _unreadable(path, "its beginning", str(error)) from None


def _unreadable(path: Path, where: str, why: str) -> AskLessError:
    return AskLessError(
        "traces-unreadable", f"{path}, {where}, holds no spans: {why}",
        "name a file of OTLP: JSON, JSON lines, or messages of protobuf",
    )  # fmt: skip
