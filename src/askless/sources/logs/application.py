"""Logs that applications write: lines by a pattern with named groups, JSON lines by the names of fields, presets of ORMs.

What a line may tell: `time`, `sql`, `parameters` (as JSON, or as Python prints them), `duration_ms` or `duration_s`, `rows`, `error`,
`request` (an id: the same for all lines of one request), `route`, `session` (a connection, a thread or a process).
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping
from typing import Any
from urllib.parse import quote

import msgspec

from askless.core.errors import AskLessError
from askless.core.sql.slots import Value
from askless.core.systems import called
from askless.core.traffic import QuerySeen
from askless.sources.known_times import seconds_of
from askless.sources.logs import Said, Unread
from askless.sources.tracing.spans import parameters_of

GROUPS = ("time", "sql", "parameters", "duration_ms", "duration_s", "rows", "error", "request", "route", "session")
_COLOURS = re.compile(r"\x1b\[[0-9;]*[A-Za-z]")
_UNMATCHED_LEAST = 1_000  # lines without one that fits
_TIME = r"(?P<time>\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\d(?:[.,]\d+)?(?:Z|[+-]\d\d:?\d\d)?)"


class Layout(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How an application writes its statements: a `pattern` with named groups, or `fields` of JSON lines by these names.

    `parameters` is a pattern for a line that follows and tells the parameters, where they stand on one of their own. `system`
    is whose SQL it is.
    """

    pattern: str = ""
    fields: dict[str, str] = {}
    parameters: str = ""
    system: str = "postgresql"


# What ORMs write when their logging is switched on, behind a time that the application's own logging puts before it.
PRESETS = {
    # django.db.backends at DEBUG: (0.001) SELECT ...; args=(1,); alias=default
    "django": Layout(
        rf"^(?:.*?{_TIME}.*?)?\((?P<duration_s>\d+\.\d+)\) (?P<sql>.*?); args=(?P<parameters>.*?)(?:; alias=(?P<session>\S+))?$",
        system="sqlite",
    ),
    # sqlalchemy.engine at INFO: the statement, then [generated in 0.0001s] (1,) or [cached since 1s ago] (1,)
    "sqlalchemy": Layout(
        rf"^{_TIME} INFO sqlalchemy\.engine\.Engine (?!\[)(?P<sql>\S.*)$",
        parameters=r"INFO sqlalchemy\.engine\.Engine \[(?:generated|cached|no key|raw|dialect|caching)[^\]]*\] (?P<parameters>.*)$",
    ),
}  # fmt: skip


def checked(layout: Layout, where: str) -> Layout:
    """The layout. Raises AskLessError bad-layout for one that can't be used."""
    remedy = "name the groups or fields: " + ", ".join(GROUPS)
    if bool(layout.pattern) == bool(layout.fields):
        raise AskLessError("bad-layout", f"{where} has a pattern or fields, one of the two", remedy)
    try:
        groups = set(re.compile(layout.pattern).groupindex) | set(layout.fields)
        re.compile(layout.parameters)
    except re.error as error:
        raise AskLessError(
            "bad-layout", f"{where} has a pattern that can't be read: {error}", "TOML takes it best in single quotes"
        ) from None
    if unknown := groups - set(GROUPS):
        raise AskLessError("bad-layout", f"{where} names {', '.join(sorted(unknown))}, which nobody knows", remedy)
    if "sql" not in groups:
        raise AskLessError("bad-layout", f"{where} does not say where the statement stands", "name it sql")
    if called(layout.system) is None:
        raise AskLessError(
            "bad-layout", f"{where} has a system {layout.system!r} that is not known", 'as in: system = "mysql"'
        )
    return layout


