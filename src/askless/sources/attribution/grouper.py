"""Builds what distinguishes requests, as the options ask: by a way, by visits, by marks; and names
them by a log at the end.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any, NamedTuple, Protocol, TypeVar

from askless.capture.writing import CaptureWriter
from askless.core.errors import AskLessError
from askless.core.formatting import plural
from askless.core.records.sampling import SamplingRules
from askless.core.records.traffic import Receiver
from askless.sources.attribution import time_windows
from askless.sources.attribution.boundaries import RequestBoundaries, Window, WindowGrouper
from askless.sources.attribution.options import PAUSE_MS, way_of
from askless.sources.attribution.request_facts import RequestAttribution
from askless.sources.attribution.time_windows import Clock, MarkedWindows, NamedWindow
from askless.sources.sampling import sparing_of
from askless.sources.wire import CompletedQuery, Facts

_Found = TypeVar("_Found")


class GroupingOptions(NamedTuple):
    """How requests are to be distinguished, and which may be omitted. `marks` and `log` are files
    that are read at the end.
    """

    way: str = "auto"
    pause_ms: float = PAUSE_MS
    visits: bool = False
    marks: str = ""
    log: str = ""
    sparing: SamplingRules = SamplingRules()


def apart_of(values: Mapping[str, Any]) -> GroupingOptions:
    """What the options ask for. Raises AskLessError: bad-request-by, two-clocks, and what
    `sparing_of` raises.
    """
    way, pause_ms = way_of(values["request_by"])
    marks, log = values["marks"] or "", values["access_log"] or ""
    if marks and log:
        raise AskLessError(
            "two-clocks", "--marks and --access-log can't be combined", "use one of them"
        )
    return GroupingOptions(
        way,
        pause_ms,
        False,
        str(Path(marks).resolve()) if marks else "",
        str(Path(log).resolve()) if log else "",
        sparing_of(values),
    )


class _Teller(Protocol):
    def opened(self, number: int, facts: Facts, at_ns: int) -> None: ...

    def seen(self, number: int, seen: CompletedQuery) -> None: ...

    def closed(self, number: int, at_ns: int) -> None: ...


class RequestGrouper:
    """Takes queries of connections and gives requests to a writer, by way of a `receiver` where
    there is one.

    `clock` turns seconds since 1970 into the writer's time.
    """

    def __init__(
        self,
        apart: GroupingOptions,
        writer: CaptureWriter,
        clock: Clock,
        receiver: Receiver | None = None,
    ) -> None:
        self._apart = apart
        self._writer = writer
        self._clock = clock
        taker = writer if receiver is None else receiver
        self._named = NamedWindow(taker) if apart.log else None
        self._grouping = RequestAttribution(self._named or taker)
        self._teller: _Teller
        if apart.visits:
            self._teller = WindowGrouper(self._grouping)
        elif apart.marks:
            self._teller = MarkedWindows(self._grouping, writer.path.parent)
        else:
            self._teller = RequestBoundaries(
                self._grouping, writer.system, apart.way, apart.pause_ms, writer.note
            )
        self.opened, self.seen, self.closed = (
            self._teller.opened,
            self._teller.seen,
            self._teller.closed,
        )

    def window(self, window: Window) -> None:
        """A visit is over."""
        if isinstance(self._teller, WindowGrouper):
            self._teller.window(window)

    def flush(self) -> None:
        """Write what has ended so far, that others can read it."""
        self._grouping.flush()
        self._writer.flush()

    def close(self) -> None:
        """The traffic is over: read what is known of its times, and pass on what has waited."""
        if isinstance(self._teller, MarkedWindows):
            self._teller.close(self._read(time_windows.marks, self._apart.marks))
        elif isinstance(self._teller, RequestBoundaries | WindowGrouper):
            self._teller.close()
        if self._named is not None:
            entries = self._read(time_windows.entries, self._apart.log)
            named = self._named.settle(entries)
            self._writer.note(
                f"the access log names {plural(named, 'request')}; ambiguous ones are not used"
            )

    def _read(self, read: Callable[[Path, Clock], list[_Found]], path: str) -> list[_Found]:
        """What a file tells; nothing, and a note, if it can't be read: what was recorded is kept
        all the same.
        """
        try:
            return read(Path(path), self._clock)
        except AskLessError as error:
            self._writer.note(f"{error}; {error.remedy}")
            return []
