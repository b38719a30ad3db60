"""A statement that is running, in any wire protocol, and the query that is recorded of it."""

from __future__ import annotations

from collections.abc import Sequence
from zlib import crc32

from askless.core.records.traffic import QuerySeen
from askless.core.sql.slots import Value


class RunningStatement:
    """A running statement, with the results it has returned so far. `spent_ns` grows with each part
    of its rows; `crc` is the checksum of the rows in `sample`, which are the first ones; `many`:
    parameter sets that came in one piece.
    """

    __slots__ = (
        "bytes", "crc", "error", "inside", "many", "rows", "sample", "spent_ns", "start_ns", "text",
    )  # fmt: skip

    def __init__(self, text: str, inside: bool, start_ns: int = 0) -> None:
        self.text = text
        self.inside = inside  # of a transaction
        self.many = False
        self.start_ns = start_ns
        self.spent_ns = 0
        self.rows = self.bytes = self.crc = 0
        self.sample: list[bytes] = []
        self.error = ""

    def seen(
        self,
        connection: int,
        columns: Sequence[str],
        parameters: tuple[Value, ...],
        sampled: tuple[int, ...],
        sample: tuple[tuple[Value, ...], ...] | None,
        widths: tuple[int, ...],
        origins: tuple[str, ...] = (),
    ) -> QuerySeen:
        """The query to record, once it has ended."""
        return QuerySeen(
            text=self.text,
            start_ns=self.start_ns,
            duration_ns=self.spent_ns,
            rows=self.rows,
            bytes=self.bytes,
            digest=crc32(self.rows.to_bytes(8, "big"), self.crc) if columns else 0,
            connection=connection,
            in_transaction=self.inside,
            parameters=parameters,
            columns=tuple(columns),
            origins=origins,
            sampled=sampled,
            sample=sample,
            widths=widths,
            error=self.error,
            batch=max(self.rows, 1) if self.many else 0,
        )
