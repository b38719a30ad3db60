"""PostgreSQL's logs: stderr with any log_line_prefix, csvlog, jsonlog. Statements with durations, parameters, plans and errors.

A statement is told once it has ended, with its duration (log_min_duration_statement, log_duration, log_min_duration_sample); with
log_statement alone its duration is not known. Of the extended protocol the execution counts: parse and bind are the same statement.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterator
from typing import NamedTuple

import msgspec

from askless.core.sql.slots import Value
from askless.core.traffic import QuerySeen
from askless.sources.logs import Format, Said, Unread
from askless.sources.logs.prefixes import guessed, nanoseconds_of, pattern_of

_DURATION = re.compile(
    r"duration: (\d+(?:\.\d+)?) ms(?:  (statement|execute|parse|bind|plan)(?: ([^:]*))?:\s?(.*))?$", re.DOTALL
)
_STATEMENT = re.compile(r"(statement|execute|fastpath function call)(?: ([^:]*))?: (.*)$", re.DOTALL)
_PARAMETERS = re.compile(r"\$(\d+) = (?:'((?:[^']|'')*)'(\.\.\.)?|(NULL))")
_ADDITIONS = ("DETAIL", "HINT", "QUERY", "CONTEXT", "LOCATION", "STATEMENT")
_TRUNCATED_LEAST = 100
_BEGINS, _ENDS = ("BEGIN", "START"), ("COMMIT", "ROLLBACK", "END", "ABORT")


class Record(msgspec.Struct):
    """One record of a log, whatever form it came in."""

    at_ns: int
    session: str
    severity: str
    message: str
    application: str = ""
    client: str = ""
    detail: str = ""
    statement: str = ""


class _Asked(NamedTuple):
    """A statement that has ended; `at_ns` is when, 0 for when its record was written."""

    text: str
    parameters: tuple[Value, ...]
    took_ms: float = 0.0
    at_ns: int = 0
    error: str = ""


class _Session:
    """What is known of a session: a statement that has begun, whether a transaction is open."""

    __slots__ = ("begun", "inside")

    def __init__(self) -> None:
        self.begun: Record | None = None  # log_statement told it; its duration may come
        self.inside = False


class Records:
    """Turns records into queries. Pure."""

    system = "postgresql"
    unseen = ("parameters", "results")

    def __init__(self) -> None:
        self.skipped = 0
        self._sessions: dict[str, _Session] = {}
        self._waiting: Record | None = None  # a record whose DETAIL or STATEMENT may follow
        self._untimed = self._with_parameters = self._placeholders = 0
        self.plans = 0

    def take(self, record: Record) -> Iterator[Said]:
        """A record came; what is known of the one before it, which nothing more follows."""
        before, self._waiting = self._waiting, record
        if before is not None:
            yield from self._tell(before)

    def close(self) -> Iterator[Said]:
        """There are no more."""
        before, self._waiting = self._waiting, None
        if before is not None:
            yield from self._tell(before)
        for session in list(self._sessions.values()):
            yield from self._begun(session)

    def add(self, severity: str, text: str, session: str) -> None:
        """A line that belongs to the record before it, where that is of the same session."""
        if self._waiting is None or self._waiting.session != session:
            return
        if severity == "DETAIL":
            self._waiting.detail = text
        elif severity == "STATEMENT":
            self._waiting.statement = text

    def lengthen(self, text: str) -> None:
        """The record before goes on: its message, or what was added to it last."""
        if self._waiting is None:
            return
        if self._waiting.statement:
            self._waiting.statement += "\n" + text
        elif self._waiting.detail:
            self._waiting.detail += "\n" + text
        else:
            self._waiting.message += "\n" + text

    def _tell(self, record: Record) -> Iterator[Said]:
        session = self._sessions.setdefault(record.session, _Session())
        message = record.message
        if record.severity == "LOG":
            timed = _DURATION.match(message)
            if timed is not None:
                yield from self._timed_one(record, session, timed)
                return
            worded = _STATEMENT.match(message)
            if worded is not None:
                yield from self._begun(session)
                session.begun = record
            elif message.startswith("disconnection:"):
                yield from self._begun(session)
                self._sessions.pop(record.session, None)
                yield Said(record.session, record.at_ns, None)
        elif record.severity in ("ERROR", "FATAL"):
            worded_as, parameters = _worded(session.begun)
            session.begun = None
            asked = _Asked(record.statement or worded_as, parameters, error=message)
            yield from self._query(record, asked)

    def _begun(self, session: _Session) -> Iterator[Said]:
        """A statement of which nothing more comes than that it began."""
        record, session.begun = session.begun, None
        if record is not None:
            yield from self._query(record, _Asked(*_worded(record)))

    def _timed_one(self, record: Record, session: _Session, timed: re.Match[str]) -> Iterator[Said]:
        took_ms, kind, text = float(timed[1]), timed[2], timed[4]
        if kind in ("parse", "bind"):
            return
        if kind == "plan":
            self.plans += 1
            return
        begun, session.begun = session.begun, None
        if kind is not None:
            yield from self._query(record, _Asked(text, parameters_of(record.detail), took_ms, record.at_ns))
        elif begun is not None:  # log_duration: of what was told before
            yield from self._query(begun, _Asked(*_worded(begun), took_ms, record.at_ns))

    def _query(self, record: Record, asked: _Asked) -> Iterator[Said]:
        session = self._sessions.setdefault(record.session, _Session())
        text = asked.text.strip()
        if not text:
            return
        duration_ns = int(asked.took_ms * 1e6)
        self._untimed += not asked.took_ms and not asked.error
        self._placeholders += "$1" in text
        self._with_parameters += bool(asked.parameters)
        end_ns = asked.at_ns or record.at_ns
        word = text.split(None, 1)[0].rstrip(";").upper()
        if word in _BEGINS or word in _ENDS:
            session.inside = word in _BEGINS
        query = QuerySeen(
            text=text, start_ns=end_ns - duration_ns, duration_ns=duration_ns, rows=-1, parameters=asked.parameters, error=asked.error,
            in_transaction=session.inside,
        )  # fmt: skip
        yield Said(record.session, end_ns, query, record.application, session.inside, record.client)

    def notes(self) -> list[str]:
        """Settings that would tell more, by the server's own names."""
        notes = []
        if self._untimed:
            notes.append(
                f"{self._untimed:,} statements came without a duration: log_min_duration_statement = 0 tells it (log_statement does not)"
            )
        if self._placeholders and not self._with_parameters:
            notes.append(
                "no statement came with its parameters: log_parameter_max_length = -1 tells them, and log_min_duration_statement"
            )
        if self.plans:
            notes.append(f"{self.plans:,} plans of auto_explain were passed over: askless plan --file reads one")
        if self.skipped:
            notes.append(f"{self.skipped:,} lines before the first whole record were left out")
        return notes


