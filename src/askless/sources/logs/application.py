"""Logs that applications write: lines by a pattern with named groups, JSON lines by the names of
fields, presets of ORMs.

What a line may tell: `time`, `sql`, `parameters` (as JSON, or as Python or JavaScript print them)
or `values` (with commas between), `duration_ms` or `duration_s`, `rows`, `error`, `request` (an id:
the same for all lines of one request), `route`, `session` (a connection, a thread or a process),
`file`, `line` and `function` of the application's code.
"""

from __future__ import annotations

import json
import re
from collections import deque
from collections.abc import Iterator, Mapping, Sequence
from typing import Any
from urllib.parse import quote

from askless.core.records.model import CallSite
from askless.core.records.traffic import QuerySeen
from askless.core.sql.slots import Value, slots_of
from askless.core.systems import called
from askless.core.whole_numbers import whole_number
from askless.sources.attribution.time_windows import seconds_of
from askless.sources.logs import LogMessage, UnreadLine
from askless.sources.logs.layouts import TIME, Layout
from askless.sources.logs.logged_values import Values, listed, unquoted, values_of
from askless.sources.logs.long_text import Cuts, LongText

_COLOURS = re.compile(r"\x1b\[[0-9;]*[A-Za-z]")
_UNMATCHED_LEAST = 1_000  # lines without one that fits
_WAITING_MOST = 64  # statements of which lines of others may still tell more
# a line of its own: a time that is not a literal of a statement's
_WRITTEN = re.compile(rf"(?<!['\"]){TIME}")
_WRITTEN_MOST = 60  # characters in which it is
# How the next line of a statement begins, and how one ends that goes on.
_GOES_ON = re.compile(
    r"\s|[(),;]|(?:SELECT|FROM|WHERE|AND|OR|NOT|(?:(?:LEFT|RIGHT|FULL)(?: "
    r"OUTER)?|INNER|CROSS|NATURAL|LATERAL)\s+|JOIN|ON|USING|ORDER\s+BY|"
    r"GROUP\s+BY|HAVING|LIMIT|OFFSET|FETCH|FOR\s+|UNION|EXCEPT|INTERSECT|VALUES|SET|RETURNING"
    r"|WINDOW|WITH|AS|CASE|WHEN|ELSE|END|INSERT|"
    r"UPDATE|DELETE|INTO)\b",
    re.IGNORECASE,
)
_OPEN_END = re.compile(
    r"(?:[,(=<>+*/|-]|\b(?:SELECT|FROM|WHERE|AND|OR|NOT|JOIN|ON|BY|SET|VALUES|INTO|IN|AS"
    r"|DISTINCT))\s*$|^\s*$",
    re.IGNORECASE,
)
_VERB = re.compile(
    r"(?:SELECT|INSERT|UPDATE|DELETE|WITH|BEGIN|START|SAVEPOINT|CREATE|SET|SHOW|PRAGMA)\b",
    re.IGNORECASE,
)


# what a line that follows says that is not the statement's
_OF_A_LINE = ("value", "bound", "failed", "session", "request")


class _Statement:
    """A statement read from a line, of which more may come. `open`: lines lengthen its text;
    `whole`: nothing more comes.
    """

    __slots__ = ("grown", "known", "last", "lines", "open", "values", "whole")

    def __init__(self, known: dict[str, Any], line: str, cuts: Cuts) -> None:
        self.known = known
        self.lines, self.last = LongText(cuts, line), line
        self.values: list[Value] = []  # one a line
        self.open, self.whole, self.grown = True, False, False

    @property
    def session(self) -> str:
        return str(self.known.get("session") or self.known.get("connection") or "log")

    def goes_on(self, line: str) -> bool:
        """Whether a line that does not fit is the next one of the statement's text."""
        if not self.open or not line or _WRITTEN.search(line[:_WRITTEN_MOST]):
            return False
        return _GOES_ON.match(line) is not None or _OPEN_END.search(self.last) is not None

    def follow(self, fields: Mapping[str, str]) -> None:
        """A line that follows tells more."""
        self.open = False
        for name in ("value", "bound"):
            if name in fields:
                text = fields[name]
                self.values.append(None if text.strip("[]") in ("<null>", "null") else _bare(text))
        if "failed" in fields:
            self.known["error"] = fields["failed"]
        self.known.update({name: text for name, text in fields.items() if name not in _OF_A_LINE})


