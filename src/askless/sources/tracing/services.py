"""A capture file for each service that spans come from. Queries that no span's request is known for go by the other ways."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

import msgspec

from askless.capture.writing import CaptureWriter
from askless.core.model import Errand, Model
from askless.core.traffic import QuerySeen, RequestBegan, RequestEnded
from askless.core.words import plural
from askless.sources.telling import Apart, Telling
from askless.sources.tracing.putting_together import Target, Traces
from askless.sources.wire import Seen

_SESSION = 1  # traces tell of no connections: all that nobody claimed counts as one


class Service:
    """See `Target`."""

    def __init__(self, folder: Path, number: int, name: str, apart: Apart, start_ns: int) -> None:
        plain = re.sub(r"[^\w.-]+", "-", name)[:60] or "service"
        path = folder / f"{number:03}-{plain}.askless.jsonl"
        self._writer = CaptureWriter(path, "traces", "", name, start_ns / 1e9, start_ns, ("parameters", "results"))
        self._apart = apart
        self._telling: Telling | None = None

    def request_began(self, event: RequestBegan) -> None:
        """See `core.traffic.Receiver`."""
        self._writer.request_began(msgspec.structs.replace(event, request=2 * event.request))

    def queries(self, request: int, events: Sequence[QuerySeen]) -> None:
        """See `core.traffic.Receiver`."""
        self._writer.queries(2 * request, events)

    def request_ended(self, event: RequestEnded) -> None:
        """See `core.traffic.Receiver`."""
        self._writer.request_ended(msgspec.structs.replace(event, request=2 * event.request))

    def unclaimed(self, event: QuerySeen) -> None:
        """See `Target`."""
        if self._telling is None:
            self._writer.system = event.system
            self._telling = Telling(self._apart, self._writer, lambda at_s: int(at_s * 1e9), _Odd(self._writer))
            self._telling.opened(_SESSION, {}, event.start_ns)
        self._telling.seen(_SESSION, Seen(event, "", False))

    def flush(self) -> None:
        """Let others read what was told so far."""
        self._writer.flush()

    def close(self, notes: Sequence[str]) -> None:
        """The traffic is over."""
        if self._telling is not None:
            self._telling.close()
        for note in notes:
            self._writer.note(note)
        self._writer.close()


class _Odd:
    """Passes on with odd numbers: those of requests that spans tell of are even."""

    def __init__(self, writer: CaptureWriter) -> None:
        self._writer = writer

    def request_began(self, event: RequestBegan) -> None:
        """See `core.traffic.Receiver`."""
        self._writer.request_began(msgspec.structs.replace(event, request=2 * event.request + 1))

    def queries(self, request: int, events: Sequence[QuerySeen]) -> None:
        """See `core.traffic.Receiver`."""
        self._writer.queries(2 * request + 1, events)

    def errands(self, request: int, errands: Sequence[Errand]) -> None:
        """See `core.traffic.Receiver`."""
        self._writer.errands(2 * request + 1, errands)

    def request_ended(self, event: RequestEnded) -> None:
        """See `core.traffic.Receiver`."""
        self._writer.request_ended(msgspec.structs.replace(event, request=2 * event.request + 1))

    def model(self, model: Model) -> None:
        """See `core.traffic.Receiver`."""
        self._writer.model(model)

    def note(self, text: str) -> None:
        """See `core.traffic.Receiver`."""
        self._writer.note(text)


class Services:
    """The services by their names, each with its file once it is met."""

    def __init__(self, folder: Path, apart: Apart) -> None:
        self._folder = folder
        self._apart = apart
        self._services: dict[str, Service] = {}

    def target(self, name: str, start_ns: int) -> Target:
        """The taker of a service's requests."""
        service = self._services.get(name)
        if service is None:
            number = len(self._services) + 1
            service = self._services[name] = Service(self._folder, number, name, self._apart, start_ns)
        return service

    def flush(self) -> None:
        """Let others read what was told so far."""
        for service in self._services.values():
            service.flush()

    def close(self, traces: Traces) -> None:
        """The traffic is over: what could not be put together is told."""
        notes = []
        if traces.late:
            notes.append(f"{plural(traces.late, 'query')} came after their request had been put together: left out")
        if traces.orphans:
            notes.append(
                f"{plural(traces.orphans, 'span')} name a parent that never came: the exporter may have lost spans, and requests "
                "may lack queries (a larger OTEL_BSP_MAX_QUEUE_SIZE, a shorter OTEL_BSP_SCHEDULE_DELAY)"
            )
        if traces.unread:
            notes.append(f"{plural(traces.unread, 'statement')} of systems whose SQL is not known here: left out")
        for service in self._services.values():
            service.close(notes)
            notes = []  # once is enough
