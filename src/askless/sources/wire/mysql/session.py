"""An open connection of MySQL's protocol: commands, and what the server answers to each.

The answer's form depends on the command, and a result set's on what was agreed in the beginning.
Commands that a client sends ahead wait in a queue; each answer belongs to the one at its head.
"""

from __future__ import annotations

from collections import deque
from struct import error
from zlib import crc32

from askless.core.records.model import SAMPLED_MOST
from askless.core.sql.slots import Value
from askless.sources.wire import CompletedQuery, Facts, Unreadable
from askless.sources.wire.framing import Leftover
from askless.sources.wire.mysql import packets
from askless.sources.wire.mysql.execution import Execution, Prepared, query_of
from askless.sources.wire.mysql.values import Column, binary_value, column_of
from askless.sources.wire.splitting import split
from askless.sources.wire.value_capture import RowSample, statement_text

QUIT, INIT_DB, QUERY, FIELD_LIST, STATISTICS, CHANGE_USER, BINLOG_DUMP = 1, 2, 3, 4, 9, 17, 18
PREPARE, EXECUTE, LONG_DATA, CLOSE, RESET, SET_OPTION, FETCH, BINLOG_GTID, BULK = (
    22,
    23,
    24,
    25,
    26,
    27,
    28,
    30,
    250,
)
_SILENT = {QUIT, LONG_DATA, CLOSE}  # commands that the server does not answer
_KNOWN = frozenset((*range(0x1F + 1), BULK))
_IN_TRANSACTION, _MORE_RESULTS, _CURSOR, _LAST_ROW = 0x0001, 0x0008, 0x0040, 0x0080
_LATIN = {5, 8, 15, 31, 47, 48, 49, 94}  # numbers of collations of latin1
_OK, _LOCAL, _EOF, _ERROR = 0x00, 0xFB, 0xFE, 0xFF
_PROGRESS = 0xFFFF  # an "error" of MariaDB's that only says how far it is


class Command:
    """A command of the client, and how far its answer is.

    `stage`: "first" (the first packet of an answer), "columns", "rows", "definitions" (of a
    PREPARE), "file".
    """

    __slots__ = (
        "at_ns",
        "columns",
        "execution",
        "kind",
        "prepared",
        "remaining",
        "stage",
        "texts",
        "turn",
    )

    def __init__(self, kind: int, at_ns: int) -> None:
        self.kind = kind
        self.at_ns = at_ns
        self.stage = "first"
        self.remaining = 0  # packets of this stage that are still to come
        self.columns: list[Column] = []
        self.execution: Execution | None = None
        self.prepared: Prepared | None = None
        self.texts: list[str] = []
        self.turn = 0


