"""Writes captures: the counterpart of `reading`, for sources outside the recorded process."""

from __future__ import annotations

import os
import re
from collections.abc import Sequence
from pathlib import Path as FilePath
from typing import IO

import msgspec

from askless.capture import events
from askless.core.errors import AskLessError
from askless.core.sql.slots import Value

# What differs between two executions of one template: literals. What this pattern takes for one is put back unchanged
# by the reader, and takes up one slot in whatever the text means, so it decides about size only.
LITERALS = re.compile(
    r"('[^']*(?:''[^']*)*'|(?<![\w.$:@?\"`])\d(?:[xX][0-9a-fA-F]+|[\d_]*(?:\.\d*)?(?:[eE][+-]?\d+)?))"
)


class QueryRow(msgspec.Struct):
    """One query to be written."""

    text: str
    start_ns: int
    duration_ns: int
    rows: int = 0
    bytes: int = 0
    digest: int = 0
    place: int = 0
    connection: int = 1
    parameters: tuple[Value, ...] = ()
    sample: tuple[tuple[Value, ...], ...] | None = None


class CaptureWriter:
    """Appends requests to a new capture file of mode 0600.

    Raises AskLessError `capture-exists` or `capture-unwritable`.
    """

    def __init__(
        self, path: FilePath, recorder: str, system: str, program: str = "", started_unix_s: float = 0.0
    ) -> None:
        self.path = path
        self.system = system
        self._encode = msgspec.json.Encoder().encode
        self._statements: dict[str, int] = {}
        self._templates: dict[tuple[str, ...], int] = {}
        self._places: dict[tuple[str, int, str, int], int] = {}
        self._columns: set[int] = set()
        self._requests = self._queries = 0
        try:
            self._file: IO[bytes] = os.fdopen(
                os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_APPEND, 0o600), "wb"
            )
        except FileExistsError:
            raise AskLessError("capture-exists", f"{path} exists already", "name another file") from None
        except OSError as error:
            raise AskLessError(
                "capture-unwritable", f"can't write {path}: {error.strerror}", "check the folder"
            ) from None
        header = events.Capture(
            format=events.FORMAT, version=events.VERSION, recorder=recorder, pid=os.getpid(), program=program,
            started_unix_s=started_unix_s,
        )  # fmt: skip
        self._line(header)

    def _line(self, event: events.Event) -> None:
        self._file.write(self._encode(event) + b"\n")

    def _raw(self, value: object) -> msgspec.Raw:
        return msgspec.Raw(self._encode(value))

    def place(self, file: str, line: int, function: str, caller: int = 0) -> int:
        """The number of a line of code."""
        key = (file, line, function, caller)
        number = self._places.get(key)
        if number is None:
            number = self._places[key] = len(self._places) + 1
            self._line(events.PlaceEvent(number, file, line, function, caller))
        return number

    def begin(self, number: int, route: str, start_ns: int, kind: str = "http", path: str = "") -> None:
        """A request begins."""
        self._requests += 1
        self._line(events.RequestEvent(number, kind, route, start_ns, path=path))

    def statement(self, text: str) -> tuple[int, tuple[str, ...] | None]:
        """A text's number, and its literals where they are not those of the first text of its kind."""
        number = self._statements.get(text)
        if number is not None:
            return number, None
        parts = LITERALS.split(text) if "--" not in text and "/*" not in text else [text]
        template = tuple(parts[::2])
        number = self._templates.get(template)
        if number is not None:
            return number, tuple(parts[1::2])
        number = len(self._templates) + 1
        self._templates[template] = number
        if len(parts) == 1:
            self._statements[text] = number
        self._line(events.StatementEvent(number, tuple(parts), self.system))
        return number, None

    def columns(self, statement: int, names: Sequence[str], sampled: Sequence[int]) -> None:
        """The columns of a statement's result; written once."""
        if statement not in self._columns:
            self._columns.add(statement)
            self._line(events.Columns(statement, tuple(names), tuple(sampled)))

    def queries(self, request: int, rows: Sequence[QueryRow]) -> None:
        """Queries of a request."""
        self._queries += len(rows)
        numbered = [self.statement(row.text) for row in rows]
        literals = [found for _, found in numbered]
        self._line(
            events.Queries(
                request=request,
                count=len(rows),
                statement=_column([number for number, _ in numbered]),
                duration_ns=[row.duration_ns for row in rows],
                rows=_column([row.rows for row in rows]),
                bytes=_column([row.bytes for row in rows]),
                place=_column([row.place for row in rows]),
                start_ns=self._raw([row.start_ns for row in rows]),
                digest=self._raw(_column([row.digest for row in rows])),
                connection=self._raw(_column([row.connection for row in rows])),
                parameters=self._raw([row.parameters for row in rows]),
                sample=self._raw([row.sample for row in rows]) if any(row.sample for row in rows) else events.RAW,
                literals=self._raw(literals) if any(literals) else events.RAW,
            )
        )

    def end(self, request: int, end_ns: int, status: int = 0) -> None:
        """A request ends."""
        self._line(events.End(request, end_ns, status=status))

    def close(self) -> None:
        """Write the last line and close the file."""
        self._line(events.Close(self._requests, self._queries))
        self._file.close()


def _column(values: list[int]) -> list[int] | int:
    return values[0] if values and values.count(values[0]) == len(values) else values
