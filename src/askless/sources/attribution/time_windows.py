"""Times at which requests are known to have run: a file of marks, or an HTTP server's access log.

Marks are JSON lines of name, start and end; a log is in the combined form or JSON lines. Times are
ISO 8601 or seconds since 1970. A mark is a request; an entry of a log only names one, as many
requests run at once and most logs know seconds.
"""

from __future__ import annotations

import json
import re
import tempfile
from array import array
from bisect import bisect_left, bisect_right
from collections import deque
from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from itertools import pairwise, zip_longest
from pathlib import Path
from typing import Any, NamedTuple

import msgspec

from askless.core.errors import AskLessError
from askless.core.records.model import Model, Wait
from askless.core.records.traffic import QuerySeen, Receiver, RequestBegan, RequestEnded
from askless.sources.attribution.boundaries import Window, WindowGrouper
from askless.sources.attribution.request_facts import RequestAttribution
from askless.sources.attribution.route_templates import route_of
from askless.sources.wire import CompletedQuery, Facts

_COMBINED = re.compile(
    r'\S+ \S+ .*?\[(?P<time>[^\]]+)\] "(?P<method>[A-Z]+) (?P<path>\S+)[^"]*" (?P<status>\d{3}) \S+'
    r'(?: "[^"]*" "[^"]*")?(?: (?P<taken>\d+(?:\.\d+)?))?'
)
_TIMES = (
    "time",
    "timestamp",
    "@timestamp",
    "ts",
    "time_iso8601",
    "time_local",
    "start",
    "started_at",
    "date",
)
_PATHS = ("path", "uri", "request_uri", "url", "target")
_METHODS = ("method", "request_method", "verb")
_STATUSES = ("status", "status_code", "response_status")
# Names that say how long a request took, and what a second is of their unit.
_TAKEN = {
    "duration_ms": 1e3,
    "elapsed_ms": 1e3,
    "request_time": 1.0,
    "duration_s": 1.0,
    "duration": 1.0,
    "duration_us": 1e6,
}
_SLACK_NS = 100_000_000  # clocks and log lines are not exact
_SECOND_NS = 1_000_000_000

Clock = Callable[[float], int]  # seconds since 1970 -> nanoseconds of the capture


class Entry(NamedTuple):
    """A request that a log knows: its name, the first and the last moment at which it may have run,
    its status.
    """

    route: str
    start_ns: int
    end_ns: int
    status: int


def marks(path: Path, clock: Clock) -> list[Window]:
    """The marks of a file in the order of their starts. Raises AskLessError: marks-missing,
    bad-marks, marks-overlap.
    """
    results: list[tuple[Window, int]] = []
    for number, line in _lines(path, "marks-missing"):
        try:
            given = json.loads(line)
            name, start, end = (
                str(given["name"]),
                seconds_of(given["start"]),
                seconds_of(given["end"]),
            )
            if end < start:
                raise ValueError("it ends before it begins")
        except (ValueError, KeyError, TypeError) as error:
            reason = f"no {error} in it" if isinstance(error, KeyError) else str(error)
            raise AskLessError(
                "bad-marks",
                f"{path}, line {number} is not a valid mark: {reason}",
                'write each like {"name": "GET /calls", "start": 1795790998.25, "end": '
                "1795790998.75}",
            ) from None
        results.append((Window(name, clock(start), clock(end)), number))
    results.sort(key=lambda one: one[0].start_ns)
    for (earlier, first), (later, second) in pairwise(results):
        if later.start_ns < earlier.end_ns:
            raise AskLessError(
                "marks-overlap",
                f"{path}: the marks of lines {first} ({earlier.route}) and {second} "
                f"({later.route}) overlap",
                "run marked work sequentially, or identify requests by comments",
            )
    return [window for window, _ in results]


def entries(path: Path, clock: Clock) -> list[Entry]:
    """The requests of an access log in the order of their times. Raises AskLessError: log-missing,
    bad-log.
    """
    results = []
    for number, line in _lines(path, "log-missing"):
        try:
            results.append(
                _from_json(json.loads(line), clock)
                if line[:1] == "{"
                else _from_combined(line, clock)
            )
        except (ValueError, KeyError, TypeError) as error:
            raise AskLessError(
                "bad-log",
                f"{path}, line {number} has an unknown format: {error}",
                'it may be a line of the combined log format, or JSON with "time", "method" and '
                '"path"',
            ) from None
    return sorted(results, key=lambda entry: entry.start_ns)


def _lines(path: Path, slug: str) -> Iterator[tuple[int, str]]:
    try:
        text = path.read_text("utf-8", "replace")
    except OSError as error:
        raise AskLessError(slug, f"can't read {path}: {error.strerror}", "check the path") from None
    return (
        (number, line.strip()) for number, line in enumerate(text.splitlines(), 1) if line.strip()
    )


def seconds_of(value: Any) -> float:
    """A moment in seconds since 1970. Raises ValueError."""
    if isinstance(value, int | float):
        return float(value) if value < 1e11 else value / 1e3 if value < 1e14 else value / 1e9
    text = str(value).strip()
    if re.fullmatch(r"\d+(?:\.\d+)?", text):
        return seconds_of(float(text))
    try:
        moment = datetime.fromisoformat(text.replace("Z", "+00:00"))
    except ValueError:
        moment = datetime.strptime(text, "%d/%b/%Y:%H:%M:%S %z")
    return (moment if moment.tzinfo else moment.replace(tzinfo=UTC)).timestamp()


