"""Files of spans, as collectors write them: JSON, JSON lines, dumps of protobuf; compressed or
not.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO

from askless.core.errors import AskLessError
from askless.core.formatting import size as bytes_in_words
from askless.sources.decompression import unpacked
from askless.sources.otlp.decoding import Malformed, Spans, spans_of_json, spans_of_protobuf
from askless.sources.otlp.size_limits import OBJECTS_MOST, OPTION, TooLarge

_LENGTH_BYTES = 4  # before each message of a collector's dump, most significant first
PAYLOAD_MOST = 64 * 1024**2


def payloads(path: Path, objects_most: int = OBJECTS_MOST) -> Iterator[tuple[str, Spans]]:
    """The payloads of a file: if each is, and its spans. A payload that is larger than may be ends
    the reading.

    Raises AskLessError: file-missing, traces-unreadable.
    """
    with unpacked(path, "file-missing", "traces-unreadable") as stream:
        yield from _File(path, stream, objects_most).payloads()


class _File:
    def __init__(self, path: Path, stream: BinaryIO, objects_most: int) -> None:
        self._path = path
        self._stream = stream
        self._objects_most = objects_most
        self._bytes_most = PAYLOAD_MOST * objects_most // OBJECTS_MOST

    def payloads(self) -> Iterator[tuple[str, Spans]]:
        start = self._stream.read(_LENGTH_BYTES)
        if start.lstrip()[:1] in (b"{", b"["):
            yield from self._json(start)
        elif start:
            yield from self._messages(start)

    def _rest(self, start: bytes, where: str, line: bool = False) -> bytes:
        """The rest of a line, or of the file, after its beginning."""
        most = self._bytes_most + 1 - len(start)
        data = start + (self._stream.readline(most) if line else self._stream.read(most))
        if len(data) > self._bytes_most:
            raise self._too_large(where, f"it has more than {bytes_in_words(self._bytes_most)}")
        return data

    def _json(self, start: bytes) -> Iterator[tuple[str, Spans]]:
        """A payload a line; or one that is on many."""
        first = self._rest(start, "line 1", line=True)
        try:
            spans = self._spans_of_json(first, "line 1")
        except Malformed:
            whole = self._rest(first, "line 1")
            try:
                yield str(self._path), self._spans_of_json(whole, "line 1")
            except Malformed as error:
                raise self._unreadable("line 1", str(error)) from None
            return
        yield f"{self._path}, line 1", spans
        number = 1
        while line := self._rest(b"", f"line {number + 1}", line=True):
            number += 1
            if not line.strip():
                continue
            try:
                yield f"{self._path}, line {number}", self._spans_of_json(line, f"line {number}")
            except Malformed as error:
                if not line.endswith(b"\n"):  # torn: anyone who writes it is not done, or has died
                    return
                # A line costs itself: what is on the others can still be read.
                yield f"{self._path}, line {number}", Spans([], 1, f"line {number}: {error}")

    def _messages(self, start: bytes) -> Iterator[tuple[str, Spans]]:
        """Messages with their lengths before them; or one alone."""
        size = int.from_bytes(start, "big")
        if 0 < size <= self._bytes_most:
            data = self._stream.read(size)
            try:
                spans = self._spans_of_protobuf(data, "message 1") if len(data) == size else None
            except Malformed:
                spans = None
            if spans is not None:
                yield f"{self._path}, message 1", spans
                yield from self._further_messages()
                return
            start += data
        whole = self._rest(start, "its beginning")
        try:
            yield str(self._path), self._spans_of_protobuf(whole, "its beginning")
        except Malformed as error:
            raise self._unreadable("its beginning", str(error)) from None

    def _further_messages(self) -> Iterator[tuple[str, Spans]]:
        number = 1
        while len(head := self._stream.read(_LENGTH_BYTES)) == _LENGTH_BYTES:
            number += 1
            size = int.from_bytes(head, "big")
            if size > self._bytes_most:
                raise self._too_large(f"message {number}", f"it has {bytes_in_words(size)}")
            data = self._stream.read(size)
            if len(data) < size:
                return
            try:
                yield (
                    f"{self._path}, message {number}",
                    self._spans_of_protobuf(data, f"message {number}"),
                )
            except Malformed as error:
                yield f"{self._path}, message {number}", Spans([], 1, f"message {number}: {error}")

    def _spans_of_json(self, payload: bytes, where: str) -> Spans:
        try:
            return spans_of_json(payload, self._objects_most)
        except TooLarge as error:
            raise self._too_large(where, str(error)) from None

    def _spans_of_protobuf(self, payload: bytes, where: str) -> Spans:
        try:
            return spans_of_protobuf(payload, self._objects_most)
        except TooLarge as error:
            raise self._too_large(where, str(error)) from None

    def _unreadable(self, where: str, why: str) -> AskLessError:
        return AskLessError(
            "traces-unreadable",
            f"{self._path}, {where}, holds no spans: {why}",
            "name an OTLP file: JSON, JSON lines or protobuf messages",
        )

    def _too_large(self, where: str, why: str) -> AskLessError:
        return AskLessError(
            "traces-unreadable",
            f"{self._path}, {where}, is too large: {why}",
            f"everything before it was read; {OPTION} raises the limit",
        )
