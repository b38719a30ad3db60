"""An open PostgreSQL connection: what is asked, and what comes of it.

The client may send ahead as much as it likes; the server answers in order. So what the client sends
is put into a queue of steps, and each answer belongs to the step at its head. After an error the
server passes over what was sent until the next Sync, and so does the queue.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from struct import Struct, error, unpack_from
from typing import ClassVar
from zlib import crc32

from askless.core.records.model import SAMPLED_MOST
from askless.sources.wire import CompletedQuery, Facts, Unreadable
from askless.sources.wire.framing import Leftover
from askless.sources.wire.postgresql.execution import (
    Columns,
    Execution,
    Portal,
    Prepared,
    Step,
    query_of,
)
from askless.sources.wire.splitting import split
from askless.sources.wire.value_capture import RowSample, statement_text

_LENGTH = Struct(">i").unpack_from
_SHORT = Struct(">H").unpack_from
# of a RowDescription, after the name: table, number, type, size, modifier, format
_COLUMN = Struct(">IhIhih")
_MOST_BYTES = 1 << 30  # of one message: the server's own limit
_FROM_CLIENT = frozenset(b"BCDEFHPQSXcdfp")
_FROM_SERVER = frozenset(b"123ACDEGHIKNRSTVWZcdnstv")
_ENCODINGS = {
    "UTF8": "utf-8",
    "UNICODE": "utf-8",
    "LATIN1": "latin-1",
    "LATIN9": "iso8859-15",
    "WIN1252": "cp1252",
}
_ROW, _COPIED = ord("D"), ord("d")


class Session:
    """See `askless.sources.wire.Session`."""

    def __init__(self, connection: int, facts: Facts) -> None:
        self.connection = connection
        self.application = str(facts.get("application_name", ""))
        self.encoding = _ENCODINGS.get(
            str(facts.get("client_encoding", "")).upper().replace("-", ""), "utf-8"
        )
        self.inside = False  # a transaction, as the server said last
        self._statements: dict[str, Prepared] = {}
        self._portals: dict[str, Portal] = {}
        self._steps: deque[Step] = deque()
        self._skipping = False  # what the client sends is passed over until it says Sync
        self._let_in = False  # the server has said that it is ready for the first time
        self._adrift = False  # bytes were lost: wait until the server says that it is ready
        self._done_ns = 0  # when the server last ended something
        self._from_client, self._from_server = Leftover(), Leftover()
        self.nameless = 0  # executions of what was prepared before anybody read
        self._counted = RowSample()
        self._seen: list[CompletedQuery] = []

    # -- framing
    # -----------------------------------------------------------------------------------------------------

    def client(self, data: bytes, at_ns: int) -> list[CompletedQuery]:
        """See `Session`."""
        if self._adrift:
            return []
        data = self._from_client.take(data)
        size, position = len(data), 0
        while position + 5 <= size:
            kind, end = data[position], position + 1 + _LENGTH(data, position + 1)[0]
            if kind not in _FROM_CLIENT or not position + 5 <= end <= position + _MOST_BYTES:
                raise Unreadable("not a client message", self._from_client.offset + position)
            if end > size:
                break
            reader = self._CLIENT.get(kind)
            if reader is not None:
                try:
                    reader(self, data, position + 5, end, at_ns)
                except (error, ValueError, IndexError):
                    raise Unreadable(
                        f"an invalid client message {chr(kind)!r}",
                        self._from_client.offset + position,
                    ) from None
            position = end
        self._from_client.keep(data, position, _need(data, position))
        return self._completed()

    def server(self, data: bytes, at_ns: int) -> list[CompletedQuery]:
        """See `Session`."""
        if self._adrift:
            return self._look_for_border(data, at_ns)
        data = self._from_server.take(data)
        size, position = len(data), 0
        while position + 5 <= size:
            kind, length = data[position], _LENGTH(data, position + 1)[0]
            end = position + 1 + length
            if kind not in _FROM_SERVER or not 4 <= length <= _MOST_BYTES:
                raise Unreadable("not a server message", self._from_server.offset + position)
            if end > size:
                break
            if kind == _ROW:
                self._row(data, position, end, length)
            elif kind == _COPIED:
                if self._steps and self._steps[0].execution is not None:
                    self._steps[0].execution.bytes += length - 4
            else:
                reader = self._SERVER.get(kind)
                if reader is not None:
                    try:
                        reader(self, data, position + 5, end, at_ns)
                    except (error, ValueError, IndexError):
                        raise Unreadable(
                            f"an invalid server message {chr(kind)!r}",
                            self._from_server.offset + position,
                        ) from None
            position = end
        self._from_server.keep(data, position, _need(data, position))
        return self._completed()

    def _completed(self) -> list[CompletedQuery]:
        seen, self._seen = self._seen, []
        return seen

    def lost(self) -> None:
        """See `Session`. What was prepared stays known; the next "ready" of the server is a
        border.
        """
        self._steps.clear()
        self._portals.clear()
        self._from_client.clear()
        self._from_server.clear()
        self._adrift = True
        self._skipping = False

    def _look_for_border(self, data: bytes, at_ns: int) -> list[CompletedQuery]:
        """After a loss: "ready for a query" at the end of what the server sent, so that both sides
        begin again.
        """
        if data[-6:-1] == b"Z\0\0\0\5" and data[-1] in b"ITE":
            self._adrift, self._let_in = False, True
            self.inside = data[-1] != ord("I")
            self._done_ns = at_ns
        return []

    def ended(self, at_ns: int) -> list[CompletedQuery]:
        """See `Session`."""
        execution = self._running()
        if execution is not None:
            execution.error = "the connection was lost"
            self._finish(execution, self._steps[0], at_ns)
        self._end_portals()
        return self._completed()

    # -- what the client says
    # ----------------------------------------------------------------------------------------

    def _push(self, step: Step) -> None:
        if self._skipping and step.kind != "sync":
            return
        self._skipping = False
        self._steps.append(step)

    def _word(self, data: bytes, position: int, end: int) -> tuple[str, int]:
        stop = data.index(0, position, end)
        return data[position:stop].decode(self.encoding, "replace"), stop + 1

    def _query(self, data: bytes, position: int, end: int, at_ns: int) -> None:
        text = statement_text(data[position : end - 1], self.encoding)
        self._portals.pop("", None)
        self._push(Step("query", at_ns, texts=split(text) or [text]))

    def _parse(self, data: bytes, position: int, end: int, at_ns: int) -> None:
        name, position = self._word(data, position, end)
        stop = data.index(0, position, end)
        text = statement_text(data[position:stop], self.encoding)
        (count,) = _SHORT(data, stop + 1)
        prepared = Prepared(text, unpack_from(f">{count}I", data, stop + 3))
        if not self._skipping:
            self._statements[name] = prepared
        self._push(Step("parse", at_ns, prepared=prepared))

    def _bind(self, data: bytes, position: int, end: int, at_ns: int) -> None:
        portal_name, position = self._word(data, position, end)
        name, position = self._word(data, position, end)
        formats, position = _shorts(data, position)
        (count,) = _SHORT(data, position)
        position += 2
        values: list[bytes | None] = []
        for _ in range(count):
            (length,) = _LENGTH(data, position)
            position += 4
            if position + max(length, 0) > end:
                raise ValueError
            values.append(None if length < 0 else data[position : position + length])
            position += max(length, 0)
        results, _ = _shorts(data, position)
        portal = Portal(self._statements.get(name) or Prepared("", ()), formats, values, results)
        if not self._skipping:
            self._portals[portal_name] = portal
        self._push(Step("bind", at_ns, portal))

    def _describe(self, data: bytes, position: int, end: int, at_ns: int) -> None:
        name, _ = self._word(data, position + 1, end)
        if data[position] == ord("S"):
            self._push(Step("describe", at_ns, prepared=self._statements.get(name)))
        else:
            self._push(Step("describe", at_ns, portal=self._portals.get(name)))

    def _execute(self, data: bytes, position: int, end: int, at_ns: int) -> None:
        name, _ = self._word(data, position, end)
        self._push(Step("execute", at_ns, self._portals.get(name)))

    def _close(self, data: bytes, position: int, end: int, at_ns: int) -> None:
        name, _ = self._word(data, position + 1, end)
        portal = self._portals.pop(name, None) if data[position] == ord("P") else None
        if data[position] == ord("S"):
            self._statements.pop(name, None)
        self._push(Step("close", at_ns, portal))

    def _sync(self, data: bytes, position: int, end: int, at_ns: int) -> None:
        self._push(Step("sync", at_ns))

    def _call(self, data: bytes, position: int, end: int, at_ns: int) -> None:
        self._push(Step("call", at_ns))

    # -- what the server answers
    # -------------------------------------------------------------------------------------

    def _running(self, columns: Columns | None = None) -> Execution | None:
        """The statement that the server works at, by the step at the head of the queue; it begins
        here if it has not.
        """
        step = self._steps[0] if self._steps else None
        if step is None or step.kind not in ("query", "execute"):
            return None
        if step.execution is None:
            portal = step.portal
            start_ns = max(step.at_ns, self._done_ns)
            if portal is not None and portal.running is not None:
                step.execution = portal.running
            elif portal is not None:
                step.execution = Execution(portal.prepared.text, portal, start_ns, self.inside)
                step.execution.columns = portal.columns or portal.prepared.columns
            else:
                texts = step.texts
                text = texts[min(step.turn, len(texts) - 1)] if texts else ""
                step.execution = Execution(text, None, start_ns, self.inside)
        if columns is not None:
            step.execution.columns = columns
        return step.execution

    def _row(self, data: bytes, position: int, end: int, length: int) -> None:
        step = self._steps[0] if self._steps else None
        execution = step.execution if step is not None else None
        execution = execution or self._running()
        if execution is None:
            return
        execution.rows += 1
        execution.bytes += length - 6
        if execution.rows <= SAMPLED_MOST:
            row = data[position + 5 : end]
            execution.sample.append(row)
            execution.crc = crc32(row, execution.crc)

    def _parsed(self, data: bytes, position: int, end: int, at_ns: int) -> None:
        self._step_done("parse")

    def _bound(self, data: bytes, position: int, end: int, at_ns: int) -> None:
        self._step_done("bind")

    def _closed(self, data: bytes, position: int, end: int, at_ns: int) -> None:
        step = self._step_done("close")
        if step is not None and step.portal is not None:
            self._suspended_ends(step.portal)

    def _step_done(self, kind: str) -> Step | None:
        if self._steps and self._steps[0].kind == kind:
            return self._steps.popleft()
        raise ValueError

    def _parameter_types(self, data: bytes, position: int, end: int, at_ns: int) -> None:
        (count,) = _SHORT(data, position)
        prepared = self._steps[0].prepared if self._steps else None
        if prepared is not None:
            prepared.types = list(unpack_from(f">{count}I", data, position + 2))

    def _description(self, data: bytes, position: int, end: int, at_ns: int) -> None:
        (count,) = _SHORT(data, position)
        position += 2
        columns = []
        for _ in range(count):
            name, position = self._word(data, position, end)
            _, _, oid, _, _, form = _COLUMN.unpack_from(data, position)
            position += _COLUMN.size
            columns.append((name, oid, form))
        self._described(tuple(columns))

    def _no_rows(self, data: bytes, position: int, end: int, at_ns: int) -> None:
        self._described(())

    def _described(self, columns: Columns) -> None:
        step = self._steps[0] if self._steps else None
        if step is not None and step.kind == "describe":
            if step.prepared is not None:
                step.prepared.columns = columns
            elif step.portal is not None:
                step.portal.columns = step.portal.prepared.columns = columns
            self._steps.popleft()
        else:
            self._running(columns)

    def _complete(self, data: bytes, position: int, end: int, at_ns: int) -> None:
        execution = self._running()
        if execution is None:
            raise ValueError
        tag = data[position : end - 1].decode("ascii", "replace")
        words = tag.split()
        if words and words[-1].isdigit() and not execution.rows:
            execution.rows = int(words[-1])
        step = self._steps[0]
        self._finish(execution, step, at_ns)
        if words[:1] in (["BEGIN"], ["START"]):
            self.inside = True
        elif words[:1] in (["COMMIT"], ["ROLLBACK"], ["PREPARE"]) and words[1:2] not in (["TO"],):
            self.inside = False
        self._next(step)

    def _next(self, step: Step) -> None:
        """The step has given one result: a simple query may have more of them."""
        step.execution = None
        step.turn += 1
        if step.kind == "execute":
            if step.portal is not None:
                step.portal.running = None
            self._steps.popleft()

    def _empty(self, data: bytes, position: int, end: int, at_ns: int) -> None:
        step = self._steps[0] if self._steps else None
        if step is not None and step.kind == "execute":
            self._steps.popleft()

    def _suspended(self, data: bytes, position: int, end: int, at_ns: int) -> None:
        execution = self._running()
        if execution is None or execution.portal is None:
            raise ValueError
        step = self._steps.popleft()
        execution.spent_ns += max(at_ns - max(step.at_ns, self._done_ns), 0)
        self._done_ns = at_ns
        execution.portal.running = execution

    def _copy(self, data: bytes, position: int, end: int, at_ns: int) -> None:
        self._running()

    def _copy_both(self, data: bytes, position: int, end: int, at_ns: int) -> None:
        raise Unreadable("a replication stream")

    def _failed(self, data: bytes, position: int, end: int, at_ns: int) -> None:
        step = self._steps[0] if self._steps else None
        if step is None or step.kind in ("sync", "call"):
            return
        message = self._message(data, position, end)
        execution = self._running()
        if execution is None:
            prepared = step.prepared or (step.portal.prepared if step.portal is not None else None)
            if prepared is not None:
                start_ns = max(step.at_ns, self._done_ns)
                execution = Execution(prepared.text, step.portal, start_ns, self.inside)
        if execution is not None and execution.text:
            execution.error = message
            self._finish(execution, step, at_ns)
        if step.kind == "query":
            step.execution, step.turn = None, len(step.texts)
            return
        while self._steps and self._steps[0].kind != "sync":
            self._steps.popleft()
        self._skipping = not self._steps

    def _message(self, data: bytes, position: int, end: int) -> str:
        """An error in one line: its code and what it says."""
        fields: dict[int, str] = {}
        while position < end and data[position]:
            kind = data[position]
            fields[kind], position = self._word(data, position + 1, end)
        return f"{fields.get(ord('C'), '')} {fields.get(ord('M'), 'an error')}".strip()[:500]

    def _ready(self, data: bytes, position: int, end: int, at_ns: int) -> None:
        self.inside = data[position] != ord("I")
        self._done_ns = at_ns
        if not self._let_in:  # that is not an answer to what was sent ahead
            self._let_in = True
            return
        while self._steps:
            if self._steps.popleft().kind in ("sync", "query", "call"):
                break
        if not self.inside:
            self._end_portals()

    def _setting(self, data: bytes, position: int, end: int, at_ns: int) -> None:
        name, position = self._word(data, position, end)
        value, _ = self._word(data, position, end)
        if name == "application_name":
            self.application = value
        elif name == "client_encoding":
            self.encoding = _ENCODINGS.get(value.upper().replace("-", ""), self.encoding)

    _CLIENT: ClassVar[dict[int, Callable[[Session, bytes, int, int, int], None]]] = {
        ord("Q"): _query, ord("P"): _parse, ord("B"): _bind, ord("D"): _describe,
        ord("E"): _execute, ord("C"): _close, ord("S"): _sync, ord("F"): _call,
    }  # fmt: skip
    _SERVER: ClassVar[dict[int, Callable[[Session, bytes, int, int, int], None]]] = {
        ord("1"): _parsed, ord("2"): _bound, ord("3"): _closed, ord("t"): _parameter_types,
        ord("T"): _description, ord("n"): _no_rows, ord("C"): _complete, ord("I"): _empty,
        ord("s"): _suspended, ord("G"): _copy, ord("H"): _copy, ord("W"): _copy_both,
        ord("E"): _failed, ord("Z"): _ready, ord("S"): _setting,
    }  # fmt: skip

    # -- what has ended
    # ----------------------------------------------------------------------------------------------

    def _end_portals(self) -> None:
        for portal in self._portals.values():
            self._suspended_ends(portal)
        self._portals.clear()

    def _suspended_ends(self, portal: Portal) -> None:
        """A portal goes before all its rows were asked for."""
        execution, portal.running = portal.running, None
        if execution is not None:
            self._tell(execution)

    def _finish(self, execution: Execution, step: Step, at_ns: int) -> None:
        begun_ns = max(step.at_ns, self._done_ns)
        execution.spent_ns += max(at_ns - begun_ns, 0)
        self._done_ns = at_ns
        self._tell(execution)

    def _tell(self, execution: Execution) -> None:
        if not execution.text:
            self.nameless += 1
            return
        widths_too = bool(execution.sample) and self._counted.is_due(execution.text)
        query = query_of(execution, self.connection, self.encoding, widths_too)
        self._seen.append(CompletedQuery(query, self.application, self.inside))


def _shorts(data: bytes, position: int) -> tuple[tuple[int, ...], int]:
    (count,) = _SHORT(data, position)
    return unpack_from(f">{count}h", data, position + 2), position + 2 + 2 * count


def _need(data: bytes, position: int) -> int:
    """Bytes of the message at a position, as far as its head is there."""
    return 1 + int(_LENGTH(data, position + 1)[0]) if len(data) - position >= 5 else 5