def _entry(
    method: str,
    path: str,
    at_s: float,
    exact: bool,
    taken_s: float | None,
    status: int,
    clock: Clock,
) -> Entry:
    """A log says when a request began or when it ended: which of both is not said, so it ran around
    that.
    """
    around_ns = int((taken_s or 0.0) * 1e9)
    second_ns = 0 if exact else _SECOND_NS
    at_ns = clock(at_s)
    return Entry(
        route_of(method, path.partition("?")[0]),
        at_ns - around_ns - _SLACK_NS,
        at_ns + around_ns + second_ns + _SLACK_NS,
        status,
    )


def _from_combined(line: str, clock: Clock) -> Entry:
    match = _COMBINED.match(line)
    if match is None:
        raise ValueError("not in the combined log format")
    taken = match["taken"]
    taken_s = None if taken is None else float(taken) if "." in taken else int(taken) / 1e6
    return _entry(
        match["method"],
        match["path"],
        seconds_of(match["time"]),
        False,
        taken_s,
        int(match["status"]),
        clock,
    )


def _from_json(given: Mapping[str, Any], clock: Clock) -> Entry:
    def first(names: tuple[str, ...]) -> Any:
        return next((given[name] for name in names if given.get(name) not in (None, "")), None)

    when, path, method = first(_TIMES), first(_PATHS), first(_METHODS)
    if path is None and isinstance(given.get("request"), str):
        method, path = [*given["request"].split(), "", ""][:2]
    if when is None or not path:
        raise ValueError("a time or a path is missing")
    taken = next(
        ((float(given[name]) / unit) for name, unit in _TAKEN.items() if name in given), None
    )
    text = str(when)
    exact = "." in text or "," in text
    return _entry(
        str(method or "GET"),
        str(path),
        seconds_of(when),
        exact,
        taken,
        int(first(_STATUSES) or 0),
        clock,
    )


class NamedWindow:
    """A receiver before another one, which holds the ends of requests back until a log is read, and
    names them by it.

    A request gets a name where exactly one entry fits its time, and that entry fits no other
    request.
    """

    def __init__(self, receiver: Receiver) -> None:
        self._receiver = receiver
        self._starts: dict[int, int] = {}
        self._ended: list[tuple[int, RequestEnded]] = []

    def request_began(self, event: RequestBegan) -> None:
        """See `Receiver`."""
        self._starts[event.request] = event.start_ns
        self._receiver.request_began(event)

    def queries(self, request: int, events: Sequence[QuerySeen]) -> None:
        """See `Receiver`."""
        self._receiver.queries(request, events)

    def errands(self, request: int, errands: Sequence[Wait]) -> None:
        """See `Receiver`."""
        self._receiver.errands(request, errands)

    def request_ended(self, event: RequestEnded) -> None:
        """See `Receiver`."""
        self._ended.append((self._starts.pop(event.request), event))

    def model(self, model: Model) -> None:
        """See `Receiver`."""
        self._receiver.model(model)

    def note(self, text: str) -> None:
        """See `Receiver`."""
        self._receiver.note(text)

    def settle(self, entries: list[Entry]) -> int:
        """Pass on all ends, with names where they are certain; the number of those that have
        one.
        """
        starts = [entry.start_ns for entry in entries]
        longest_ns = max((entry.end_ns - entry.start_ns for entry in entries), default=0)
        fitting: list[list[int]] = []
        wanted: dict[int, int] = {}
        for start_ns, ended in self._ended:
            low, high = (
                bisect_left(starts, start_ns - longest_ns),
                bisect_right(starts, ended.end_ns),
            )
            fitting.append(
                [place for place in range(low, high) if entries[place].end_ns >= start_ns]
            )
            for place in fitting[-1]:
                wanted[place] = wanted.get(place, 0) + 1
        named = 0
        for (_, ended), places in zip(self._ended, fitting, strict=True):
            if len(places) == 1 and wanted[places[0]] == 1:
                named += 1
                entry = entries[places[0]]
                ended = msgspec.structs.replace(ended, route=entry.route, status=entry.status)
            self._receiver.request_ended(ended)
        self._ended.clear()
        return named


class MarkedWindows:
    """Queries of a whole recording, kept in a file without a name until the marks are known."""

    def __init__(self, grouping: RequestAttribution, folder: Path) -> None:
        self._grouping = grouping
        self._file = tempfile.TemporaryFile(dir=folder)  # noqa: SIM115  (for as long as this lives)
        self._places = array("q")  # start and place in the file of each query, in turns
        self._encode = msgspec.msgpack.Encoder().encode

    def opened(self, number: int, facts: Facts, at_ns: int) -> None:
        """A connection is there: of no interest."""

    def closed(self, number: int, at_ns: int) -> None:
        """A connection is gone: of no interest, either."""

    def seen(self, number: int, seen: CompletedQuery) -> None:
        """A query has ended."""
        self._places.extend((seen.query.start_ns, self._file.tell()))
        data = self._encode((number, seen.query, seen.application, seen.in_transaction))
        self._file.write(len(data).to_bytes(4, "little") + data)

    def close(self, windows: list[Window]) -> None:
        """Give each query to its mark."""
        visited = WindowGrouper(self._grouping)
        decode = msgspec.msgpack.Decoder(tuple[int, QuerySeen, str, bool]).decode
        order = deque(sorted(zip(self._places[::2], self._places[1::2], strict=True)))

        def give(before_ns: float) -> None:
            while order and order[0][0] < before_ns:
                self._file.seek(order.popleft()[1])
                size = int.from_bytes(self._file.read(4), "little")
                number, query, application, inside = decode(self._file.read(size))
                visited.seen(number, CompletedQuery(query, application, inside))

        for window, following in zip_longest(windows, windows[1:]):
            give(following.start_ns if following is not None else float("inf"))
            visited.window(window)
        give(float("inf"))
        visited.close()
        self._file.close()
