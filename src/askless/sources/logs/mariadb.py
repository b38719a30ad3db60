"""MariaDB's and MySQL's general and slow logs."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from datetime import datetime

from askless.core.inference.transactions import turn_of
from askless.core.records.model import RequestHints
from askless.core.records.traffic import QuerySeen
from askless.core.whole_numbers import whole_number
from askless.sources.logs import Format, LogMessage, UnreadLine
from askless.sources.logs.long_text import Cuts, LongText

_GENERAL = re.compile(
    r"^(?P<at>\d{6}\s+\d{1,2}:\d\d:\d\d|\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\.\d+(?:Z|[+-]\d\d:\d\d)"
    r"|)\s+(?P<id>\d+)\s(?P<command>[A-Z][A-Za-z ]*?)\t(?P<text>.*)$",
    re.DOTALL,
)
_COMMANDS = (
    "Query",
    "Execute",
    "Prepare",
    "Connect",
    "Quit",
    "Init DB",
    "Close stmt",
    "Reset stmt",
    "Statistics",
    "Ping",
    "Field List",
    "Change user",
    "Fetch",
    "Sleep",
    "Kill",
    "Long Data",
)
_HEADER = re.compile(r"^(?:Time\s+Id\s+Command|Tcp port:|.*[Vv]ersion: .* started with:)")
_MISSING_LEAST = 100


class General:
    """The general log: what every session sends, in the order in which it comes; no durations, no
    results.
    """

    system = "mysql"
    unseen = ("results",)

    def __init__(self) -> None:
        self.skipped = 0
        self._at_ns = 0
        self._any = False
        self.cuts = Cuts()
        # session, command, when, text so far
        self._open: tuple[str, str, int, LongText] | None = None
        self._inside: set[str] = set()
        self._count = 0

    def take(self, line: str) -> Iterable[LogMessage]:
        """See `Reading`."""
        match = _GENERAL.match(line)
        if match is None or match["command"] not in _COMMANDS:
            if _HEADER.match(line):
                return ()
            if self._open is not None:
                self._open[3].add(line)
            else:
                self.skipped += 1
                if self.skipped > _MISSING_LEAST:
                    raise UnreadLine(
                        "it has no time, id and command", "the lines of the general log"
                    )
            return ()
        messages = self._tell()
        at, session, command, text = match.groups()
        if at:
            self._at_ns = _nanoseconds(at) or self._at_ns
        self._open = session, command, self._at_ns, LongText(self.cuts, text)
        return messages

    def close(self) -> Iterable[LogMessage]:
        """See `Reading`."""
        return self._tell()

    def _tell(self) -> Sequence[LogMessage]:
        if self._open is None:
            return ()
        (session, command, at_ns, long), self._open = self._open, None
        text = str(long)
        if command == "Quit":
            self._inside.discard(session)
            return (LogMessage(session, at_ns, None),)
        text = text.strip()
        if command not in ("Query", "Execute") or not text:
            return ()
        self._count += 1
        turn = turn_of(text)
        if turn is not None:
            (self._inside.add if turn else self._inside.discard)(session)
        inside = session in self._inside
        # Whole seconds are all that some servers write: a count keeps their order.
        start_ns = at_ns + self._count % 1_000_000
        query = QuerySeen(
            text=text, start_ns=start_ns, duration_ns=0, rows=-1, in_transaction=inside
        )
        return (LogMessage(session, start_ns, query, "", inside),)

    def notes(self) -> list[str]:
        """See `Reading`."""
        notes = (
            ["the general log has no durations: the slow log has them (long_query_time = 0)"]
            if self._count
            else []
        )
        return notes + (
            [f"{self.skipped:,} lines before the first complete record were skipped"]
            if self.skipped
            else []
        )


_TIME, _USER = "# Time: ", "# User@Host: "
_SLOW_TIME = re.compile(
    r"^# Time: (?P<at>\d{6}\s+\d{1,2}:\d\d:\d\d|\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\S*)\s*$"
)
_SLOW_USER = re.compile(
    r"^# User@Host: (?P<user>[^\[]*)\[.*?\] @ (?P<host>.*?)(?:  Id:\s+(?P<id>\d+))?$"
)
_FIELD = re.compile(r"(\w+): (\S*)")
_USE = re.compile(r"^use \S+;$", re.IGNORECASE)
_SET = re.compile(r"^SET timestamp=(?P<at>[\d.]+);$", re.IGNORECASE)
_WARNING = re.compile(r"^# (?P<text>(?:Error|Warning|Note) \d+ .*)$")
_PLAN = "# explain: "
_QUIT = "# administrator command: Quit"
_ADMINISTRATOR = "# administrator command:"
# Fields that a query has places of its own for; all others are kept as they are called.
_OWN_FIELDS = frozenset(
    ("Query_time", "Rows_sent", "Rows_affected", "Bytes_sent", "Thread_id", "Start", "End", "Errno")
)


class Slow:
    """The slow log: what took longer than long_query_time, with its time, rows sent and examined,
    and more where the server was reported so.

    A record is a head of lines that begin with #, ended by SET timestamp, and a statement, in which
    lines may begin with # as well.
    """

    system = "mysql"
    unseen = ("results",)

    def __init__(self) -> None:
        self.skipped = 0
        self.cuts = Cuts()
        self._clear()
        self._time_ns = 0

    def _clear(self) -> None:
        self._session = self._client = ""
        self._fields: dict[str, str] = {}
        self._warnings: list[str] = []
        self._plan = LongText(self.cuts)
        self._text = LongText(self.cuts)
        self._at_ns = 0
        self._in_head = True

    def take(self, line: str) -> Iterable[LogMessage]:
        """See `Reading`."""
        if line.startswith(_TIME):
            time = _SLOW_TIME.match(line)
            if time is not None:
                messages = self._tell()
                self._time_ns = _nanoseconds(time["at"]) or self._time_ns
                return messages
        elif line.startswith(_USER):
            user = _SLOW_USER.match(line)
            if user is not None:
                messages = self._tell()
                self._session, self._client = user["id"] or "", user["host"]
                return messages
        if not self._in_head:
            if _HEADER.match(line):
                return self._tell()
            self._text.add(line)
        elif line.startswith("#"):
            self._head(line)
        elif not _HEADER.match(line):
            self._begin(line)
        return ()

    def _begin(self, line: str) -> None:
        """A line that ends the head, or comes after it."""
        if _USE.match(line):
            return
        match = _SET.match(line)
        if match is not None:
            self._at_ns = int(float(match["at"]) * 1e9)
        if self._fields:
            self._in_head = False
            if match is None:
                self._text.add(line)
        elif line.strip():  # the head of a torn record has none
            self.skipped += 1
            if self.skipped > _MISSING_LEAST:
                raise UnreadLine(
                    "it has no line that starts with # Query_time", "the records of the slow log"
                )

    def _head(self, line: str) -> None:
        if line.startswith(_ADMINISTRATOR):  # some servers write it without SET timestamp
            self._in_head = False
            self._text.add(line)
        elif line.startswith(_PLAN):
            self._plan.add(line[len(_PLAN) :])
        elif (warning := _WARNING.match(line)) is not None:
            self._warnings.append(warning["text"])
        else:
            self._fields.update(_FIELD.findall(line))

    def close(self) -> Iterable[LogMessage]:
        """See `Reading`."""
        return self._tell()

    def _server_fields(self) -> dict[str, str | float]:
        """What the server says besides what every source knows, by its own names."""
        known = {
            name: _value(value)
            for name, value in self._fields.items()
            if name not in _OWN_FIELDS and value
        }
        if self._warnings:
            known["Warnings"] = "; ".join(self._warnings)
        return known

    def _tell(self) -> Sequence[LogMessage]:
        if not self._text:
            if self._fields:  # a head alone: its statement is torn off
                self._clear()
            return ()
        text = str(self._text).strip().removesuffix(";")
        fields = self._fields
        took_ns = round(_number(fields.get("Query_time", "")) * 1e9)
        # A time of whole seconds, of the statement's begin; a newer server tells its end to the
        # microsecond.
        at_ns = end_ns = self._time_ns
        if not at_ns % 1_000_000_000:
            at_ns = self._at_ns or at_ns
            end_ns = at_ns + took_ns
        rows = _rows(fields.get("Rows_sent", ""), fields.get("Rows_affected", "0"))
        size = int(_number(fields.get("Bytes_sent", "")))
        session = self._session or fields.get("Thread_id", "") or "slow log"
        client = self._client
        number = int(_number(fields.get("Errno", "")))
        server_fields = self._server_fields()
        plan = str(self._plan)
        self._clear()
        if text.startswith(_QUIT):
            return (LogMessage(session, at_ns, None),)
        if not text or text.startswith(_ADMINISTRATOR):
            return ()
        query = QuerySeen(
            text=text,
            start_ns=end_ns - took_ns,
            duration_ns=took_ns,
            rows=rows,
            bytes=size,
            error=f"({number}, '(the log has only its number)')" if number else "",
            plan=plan,
            server_fields=server_fields,
        )
        return (LogMessage(session, at_ns, query, "", False, client),)

    def notes(self) -> list[str]:
        """See `Reading`."""
        notes = [
            "the slow log contains queries that took longer than long_query_time: set it to 0 to "
            "log all"
        ]
        return notes + (
            [f"{self.skipped:,} lines before the first complete record were skipped"]
            if self.skipped
            else []
        )


def _number(text: str) -> float:
    """A field that is a number; 0 if it is missing or torn."""
    value = _value(text)
    return 0.0 if isinstance(value, str) or not abs(value) < 1e15 else float(value)


def _value(text: str) -> RequestHints:
    """A field as what it is: a number, yes or no, else the word."""
    if text in ("Yes", "No"):
        return text == "Yes"
    try:
        return float(text) if "." in text else int(text)
    except ValueError:  # no number, or one of thousands of digits
        return text


def _rows(sent: str, affected: str) -> int:
    """Rows that a statement returned, else those that it changed; -1 if the log says neither."""
    rows = whole_number(sent)
    return -1 if rows is None else rows or whole_number(affected) or 0


def _nanoseconds(text: str) -> int:
    """A time as the logs write it: `261127 21:00:43`, `2026-11-27T21:00:43.123456Z`; of no zone,
    this machine's. 0 for none.
    """
    try:
        if "T" in text:
            moment = datetime.fromisoformat(text.replace("Z", "+00:00"))
        else:
            day, clock = text.split()
            moment = datetime.strptime(f"{day} {clock.zfill(8)}", "%y%m%d %H:%M:%S")
    except ValueError:
        return 0
    return (
        int(moment.replace(microsecond=0).timestamp()) * 1_000_000_000 + moment.microsecond * 1_000
    )


def _is_general(lines: list[str]) -> bool:
    return any((match := _GENERAL.match(line)) and match["command"] in _COMMANDS for line in lines)


def _is_slow(lines: list[str]) -> bool:
    return any(line.startswith(("# Query_time:", "# User@Host:")) for line in lines)


FORMATS = {
    "mariadb-general": Format(_is_general, lambda _: General()),
    "mariadb-slow": Format(_is_slow, lambda _: Slow()),
}
