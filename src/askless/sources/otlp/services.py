"""A capture file for each service that spans come from. Queries that no span's request is known for
go by the other ways.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

import msgspec

from askless.capture.sampling import SamplingWriter
from askless.capture.writing import CaptureWriter
from askless.core.formatting import plural
from askless.core.records.model import Model, Wait
from askless.core.records.traffic import QuerySeen, RequestBegan, RequestEnded
from askless.sources.attribution.grouper import GroupingOptions, RequestGrouper
from askless.sources.otlp.trace_assembly import Target, Traces
from askless.sources.wire import CompletedQuery

_SESSION = 1  # traces tell of no connections: all that no one claimed counts as one


class _Renumbered:
    """Passes on to a writer that two give requests to: the even numbers are those of the one, the
    odd ones of the other.
    """

    def __init__(self, writer: CaptureWriter, odd: int) -> None:
        self._writer = writer
        self._odd = odd

    def _own(self, request: int) -> int:
        return 2 * request + self._odd

    def request_began(self, event: RequestBegan) -> None:
        """See `core.traffic.Receiver`."""
        self._writer.request_began(msgspec.structs.replace(event, request=self._own(event.request)))

    def queries(self, request: int, events: Sequence[QuerySeen]) -> None:
        """See `core.traffic.Receiver`."""
        self._writer.queries(self._own(request), events)

    def errands(self, request: int, errands: Sequence[Wait]) -> None:
        """See `core.traffic.Receiver`."""
        self._writer.errands(self._own(request), errands)

    def request_ended(self, event: RequestEnded) -> None:
        """See `core.traffic.Receiver`."""
        self._writer.request_ended(msgspec.structs.replace(event, request=self._own(event.request)))

    def model(self, model: Model) -> None:
        """See `core.traffic.Receiver`."""
        self._writer.model(model)

    def note(self, text: str) -> None:
        """See `core.traffic.Receiver`."""
        self._writer.note(text)


class Service(_Renumbered):
    """See `Target`. Requests that spans tell of are even, those that are distinguished otherwise
    odd.
    """

    def __init__(self, path: Path, name: str, apart: GroupingOptions, start_ns: int) -> None:
        writer = SamplingWriter(
            path,
            "traces",
            "",
            name,
            start_ns / 1e9,
            start_ns,
            ("parameters", "results"),
            apart.sparing,
        )
        super().__init__(writer, 0)
        self._apart = apart
        self._telling: RequestGrouper | None = None

    def unclaimed(self, event: QuerySeen) -> None:
        """See `Target`."""
        if self._telling is None:
            self._writer.system = event.system
            self._telling = RequestGrouper(
                self._apart,
                self._writer,
                lambda at_s: int(at_s * 1e9),
                _Renumbered(self._writer, 1),
            )
            self._telling.opened(_SESSION, {}, event.start_ns)
        self._telling.seen(_SESSION, CompletedQuery(event, "", False))

    def flush(self) -> None:
        """Let others read what was reported so far."""
        if self._telling is not None:
            self._telling.flush()
        self._writer.flush()

    @property
    def file(self) -> tuple[str, int]:
        """The name of the file that is being written, and its size."""
        return self._writer.path.name, self._writer.size

    def close(self, notes: Sequence[str], lost: Sequence[tuple[int, str]] = ()) -> None:
        """The traffic is over."""
        if self._telling is not None:
            self._telling.close()
        for note in notes:
            self._writer.note(note)
        for count, reason in lost:
            self._writer.lost(count, "spans", reason)
        self._writer.close()


class Services:
    """The services by their names, each with its file once it is met; `prefix` begins the names of
    the files.
    """

    def __init__(self, folder: Path, apart: GroupingOptions, prefix: str = "") -> None:
        self._folder = folder
        self._apart = apart
        self._prefix = prefix
        self._services: dict[str, Service] = {}

    def target(self, name: str, start_ns: int) -> Target:
        """The taker of a service's requests."""
        service = self._services.get(name)
        if service is None:
            number = len(self._services) + 1
            plain = re.sub(r"[^\w.-]+", "-", name)[:60] or "service"
            path = self._folder / f"{self._prefix}{number:03}-{plain}.askless.jsonl"
            service = self._services[name] = Service(path, name, self._apart, start_ns)
        return service

    def flush(self) -> None:
        """Let others read what was reported so far."""
        for service in self._services.values():
            service.flush()

    @property
    def sizes(self) -> dict[str, int]:
        """The files that are being written, by their names, with their sizes."""
        return dict(service.file for service in self._services.values())

    def close(self, traces: Traces, unreadable: int = 0, reason: str = "") -> None:
        """The traffic is over: what could not be read or put together is reported."""
        lost = [
            (n, why)
            for n, why in ((unreadable, reason), (traces.broken, traces.broken_reason))
            if n
        ]
        if lost and not self._services:
            self.target("", 0)  # what was lost is reported, even if nothing else came
        notes = []
        if traces.late:
            notes.append(
                f"{plural(traces.late, 'query')} arrived after their request was complete and "
                "were skipped"
            )
        if traces.orphans:
            notes.append(
                f"{plural(traces.orphans, 'span')} have a parent that never arrived: the exporter "
                "may have lost spans, and requests may lack queries (a larger "
                "OTEL_BSP_MAX_QUEUE_SIZE, a shorter OTEL_BSP_SCHEDULE_DELAY)"
            )
        if traces.unread:
            notes.append(
                f"{plural(traces.unread, 'statement')} of unsupported database systems skipped"
            )
        for service in self._services.values():
            service.close(notes, lost)
            notes, lost = [], []  # once is enough