class Lines:
    """See the module."""

    unseen: tuple[str, ...] = ("parameters", "results")

    def __init__(self, layout: Layout) -> None:
        self._layout = layout
        found = called(layout.system)
        self.system = found.name if found is not None else layout.system
        self._pattern = re.compile(layout.pattern, re.DOTALL) if layout.pattern else None
        self._parameters = re.compile(layout.parameters) if layout.parameters else None
        self._open: dict[str, Any] | None = None
        self._at_ns = self._fitting = self._untimed = self._count = 0
        self.skipped = 0

    def take(self, line: str) -> Iterator[Said]:
        """See `Reading`."""
        plain = _COLOURS.sub("", line)
        known = self._known(plain)
        if known is not None:
            yield from self._tell()
            self._open = known
            self._fitting += 1
            return
        told = self._parameters.search(plain) if self._parameters is not None and self._open is not None else None
        if told is not None and self._open is not None:
            self._open["parameters"] = told["parameters"]
        elif (
            self._open is not None
            and self._pattern is not None
            and plain[:1] not in ("", "[")
            and not re.match(_TIME, plain)
        ):
            self._open["sql"] += "\n" + plain
        else:
            self.skipped += bool(plain.strip())
            if not self._fitting and self.skipped > _UNMATCHED_LEAST:
                raise Unread("no line fits the layout", "lines in which the pattern's groups, or the fields, stand")

    def close(self) -> Iterator[Said]:
        """See `Reading`."""
        yield from self._tell()

    def _known(self, line: str) -> dict[str, Any] | None:
        if self._pattern is not None:
            found = self._pattern.search(line)
            return (
                {name: value for name, value in found.groupdict().items() if value is not None}
                if found is not None
                else None
            )
        if not line.startswith("{"):
            return None
        try:
            given = json.loads(line)
        except ValueError:
            return None
        known = {name: _field(given, path) for name, path in self._layout.fields.items()}
        return known if isinstance(known.get("sql"), str) else None

    def _tell(self) -> Iterator[Said]:
        known, self._open = self._open, None
        if known is None or not str(known.get("sql") or "").strip():
            return
        self._count += 1
        end_ns = self._time(known.get("time"))
        took_ms = _number(known.get("duration_ms")) + 1e3 * _number(known.get("duration_s"))
        self._untimed += not took_ms
        duration_ns = int(took_ms * 1e6)
        text = str(known["sql"]).strip().rstrip(";")
        marks = {name: str(known[name]) for name in ("request", "route") if known.get(name)}
        if marks:  # as frameworks write it: what a request is, is decided in one place
            pairs = {"request_id": marks.get("request", ""), "route": marks.get("route", "")}
            text += " /*" + ",".join(f"{name}='{quote(value)}'" for name, value in pairs.items() if value) + "*/"
        values, names = _values(known.get("parameters"))
        rows = known.get("rows")
        query = QuerySeen(
            text=text, start_ns=end_ns - duration_ns, duration_ns=duration_ns,
            rows=int(str(rows)) if str(rows).isdigit() else -1, parameters=values, names=names, error=str(known.get("error") or ""),
        )  # fmt: skip
        yield Said(str(known.get("session") or "log"), end_ns, query)

    def _time(self, text: Any) -> int:
        """When it was written; a microsecond after the line before, where it does not say."""
        try:
            at_ns = int(seconds_of(str(text).replace(",", ".")) * 1e9) if text is not None else 0
        except ValueError:
            at_ns = 0
        self._at_ns = at_ns or self._at_ns + 1_000
        return self._at_ns

    def notes(self) -> list[str]:
        """See `Reading`."""
        if self._count and self._untimed == self._count:
            return ["the log tells no durations: findings count queries, and say nothing of time"]
        return []


def _field(given: Any, path: str) -> Any:
    """A field by its name, or by names with dots between for one that stands inside of another."""
    for name in [path] if isinstance(given, Mapping) and path in given else path.split("."):
        given = given.get(name) if isinstance(given, Mapping) else None
    return given


def _number(value: Any) -> float:
    try:
        return float(value)
    except (TypeError, ValueError):
        return 0.0


def _values(value: Any) -> tuple[tuple[Value, ...], tuple[str, ...]]:
    """Parameters as JSON or as Python prints them; none where they can't be read."""
    if isinstance(value, str):
        try:
            value = json.loads(value)
        except ValueError:
            found = parameters_of({"db.statement.parameters": value})
            return found.values, found.names
    if isinstance(value, Mapping):
        return tuple(map(_plain, value.values())), tuple(map(str, value))
    return (tuple(map(_plain, value)), ()) if isinstance(value, list) else ((), ())


def _plain(value: Any) -> Value:
    return value if value is None or isinstance(value, bool | int | float | str) else ("text", json.dumps(value))