def _worded(record: Record | None) -> tuple[str, tuple[Value, ...]]:
    """The statement of a record that log_statement wrote, and its parameters."""
    found = _STATEMENT.match(record.message) if record is not None else None
    return (found[3], parameters_of(record.detail)) if found is not None and record is not None else ("", ())


def parameters_of(detail: str) -> tuple[Value, ...]:
    """The parameters of a DETAIL line: `parameters: $1 = '7', $2 = NULL`. Those that the server cut are kept as far as they go."""
    if "arameters: " not in detail:
        return ()
    found = [
        (int(match[1]), None if match[4] else match[2].replace("''", "'")) for match in _PARAMETERS.finditer(detail)
    ]
    return tuple(value for _, value in sorted(found))


class _OfRecords:
    """What all forms of the log share: lines to records is each one's own, records to queries is not."""

    system = Records.system
    unseen = Records.unseen

    def __init__(self) -> None:
        self.records = Records()

    @property
    def skipped(self) -> int:
        """Lines that could not be used."""
        return self.records.skipped

    def _skip(self, why: str, expected: str) -> None:
        """A line can't be used: so many may be torn. Raises Unread for more."""
        self.records.skipped += 1
        if self.records.skipped > _TRUNCATED_LEAST:
            raise Unread(why, expected)

    def close(self) -> Iterator[Said]:
        """See `Reading`."""
        yield from self.records.close()

    def notes(self) -> list[str]:
        """See `Reading`."""
        return self.records.notes()


