"""Writes captures: the counterpart of `reading`, for sources outside the recorded process. A `Receiver` of traffic."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path
from typing import IO

import msgspec

from askless.capture import events
from askless.core.errors import AskLessError
from askless.core.model import Errand, Load, Model, Place
from askless.core.numbering import Numbers, Texts
from askless.core.traffic import QuerySeen, RequestBegan, RequestEnded


class CaptureWriter:
    """Appends what a source tells to a new capture file of mode 0600.

    Raises AskLessError `capture-exists` or `capture-unwritable`.
    """

    def __init__(
        self, path: Path, recorder: str, system: str, program: str = "", started_unix_s: float = 0.0, clock_ns: int = 0,
        unseen: tuple[str, ...] = (),
    ) -> None:  # fmt: skip
        self.path = path
        self.system = system
        self._encode = msgspec.json.Encoder().encode
        self._open: dict[int, int] = {}  # requests -> how many queries each has so far
        self._header = events.Capture(
            format=events.FORMAT, version=events.VERSION, recorder=recorder, pid=os.getpid(), program=program,
            started_unix_s=started_unix_s, clock_ns=clock_ns, unseen=unseen,
        )  # fmt: skip
        self._begin()

    def _begin(self) -> None:
        """Begin a file, in which everything is told anew."""
        path = self.path
        self._texts = Texts()
        self._told_from = self._texts.first
        self._places: Numbers[Place] = Numbers()
        self._loads: Numbers[Load] = Numbers()
        self._columns: set[int] = set()
        self._requests = self._queries = self.size = 0
        try:
            self._file: IO[bytes] = os.fdopen(
                os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_APPEND, 0o600), "wb"
            )
        except FileExistsError:
            raise AskLessError("capture-exists", f"{path} exists already", "name another file") from None
        except OSError as error:
            raise AskLessError(
                "capture-unwritable", f"can't write {path}: {error.strerror}", "check the folder"
            ) from None
        self._line(self._header)

    def request_began(self, event: RequestBegan) -> None:
        """See `Receiver`."""
        self._requests += 1
        self._open[event.request] = 0
        self._line(
            events.RequestEvent(
                event.request, event.kind, event.route, event.start_ns, event.thread, event.path, event.warm_up
            )
        )

    def queries(self, request: int, events_seen: Sequence[QuerySeen]) -> None:
        """See `Receiver`."""
        before = self._open[request]
        numbered = [self._text(event) for event in events_seen]
        literals = [found for _, found in numbered]
        self._line(
            events.Queries(
                request=request,
                count=len(events_seen),
                statement=_column([number for number, _ in numbered]),
                duration_ns=[event.duration_ns for event in events_seen],
                rows=_column([event.rows for event in events_seen]),
                bytes=_column([event.bytes for event in events_seen]),
                place=_column([self._place(event.place) for event in events_seen]),
                load=_column([self._load(event.load) for event in events_seen]),
                widths={i: list(event.widths) for i, event in enumerate(events_seen) if event.widths} or None,
                error={i: event.error for i, event in enumerate(events_seen) if event.error} or None,
                batch={i: event.batch for i, event in enumerate(events_seen) if event.batch} or None,
                plan={i: event.plan for i, event in enumerate(events_seen) if event.plan} or None,
                start_ns=self._raw([event.start_ns for event in events_seen]),
                digest=self._numbers([event.digest for event in events_seen]),
                connection=self._numbers([event.connection for event in events_seen]),
                in_transaction=self._numbers([int(event.in_transaction) for event in events_seen]),
                thread=self._numbers([event.thread for event in events_seen]),
                parameters=self._raw([event.parameters for event in events_seen]),
                sample=self._sparse([event.sample for event in events_seen]),
                literals=self._sparse(literals),
                told=self._sparse([event.told or None for event in events_seen]),
            )
        )
        if self._texts.first != self._told_from:
            self._told_from = self._texts.first
            self._columns = {number for number in self._columns if number >= self._told_from}
            self._line(events.Forget(self._told_from))
        used = tuple(
            events.Used(before + i, use.model, use.objects, use.touched, use.columns, use.relations)
            for i, event in enumerate(events_seen)
            for use in event.uses
        )
        if used:
            self._line(events.UseEvent(request, used))
        self._open[request] = before + len(events_seen)
        self._queries += len(events_seen)

    def errands(self, request: int, errands: Sequence[Errand]) -> None:
        """See `Receiver`."""
        told = tuple(
            events.Errand(one.kind, one.what, one.start_ns, one.duration_ns, self._place(one.place)) for one in errands
        )
        self._line(events.ErrandsEvent(request, told))

    def request_ended(self, event: RequestEnded) -> None:
        """See `Receiver`."""
        del self._open[event.request]
        self._line(
            events.End(
                event.request, event.end_ns, event.route, event.status, event.memory_bytes, event.more, event.more_ns
            )
        )

    def model(self, model: Model) -> None:
        """See `Receiver`."""
        relations = {
            name: events.Relation(found.target, found.many, found.local, found.remote, found.link)
            for name, found in model.relations.items()
        }
        self._line(events.ModelEvent(model.orm, model.name, model.table, model.keys, dict(model.attributes), relations))

    def note(self, text: str) -> None:
        """See `Receiver`."""
        self._line(events.Note(text))

    def flush(self) -> None:
        """Let others read what was told so far."""
        self._file.flush()

    def close(self) -> None:
        """Write the last line and close the file."""
        self._line(events.Close(self._requests, self._queries))
        self._file.close()

    def _line(self, event: events.Event) -> None:
        self.size += self._file.write(self._encode(event) + b"\n")

    def _raw(self, value: object) -> msgspec.Raw:
        return msgspec.Raw(self._encode(value))

    def _numbers(self, values: list[int]) -> msgspec.Raw:
        """A column of numbers; left out where all are 0, which is what the reader takes for it then."""
        return self._raw(_column(values)) if any(values) else events.RAW

    def _sparse(self, values: Sequence[object]) -> msgspec.Raw:
        """A column that is left out where no query has a value."""
        return self._raw(values) if any(value is not None for value in values) else events.RAW

    def _text(self, event: QuerySeen) -> tuple[int, tuple[str, ...] | None]:
        number, literals, parts = self._texts.number(event.text, event.names)
        if parts:
            self._line(events.StatementEvent(number, parts, event.system or self.system, event.names))
        if event.columns and number not in self._columns:
            self._columns.add(number)
            self._line(events.Columns(number, event.columns, event.sampled, event.origins))
        return number, literals

    def _place(self, place: Place | None) -> int:
        """The number of a line of code, its callers written before it."""
        if place is None:
            return 0
        caller = self._place(place.caller)
        number, new = self._places.number(place)
        if new:
            self._line(events.PlaceEvent(number, place.file, place.line, place.function, caller))
        return number

    def _load(self, load: Load | None) -> int:
        if load is None:
            return 0
        number, new = self._loads.number(load)
        if new:
            self._line(events.LoadEvent(number, load.orm, load.kind, load.model, load.relation, load.target, load.many))
        return number


def _column(values: list[int]) -> list[int] | int:
    return values[0] if values and values.count(values[0]) == len(values) else values