class Session:
    """See `askless.sources.wire.Session`."""

    def __init__(self, connection: int, facts: Facts) -> None:
        self.connection = connection
        self.application = str(facts.get("application_name", ""))
        self.encoding = "latin-1" if facts.get("charset") in _LATIN else "utf-8"
        self.inside = False
        self.nameless = 0
        self._can = int(facts.get("capabilities", 0))
        # whether definitions end with a packet of their own: not yet known
        self._guessing = "capabilities" not in facts
        self._system = "mariadb" if "mariadb" in str(facts.get("version", "")).lower() else "mysql"
        self._prepared: dict[int, Prepared] = {}
        self._commands: deque[Command] = deque()
        self._done_ns = 0
        self._adrift = False
        self._from_client, self._from_server = Leftover(), Leftover()
        self._pieces: list[bytes] = []  # of a command that takes several packets
        self._row_goes_on = False
        self._counted = RowSample()
        self._seen: list[CompletedQuery] = []

    # -- framing
    # -----------------------------------------------------------------------------------------------------

    def client(self, data: bytes, at_ns: int) -> list[CompletedQuery]:
        """See `Session`."""
        if self._adrift and not self._is_border(data):
            return []
        data = self._from_client.take(data)
        size, position = len(data), 0
        while position + 4 <= size:
            length, number = packets.head(data, position)
            end = position + 4 + length
            if end > size:
                break
            try:
                self._packet(data[position + 4 : end], number, at_ns)
            except (error, ValueError, IndexError):
                raise Unreadable(
                    "an invalid client command", self._from_client.offset + position
                ) from None
            position = end
        self._from_client.keep(data, position, _need(data, position))
        return self._completed()

    def server(self, data: bytes, at_ns: int) -> list[CompletedQuery]:
        """See `Session`."""
        if self._adrift:
            return []
        data = self._from_server.take(data)
        size, position = len(data), 0
        while position + 4 <= size:
            length = data[position] | data[position + 1] << 8 | data[position + 2] << 16
            end = position + 4 + length
            if end > size:
                break
            command = self._commands[0] if self._commands else None
            try:
                if command is None:
                    self._unasked(data, position + 4, end)
                elif command.stage == "rows":
                    self._row(command, data, position + 4, end, at_ns)
                else:
                    self._answer(command, data[position + 4 : end], at_ns)
            except (error, ValueError, IndexError):
                raise Unreadable(
                    "an invalid server response", self._from_server.offset + position
                ) from None
            position = end
        self._from_server.keep(data, position, _need(data, position))
        return self._completed()

    def _completed(self) -> list[CompletedQuery]:
        seen, self._seen = self._seen, []
        return seen

    def _is_border(self, data: bytes) -> bool:
        """After a loss: whether a client's bytes are just one command, with which both sides begin
        again.
        """
        if len(data) > 4 and packets.head(data, 0) == (len(data) - 4, 0) and data[4] in _KNOWN:
            self._adrift = False
        return not self._adrift

    def lost(self) -> None:
        """See `Session`."""
        self._commands.clear()
        self._from_client.clear()
        self._from_server.clear()
        self._pieces.clear()
        self._row_goes_on = False
        self._adrift = True

    def ended(self, at_ns: int) -> list[CompletedQuery]:
        """See `Session`."""
        command = self._commands[0] if self._commands else None
        if command is not None and (command.execution is not None or command.texts):
            execution = self._running(command)
            execution.error = "the connection was lost"
            self._finish(command, at_ns)
        for prepared in self._prepared.values():
            self._end_cursor(prepared)
        return self._completed()

    # -- what the client says
    # ----------------------------------------------------------------------------------------

    def _end_prepared(self, number: int, kind: int) -> None:
        prepared = self._prepared.get(number)
        if prepared is not None:
            self._end_cursor(prepared)
        if kind == CLOSE:
            self._prepared.pop(number, None)

    def _packet(self, payload: bytes, number: int, at_ns: int) -> None:
        if self._pieces or len(payload) == packets.LONGEST:
            self._pieces.append(payload)
            if len(payload) == packets.LONGEST:
                return
            payload, self._pieces = b"".join(self._pieces), []
            number = 0
        head = self._commands[0] if self._commands else None
        if head is not None and head.stage == "file":
            if not payload:  # the file is at its end
                head.stage = "first"
            return
        if number:  # a part of an authentication
            return
        kind = payload[0]
        if kind not in _KNOWN:
            raise ValueError
        if kind in (BINLOG_DUMP, BINLOG_GTID):
            raise Unreadable("a replication stream")
        reader = {
            QUERY: self._query,
            PREPARE: self._query,
            EXECUTE: self._execute,
            FETCH: self._fetch,
            BULK: self._bulk,
            LONG_DATA: self._long_data,
        }.get(kind)
        command = Command(kind, at_ns)
        if reader is not None:
            reader(command, payload)
        elif kind in (CLOSE, RESET):
            self._end_prepared(packets.four(payload, 1), kind)
        if kind not in _SILENT:
            self._commands.append(command)

    def _query(self, command: Command, payload: bytes) -> None:
        position = 1
        attributes = self._can & packets.QUERY_ATTRIBUTES or (
            self._guessing and payload[1:3] == b"\0\1"
        )
        if attributes and command.kind == QUERY:
            position = self._skip_attributes(payload)
        text = statement_text(payload[position:], self.encoding)
        command.texts = (split(text, self._system) or [text]) if command.kind == QUERY else [text]

    def _skip_attributes(self, payload: bytes) -> int:
        """Where a statement begins after the attributes that a client of MySQL may send before
        it.
        """
        count, position = packets.number(payload, 1)
        _, position = packets.number(payload, position)
        if count:
            nulls = payload[position : position + (count + 7) // 8]
            position += len(nulls) + 1
            kinds = []
            for _ in range(count):
                kinds.append(packets.two(payload, position))
                _, position = packets.text(payload, position + 2)
            for place, kind in enumerate(kinds):
                if not nulls[place // 8] >> place % 8 & 1:
                    _, position = binary_value(
                        payload, position, kind & 0xFF, bool(kind & 0x8000), self.encoding
                    )
        return position

    def _execute(self, command: Command, payload: bytes) -> None:
        prepared = self._known(command, payload)
        if prepared is not None:
            command.execution = Execution(prepared.text, self.inside, True)
            command.execution.parameters = self._parameters(prepared, payload)
            prepared.long_data.clear()

    def _known(self, command: Command, payload: bytes) -> Prepared | None:
        """The prepared statement of a command; -1 stands for the last one (MariaDB's clients send
        both at once).
        """
        number = packets.four(payload, 1)
        prepared = self._prepared.get(number)
        if number == 0xFFFFFFFF:
            last = next((c for c in reversed(self._commands) if c.kind == PREPARE), None)
            prepared = Prepared(last.texts[0], 0) if last is not None else None
        if prepared is None:
            self.nameless += 1
        else:
            self._end_cursor(prepared)
        command.prepared = prepared
        return prepared

    def _bulk(self, command: Command, payload: bytes) -> None:
        prepared = self._known(command, payload)
        if prepared is not None:
            command.execution = Execution(prepared.text, self.inside, True)
            command.execution.many = True

    def _fetch(self, command: Command, payload: bytes) -> None:
        prepared = self._prepared.get(packets.four(payload, 1))
        command.stage = "rows"
        command.prepared = prepared
        if prepared is not None and prepared.cursor is not None:
            command.execution = prepared.cursor
            command.columns = prepared.cursor.columns
        else:
            command.execution = Execution("", self.inside, True)

    def _long_data(self, command: Command, payload: bytes) -> None:
        prepared = self._prepared.get(packets.four(payload, 1))
        if prepared is not None:
            prepared.long_data.add(packets.two(payload, 5))

    def _parameters(self, prepared: Prepared, payload: bytes) -> tuple[Value, ...]:
        """The values of an EXECUTE: statement, flags, rounds, a bitmap of NULLs, types where they
        are new, values.
        """
        position, count = 10, prepared.parameters
        named = bool(self._can & packets.QUERY_ATTRIBUTES)
        if named and (count or payload[5] & 0x08):
            count, position = packets.number(payload, position)
        if not count:
            return ()
        nulls = payload[position : position + (count + 7) // 8]
        position += len(nulls)
        position += 1
        if payload[position - 1] == 1:
            kinds = []
            for _ in range(count):
                kinds.append(packets.two(payload, position))
                position += 2
                if named:
                    _, position = packets.text(payload, position)
            prepared.kinds = kinds
        results: list[Value] = []
        for place, kind in enumerate(prepared.kinds[:count]):
            if place in prepared.long_data:
                results.append(("cut bytes", "sent in pieces"))
            elif nulls[place // 8] >> place % 8 & 1:
                results.append(None)
            else:
                value, position = binary_value(
                    payload, position, kind & 0xFF, bool(kind & 0x8000), self.encoding
                )
                results.append(value)
        return tuple(results[: prepared.parameters])

    # -- what the server answers
    # -------------------------------------------------------------------------------------

    def _unasked(self, data: bytes, position: int, end: int) -> None:
        """An answer to nothing: an error with which a server ends a connection is the only one."""
        if data[position] != _ERROR:
            raise ValueError

    def _running(self, command: Command) -> Execution:
        if command.execution is None:
            text = command.texts[min(command.turn, len(command.texts) - 1)] if command.texts else ""
            command.execution = Execution(text, self.inside, False)
        if not command.execution.start_ns:
            command.execution.start_ns = max(command.at_ns, self._done_ns)
        return command.execution

    def _answer(self, command: Command, payload: bytes, at_ns: int) -> None:
        first = payload[0]
        if command.stage == "first":
            self._first(command, payload, first, at_ns)
        elif command.stage == "columns":
            self._column(command, payload, at_ns)
        elif command.stage == "definitions":
            self._definition(command)

    def _first(self, command: Command, payload: bytes, first: int, at_ns: int) -> None:
        if first == _ERROR:
            self._failed(command, payload, at_ns)
        elif command.kind == PREPARE:
            self._prepared_ok(command, payload)
        elif command.kind == CHANGE_USER:
            if first == _OK:
                self._commands.popleft()
                self._prepared.clear()
        elif command.kind not in (QUERY, EXECUTE, BULK):
            self._plain(command, payload, first)
        elif first == _OK:
            self._ok(command, payload, 1, at_ns)
        elif first == _LOCAL:
            self._running(command)
            command.stage = "file"
        else:
            self._result_begins(command, payload)

    def _plain(self, command: Command, payload: bytes, first: int) -> None:
        """The answer to a command that is not a statement: one packet, or definitions up to an
        end.
        """
        if command.kind == FIELD_LIST and not (first == _EOF and len(payload) < 9) and first != _OK:
            return
        if first in (_OK, _EOF) and command.kind != STATISTICS:
            self._status(payload, 1 if first == _OK else 3 if len(payload) == 5 else 1)
        self._commands.popleft()

    def _status(self, payload: bytes, position: int) -> int:
        """The server's state, as an OK packet (from its first number on) or an EOF packet says
        it.
        """
        if position == 1:
            _, position = packets.number(payload, position)
            _, position = packets.number(payload, position)
        status = packets.two(payload, position) if position + 2 <= len(payload) else 0
        self.inside = bool(status & _IN_TRANSACTION)
        return status

    def _ok(self, command: Command, payload: bytes, position: int, at_ns: int) -> None:
        execution = self._running(command)
        changed, _ = packets.number(payload, position)
        status = self._status(payload, position)
        execution.rows = max(execution.rows, changed)
        self._result_ends(command, status, at_ns)

    def _result_begins(self, command: Command, payload: bytes) -> None:
        execution = self._running(command)
        position, described = 0, True
        if self._can & packets.OPTIONAL_METADATA:
            described, position = payload[0] == 1, 1
        count, position = packets.number(payload, position)
        if self._can & packets.MARIADB_CACHED and position < len(payload):
            described = payload[position] == 1
        command.columns = []
        execution.counted_columns = count
        command.remaining = count if described else 0
        command.stage = "columns"
        if not described:
            command.columns = command.prepared.columns if command.prepared is not None else []
            execution.columns = command.columns
            # What follows is the end of definitions where both sides still say it, else the rows.
            command.stage = "rows" if self._can & packets.DEPRECATE_EOF else "columns"

    def _column(self, command: Command, payload: bytes, at_ns: int) -> None:
        execution = self._running(command)
        if command.remaining:
            extended = bool(self._can & packets.MARIADB_EXTENDED)
            command.columns.append(column_of(payload, 0, extended, self.encoding))
            command.remaining -= 1
            if command.remaining:
                return
            execution.columns = command.columns
            if command.prepared is not None:
                command.prepared.columns = command.columns
            if self._can & packets.DEPRECATE_EOF:
                command.stage = "rows"
            return
        if self._guessing:
            self._guessing = False
            if payload[0] != _EOF or len(payload) != 5:
                self._can |= packets.DEPRECATE_EOF
                command.stage = "rows"
                self._row(command, payload, 0, len(payload), at_ns)
                return
        if payload[0] != _EOF:
            raise ValueError
        if self._status(payload, 3) & _CURSOR:
            self._cursor_opens(command, at_ns)
        else:
            command.stage = "rows"

    def _row(self, command: Command, data: bytes, position: int, end: int, at_ns: int) -> None:
        length, first = end - position, data[position] if end > position else -1
        execution = command.execution
        if self._row_goes_on:
            self._row_goes_on = length == packets.LONGEST
            if execution is not None:
                execution.bytes += length
            return
        if first == _ERROR:
            self._failed(command, data[position:end], at_ns)
            return
        if first == _EOF and length < (packets.LONGEST if self._can & packets.DEPRECATE_EOF else 9):
            self._rows_end(command, data[position:end], at_ns)
            return
        execution = execution or self._running(command)
        execution.rows += 1
        execution.bytes += length + (0 if execution.binary else 3 * execution.counted_columns)
        self._row_goes_on = length == packets.LONGEST
        if execution.rows <= SAMPLED_MOST and not self._row_goes_on:
            row = data[position:end]
            execution.sample.append(row)
            execution.crc = crc32(row, execution.crc)

    def _rows_end(self, command: Command, payload: bytes, at_ns: int) -> None:
        modern = bool(self._can & packets.DEPRECATE_EOF)
        status = self._status(payload, 1 if modern else 3)
        if command.kind == FETCH:
            self._fetched(command, bool(status & _LAST_ROW), at_ns)
        elif status & _CURSOR and command.execution is not None and not command.execution.rows:
            self._cursor_opens(command, at_ns)
        else:
            self._result_ends(command, status, at_ns)

    def _cursor_opens(self, command: Command, at_ns: int) -> None:
        """An EXECUTE has opened a cursor: its rows come with FETCHes."""
        execution = self._running(command)
        self._spend(command, execution, at_ns)
        if command.prepared is not None:
            command.prepared.cursor = execution
        self._commands.popleft()

    def _fetched(self, command: Command, last: bool, at_ns: int) -> None:
        if command.execution is not None:
            self._spend(command, command.execution, at_ns)
        self._commands.popleft()
        if last and command.prepared is not None:
            self._end_cursor(command.prepared)

    def _end_cursor(self, prepared: Prepared) -> None:
        execution, prepared.cursor = prepared.cursor, None
        if execution is not None:
            self._tell(execution)

    def _result_ends(self, command: Command, status: int, at_ns: int) -> None:
        """One result is there. What comes beyond the last statement of a text belongs to that one:
        a procedure's results.
        """
        command.stage = "first"
        if status & _MORE_RESULTS:
            if command.turn < len(command.texts) - 1:
                self._finish(command, at_ns)
                command.turn += 1
            return
        self._finish(command, at_ns)
        self._commands.popleft()

    def _prepared_ok(self, command: Command, payload: bytes) -> None:
        number, outputs, parameters = (
            packets.four(payload, 1),
            packets.two(payload, 5),
            packets.two(payload, 7),
        )
        self._prepared[number] = Prepared(command.texts[0], parameters)
        described = (
            not (self._can & packets.OPTIONAL_METADATA) or len(payload) < 13 or payload[12] == 1
        )
        ends = 0 if self._can & packets.DEPRECATE_EOF else 1
        # Definitions come one packet each, and an end after each kind of them.
        command.remaining = (
            sum(count + ends for count in (parameters, outputs) if count) if described else 0
        )
        command.stage = "definitions"
        if not command.remaining:
            self._commands.popleft()

    def _definition(self, command: Command) -> None:
        command.remaining -= 1
        if not command.remaining:
            self._commands.popleft()

    def _failed(self, command: Command, payload: bytes, at_ns: int) -> None:
        code = packets.two(payload, 1)
        if code == _PROGRESS and self._can & packets.MARIADB_PROGRESS:
            return
        if command.kind in (QUERY, EXECUTE, BULK, FETCH, PREPARE):
            execution = self._running(command)
            message = payload[3:].decode(self.encoding, "replace")
            message = message[6:] if message[:1] == "#" else message
            execution.error = f"{code} {message}"[:500]
            if command.prepared is not None and command.prepared.cursor is execution:
                command.prepared.cursor = None
            self._finish(command, at_ns)
        self._commands.popleft()

    # -- what has ended
    # ----------------------------------------------------------------------------------------------

    def _spend(self, command: Command, execution: Execution, at_ns: int) -> None:
        begun_ns = max(command.at_ns, self._done_ns)
        execution.start_ns = execution.start_ns or begun_ns
        execution.spent_ns += max(at_ns - begun_ns, 0)
        self._done_ns = at_ns

    def _finish(self, command: Command, at_ns: int) -> None:
        execution = self._running(command)
        self._spend(command, execution, at_ns)
        command.execution = None
        self._tell(execution)

    def _tell(self, execution: Execution) -> None:
        if not execution.text:
            return
        widths_too = bool(execution.sample) and self._counted.is_due(execution.text)
        self._seen.append(
            CompletedQuery(
                query_of(execution, self.connection, self.encoding, widths_too),
                self.application,
                self.inside,
            )
        )


def _need(data: bytes, position: int) -> int:
    """Bytes of the packet at a position, as far as its head is there."""
    return 4 + packets.head(data, position)[0] if len(data) - position >= 4 else 4