def _bare(text: str) -> str:
    """A value without the brackets that some versions put around it."""
    return text[1:-1] if text[:1] == "[" and text[-1:] == "]" else text


class Lines:
    """See the module."""

    unseen: tuple[str, ...] = ("parameters", "results")

    def __init__(self, layout: Layout, system: str = "") -> None:
        """`system` is in for the layout's own."""
        self._layout = layout
        known = called(system or layout.system)
        self.system = known.name if known is not None else layout.system
        self._pattern = re.compile(layout.pattern, re.DOTALL) if layout.pattern else None
        self._follows = re.compile(layout.follows) if layout.follows else None
        self.cuts = Cuts()
        self._waiting: deque[_Statement] = deque()  # in the order of their lines
        self._last: dict[str, _Statement] = {}  # of each session
        self._at_ns = self._fitting = self._untimed = self._count = 0
        self.skipped = 0

    def take(self, line: str) -> Iterator[LogMessage]:
        """See `Reading`."""
        plain = _COLOURS.sub("", line) if "\x1b" in line else line
        known = known_of(plain, self._layout, self._pattern)
        if known is not None:
            self._fitting += 1
            statement = _Statement(known, plain, self.cuts)
            before = self._last.get(statement.session)
            if before is not None:
                before.whole = True
            for other in self._waiting:
                other.open = False
            self._last[statement.session] = statement
            self._waiting.append(statement)
            yield from self._told()
            return
        if self._followed(plain):
            return
        last = self._waiting[-1] if self._waiting else None
        if last is not None and last.goes_on(plain) and self._pattern is not None:
            last.lines.add(plain)
            last.last = plain
            last.grown = True
            return
        self.skipped += bool(plain.strip())
        if last is not None:
            last.open = last.open and not plain.strip()
        if not self._fitting and self.skipped > _UNMATCHED_LEAST:
            raise UnreadLine(
                "no line fits the layout", "lines with the pattern's groups, or with the fields"
            )

    def _followed(self, line: str) -> bool:
        """Whether the line tells more of a statement before it."""
        if self._follows is None or not self._waiting:
            return False
        match = self._follows.search(line)
        if match is None:
            return False
        fields = {name: text for name, text in match.groupdict().items() if text is not None}
        statement: _Statement | None = self._waiting[-1]
        if "session" in fields:
            statement = self._last.get(fields["session"])
        elif "request" in fields:
            alike = (
                one
                for one in reversed(self._waiting)
                if one.known.get("request") == fields["request"]
            )
            statement = next(alike, None)
        if statement is not None and not statement.whole:
            statement.follow(fields)
        return True

    def close(self) -> Iterator[LogMessage]:
        """See `Reading`."""
        for statement in self._waiting:
            statement.whole = True
        yield from self._told()

    def _told(self) -> Iterator[LogMessage]:
        """Statements of which nothing more comes, in the order of their lines."""
        while self._waiting and (self._waiting[0].whole or len(self._waiting) > _WAITING_MOST):
            statement = self._waiting.popleft()
            statement.whole = True
            yield from self._tell(statement)

    def _tell(self, statement: _Statement) -> Iterator[LogMessage]:
        known = statement.known
        if statement.grown:  # what is after the statement is on its last line
            known = {**known, **(known_of(str(statement.lines), self._layout, self._pattern) or {})}
        text = unquoted(str(known.get("sql") or "").strip()).rstrip(";")
        if not text:
            return
        self._count += 1
        end_ns = self._time(known.get("time"))
        took_ms = _number(known.get("duration_ms")) + 1e3 * _number(known.get("duration_s"))
        self._untimed += not took_ms
        duration_ns = int(took_ms * 1e6)
        values, names = (
            (tuple(statement.values), ()) if statement.values else self._values(known, text)
        )
        marks = {name: str(known[name]) for name in ("request", "route") if known.get(name)}
        if marks:  # as frameworks write it: what a request is, is decided in one place
            pairs = {"request_id": marks.get("request", ""), "route": marks.get("route", "")}
            text += (
                " /*"
                + ",".join(f"{name}='{quote(value)}'" for name, value in pairs.items() if value)
                + "*/"
            )
        rows = known.get("rows")
        query = QuerySeen(
            text=text,
            start_ns=end_ns - duration_ns,
            duration_ns=duration_ns,
            rows=-1 if (count := whole_number(str(rows))) is None else count,
            parameters=values,
            names=names,
            error=str(known.get("error") or ""),
            place=_place(known),
        )
        yield LogMessage(statement.session, end_ns, query)

    def _values(self, known: Mapping[str, Any], text: str) -> Values:
        if "values" in known:
            placeholders = sum(slot.placeholder for slot in slots_of(text, self.system))
            return listed(str(known["values"]), placeholders), ()
        return values_of(known.get("parameters"))

    def _time(self, text: Any) -> int:
        """When it was written; a microsecond after the line before, if it does not say."""
        try:
            at_ns = int(seconds_of(str(text).replace(",", ".")) * 1e9) if text is not None else 0
        except ValueError:
            at_ns = 0
        self._at_ns = at_ns or self._at_ns + 1_000
        return self._at_ns

    def notes(self) -> list[str]:
        """See `Reading`."""
        if self._count and self._untimed == self._count:
            return ["the log has no durations: findings count queries without times"]
        return []