class Stderr(_OfRecords):
    """The log as it is written to stderr: a prefix, a severity, a message; what belongs to it begins with a tab."""

    def __init__(self, prefix: str) -> None:
        super().__init__()
        self._pattern = pattern_of(prefix)
        self._prefix = prefix
        self._any = False

    def take(self, line: str) -> Iterator[Said]:
        """See `Reading`."""
        if line.startswith("\t"):
            if self._any:
                self.records.lengthen(line[1:])
            else:
                self.records.skipped += 1
            return
        found = self._pattern.match(line)
        if found is None:
            if not self._any:  # a torn first line
                self._skip(f"it does not begin with {self._prefix!r}", "what log_line_prefix was set to: --prefix")
            elif line:
                self.records.lengthen(line)
            return
        self._any = True
        severity = found["severity"]
        if severity in _ADDITIONS:
            self.records.add(severity, found["message"], _session_of(found.groupdict()))
            return
        yield from self.records.take(_record(found.groupdict(), severity, found["message"]))


def _session_of(known: dict[str, str | None]) -> str:
    return known.get("session") or known.get("pid") or known.get("remote") or ""


def _record(known: dict[str, str | None], severity: str, message: str) -> Record:
    text = known.get("m") or known.get("t") or known.get("s")
    epoch = known.get("n")
    at_ns = int(float(epoch) * 1e9) if epoch else nanoseconds_of(text) if text else 0
    session = _session_of(known)
    client = known.get("remote") or known.get("host") or ""
    return Record(at_ns, session, severity, message, known.get("application") or "", client)


class Csv(_OfRecords):
    """csvlog: 23 columns and more, one record after the other, over several lines where a statement has them."""

    def __init__(self) -> None:
        super().__init__()
        self._open = ""

    def take(self, line: str) -> Iterator[Said]:
        """See `Reading`."""
        whole = f"{self._open}\n{line}" if self._open else line
        if whole.count('"') % 2:  # a quoted text goes on
            self._open = whole
            return
        self._open = ""
        try:
            row = next(csv.reader(io.StringIO(whole, newline="")), [])
        except csv.Error:
            row = [whole]
        if len(row) < 23 or not row[0][:4].isdigit():
            if row:
                self._skip(f"it has {len(row)} columns", "the 23 and more of csvlog")
            return
        record = Record(
            nanoseconds_of(row[0]), row[5] or row[3], row[11], row[13], row[22], row[4], row[14], row[19]
        )  # fmt: skip
        yield from self.records.take(record)


class Json(_OfRecords):
    """jsonlog: one object a line."""

    def take(self, line: str) -> Iterator[Said]:
        """See `Reading`."""
        try:
            given = msgspec.json.decode(line)
            at_ns = nanoseconds_of(given["timestamp"])
        except (msgspec.DecodeError, KeyError, TypeError, ValueError):
            if line.strip():
                self._skip("it is no object with a timestamp", "the lines of jsonlog")
            return
        session = str(given.get("session_id") or given.get("pid") or "")
        client = f"{given.get('remote_host') or ''}:{given.get('remote_port') or ''}".strip(":")
        yield from self.records.take(
            Record(
                at_ns, session, str(given.get("error_severity") or ""), str(given.get("message") or ""),
                str(given.get("application_name") or ""), client, str(given.get("detail") or ""),
                str(given.get("statement") or ""),
            )
        )  # fmt: skip


def _is_csv(lines: list[str]) -> bool:
    begins = re.compile(r"\d{4}-\d\d-\d\d \d\d:\d\d:\d\d\.\d+ [^,]+,")
    return any(begins.match(line) and line.count(",") >= 20 for line in lines)


def _is_json(lines: list[str]) -> bool:
    return any(line.startswith('{"timestamp":') and '"error_severity":' in line for line in lines)


FORMATS = {
    "postgresql": Format(lambda lines: guessed(lines) is not None, Stderr),
    "postgresql-csv": Format(_is_csv, lambda _: Csv()),
    "postgresql-json": Format(_is_json, lambda _: Json()),
}
