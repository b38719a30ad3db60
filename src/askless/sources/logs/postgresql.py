"""PostgreSQL's logs: stderr with any log_line_prefix, csvlog, jsonlog. Lines to records; what they
say is in `postgresql_records`.
"""

from __future__ import annotations

import csv
import re
from collections.abc import Iterable, Sequence

import msgspec

from askless.sources.logs import Format, LogMessage, UnreadLine
from askless.sources.logs.long_text import LongText
from askless.sources.logs.postgresql_records import Record, Records
from askless.sources.logs.prefixes import guessed, is_unknown_zone, nanoseconds_of, pattern_of

_ADDITIONS = ("DETAIL", "HINT", "QUERY", "CONTEXT", "LOCATION", "STATEMENT")
_TRUNCATED_LEAST = 100


class _OfRecords:
    """What all forms of the log share: lines to records is each one's own, records to queries is
    not.
    """

    system = Records.system
    unseen = Records.unseen

    def __init__(self) -> None:
        self.records = Records()
        self.cuts = self.records.cuts
        self._time = ""  # of a record, as it was written

    @property
    def skipped(self) -> int:
        """Lines that could not be used."""
        return self.records.skipped

    def _skip(self, why: str, expected: str) -> None:
        """A line can't be used: so many may be torn. Raises Unread for more."""
        self.records.skipped += 1
        if self.records.skipped > _TRUNCATED_LEAST:
            raise UnreadLine(why, expected)

    def close(self) -> Iterable[LogMessage]:
        """See `Reading`."""
        return self.records.close()

    def notes(self) -> list[str]:
        """See `Reading`."""
        notes = self.records.notes()
        if is_unknown_zone(self._time):
            zone = self._time.rsplit(" ", 1)[-1]
            notes.append(
                f"its time zone {zone} is assumed to be this machine's: log_timezone = 'UTC' "
                "avoids ambiguity"
            )
        return notes


class Stderr(_OfRecords):
    """The log as it is written to stderr: a prefix, a severity, a message; what belongs to it
    begins with a tab.
    """

    def __init__(self, prefix: str) -> None:
        super().__init__()
        self._pattern = pattern_of(prefix)
        self._prefix = prefix
        self._any = False
        # The groups of the prefix that tell each field, the best first.
        self._times, self._sessions, self._clients = (
            [name for name in names if name in self._pattern.groupindex]
            for names in (("m", "t", "s"), ("session", "pid", "remote"), ("remote", "host"))
        )
        self._epoch = "n" in self._pattern.groupindex
        self._application = "application" in self._pattern.groupindex

    def take(self, line: str) -> Iterable[LogMessage]:
        """See `Reading`."""
        if line.startswith("\t"):
            if self._any:
                self.records.lengthen(line[1:])
            else:
                self.records.skipped += 1
            return ()
        match = self._pattern.match(line)
        if match is None:
            if not self._any:  # a torn first line
                self._skip(
                    f"it does not begin with {self._prefix!r}",
                    "the value of log_line_prefix: --prefix",
                )
            elif line:
                self.records.lengthen(line)
            return ()
        self._any = True
        severity, message, session = (
            match["severity"],
            match["message"],
            _first(match, self._sessions),
        )
        if severity in _ADDITIONS:
            self.records.add(severity, message, session)
            return ()
        written = _first(match, self._times)
        if self._epoch and match["n"]:
            at_ns = int(float(match["n"]) * 1e9)
        else:
            at_ns = nanoseconds_of(written) if written else 0
            self._time = written or self._time
        application = (match["application"] or "") if self._application else ""
        return self.records.take(
            Record(at_ns, session, severity, message, application, _first(match, self._clients))
        )


def _first(match: re.Match[str], names: Sequence[str]) -> str:
    """What the first of some groups holds that holds anything."""
    for name in names:
        text: str | None = match[name]
        if text:
            return text
    return ""


_CSV_BEGINS = re.compile(r"\d{4}-\d\d-\d\d \d\d:\d\d:\d\d\.\d+ \S+,")


class Csv(_OfRecords):
    """csvlog: 23 columns and more, one record after the other, over several lines where a statement
    has them.
    """

    def __init__(self) -> None:
        super().__init__()
        self._open: LongText | None = None  # lines of a record whose quoted text goes on
        self._torn = False  # these lines begin inside a record: its first ones are not in the file

    def take(self, line: str) -> Iterable[LogMessage]:
        """See `Reading`."""
        ends = line.count('"') % 2 == 1
        begins = _CSV_BEGINS.match(line) is not None
        if self._torn and begins:  # no quote before it says that its text goes on
            self._open, self._torn = None, False
            self._skip("its first line is missing", "whole records")
        if self._open is not None:
            self._open.add(line)
            if not ends:
                return ()
            whole, self._open, self._torn = str(self._open), None, False
        elif ends:  # it begins, rather
            self._open, self._torn = LongText(self.cuts, line), not begins
            return ()
        else:
            whole = line
        try:
            row = next(csv.reader((whole,)), [])
        except csv.Error:
            row = [whole]
        if len(row) < 23 or not row[0][:4].isdigit():
            if row:
                self._skip(f"it has {len(row)} columns", "the 23 or more columns of csvlog")
            return ()
        self._time = row[0]
        record = Record(
            nanoseconds_of(row[0]),
            row[5] or row[3],
            row[11],
            row[13],
            row[22],
            row[4],
            row[14],
            row[19],
            row[18],
        )
        return self.records.take(record)


class Json(_OfRecords):
    """jsonlog: one object a line."""

    def take(self, line: str) -> Iterable[LogMessage]:
        """See `Reading`."""
        try:
            given = msgspec.json.decode(line)
            self._time = given["timestamp"]
            at_ns = nanoseconds_of(self._time)
        except (msgspec.DecodeError, KeyError, TypeError, ValueError):
            if line.strip():
                self._skip("it is not an object with a timestamp", "the lines of jsonlog")
            return ()
        session = str(given.get("session_id") or given.get("pid") or "")
        client = f"{given.get('remote_host') or ''}:{given.get('remote_port') or ''}".strip(":")
        return self.records.take(
            Record(
                at_ns,
                session,
                str(given.get("error_severity") or ""),
                str(given.get("message") or ""),
                str(given.get("application_name") or ""),
                client,
                str(given.get("detail") or ""),
                str(given.get("statement") or ""),
                str(given.get("context") or ""),
            )
        )


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