def layout_like(lines: Sequence[str], layouts: Mapping[str, Layout]) -> str:
    """The name of the layout that fits most of some lines, what they have for a statement being
    one; '' for none.
    """
    plain = [_COLOURS.sub("", line) for line in lines]
    fitting = {}
    for name, layout in layouts.items():
        pattern = re.compile(layout.pattern, re.DOTALL) if layout.pattern else None
        read = [
            (known_of(line, layout, pattern), after)
            for line, after in zip(plain, [*plain[1:], ""], strict=True)
        ]
        texts = [
            unquoted(str(known["sql"]).strip()) or after.strip()
            for known, after in read
            if known is not None
        ]
        fitting[name] = sum(_VERB.match(text) is not None for text in texts)
    best = max(fitting, key=lambda name: fitting[name], default="")
    return best if best and fitting[best] else ""


def known_of(line: str, layout: Layout, pattern: re.Pattern[str] | None) -> dict[str, Any] | None:
    """What a line tells by a layout; None if it does not fit it."""
    known: dict[str, Any] = {}
    if pattern is not None:
        match = pattern.search(line)
        if match is None:
            return None
        known = {name: value for name, value in match.groupdict().items() if value is not None}
        if not layout.fields:
            return known
    text = known.pop("object", "") if pattern is not None else line
    if not text.startswith("{"):
        return None
    try:
        given = json.loads(text)
    except ValueError:
        return None
    known |= {name: _field(given, path) for name, path in layout.fields.items()}
    return known if isinstance(known.get("sql"), str) else None


def _place(known: Mapping[str, Any]) -> CallSite | None:
    file, line = str(known.get("file") or ""), str(known.get("line") or "0")
    return (
        CallSite(file, whole_number(line) or 0, str(known.get("function") or "")) if file else None
    )


def _field(given: Any, path: str) -> Any:
    """A field by its name, or by names with dots between for one that is inside of another."""
    for name in [path] if isinstance(given, Mapping) and path in given else path.split("."):
        given = given.get(name) if isinstance(given, Mapping) else None
    return given


def _number(value: Any) -> float:
    try:
        return float(value)
    except (TypeError, ValueError):
        return 0.0
