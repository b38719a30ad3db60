"""Writes captures: the counterpart of `reading`, for sources outside the recorded process. A
`Receiver` of traffic.
"""

from __future__ import annotations

import os
from collections.abc import Sequence
from operator import attrgetter
from pathlib import Path
from typing import IO

import msgspec
from msgspec.structs import astuple, replace

from askless.capture import events
from askless.core.errors import AskLessError
from askless.core.json_encoding import encoded
from askless.core.records.interning import TEXTS_MOST, Interner, StatementInterner
from askless.core.records.model import CallSite, Load, Model, Used, Wait
from askless.core.records.traffic import QuerySeen, RequestBegan, RequestEnded, by_position
from askless.core.sql.credentials import cleaned

# What a line has of each query, in the order in which it is taken.
_fields_of = attrgetter(
    "duration_ns", "rows", "bytes", "place", "load", "widths", "error", "batch", "plan", "start_ns",
    "digest", "connection", "in_transaction", "thread", "parameters", "sample", "server_fields",
    "uses",
)  # fmt: skip


def _used(before: int, uses: Sequence[Sequence[Used]]) -> tuple[events.Used, ...]:
    """What became of the results of queries. `before` counts the request's earlier ones."""
    return tuple(
        events.Used(before + i, use.model, use.objects, use.touched, use.columns, use.relations)
        for i, here in enumerate(uses)
        for use in here
    )


class CaptureWriter:
    """Appends what a source tells to a new capture file of mode 0600.

    Raises AskLessError `capture-exists` or `capture-unwritable`.
    """

    def __init__(
        self,
        path: Path,
        recorder: str,
        system: str,
        program: str = "",
        started_unix_s: float = 0.0,
        clock_ns: int = 0,
        unseen: tuple[str, ...] = (),
    ) -> None:
        self.path = path
        self.system = system
        self._harmless: set[str] = set()  # texts that carry no password
        self._open: dict[int, int] = {}  # requests -> how many queries each has so far
        self._header = events.Capture(
            format=events.FORMAT,
            version=events.VERSION,
            recorder=recorder,
            pid=os.getpid(),
            program=program,
            started_unix_s=started_unix_s,
            clock_ns=clock_ns,
            unseen=unseen,
        )
        self._begin()

    def _begin(self) -> None:
        """Begin a file, in which everything is reported again."""
        path = self.path
        self._texts = StatementInterner()
        self._told_from = self._texts.first
        self._places: Interner[CallSite] = Interner()
        self._loads: Interner[Load] = Interner()
        self._columns: set[int] = set()
        self._requests = self._queries = self.size = 0
        try:
            self._file: IO[bytes] = os.fdopen(
                os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_APPEND, 0o600), "wb"
            )
        except FileExistsError:
            raise AskLessError(
                "capture-exists", f"{path} exists already", "name another file"
            ) from None
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
                event.request,
                event.kind,
                event.route,
                event.start_ns,
                event.thread,
                event.path,
                event.warm_up,
            )
        )

    def _forget(self) -> None:
        """Say which statements the text store no longer knows."""
        if self._texts.first != self._told_from:
            self._told_from = self._texts.first
            self._columns = {number for number in self._columns if number >= self._told_from}
            self._line(events.Forget(self._told_from))

    def queries(self, request: int, events_seen: Sequence[QuerySeen]) -> None:
        """See `Receiver`."""
        before = self._open[request]
        if not events_seen:
            return
        events_seen = list(map(self._without_credentials, events_seen))
        numbered = [self._text(event) for event in events_seen]
        (
            durations,
            rows,
            sizes,
            places,
            loads,
            widths,
            errors,
            batches,
            plans,
            starts,
            digests,
            connections,
            inside,
            threads,
            parameters,
            samples,
            server_fields,
            uses,
        ) = zip(*map(_fields_of, events_seen), strict=True)
        self._line(
            events.Queries(
                request=request,
                count=len(events_seen),
                statement=_column([number for number, _ in numbered]),
                duration_ns=list(durations),
                rows=_column(rows),
                bytes=_column(sizes),
                place=_column(list(map(self._place, places))) if any(places) else 0,
                load=_column(list(map(self._load, loads))) if any(loads) else 0,
                widths=by_position(map(list, widths)),
                error=by_position(errors),
                batch=by_position(batches),
                plan=by_position(plans),
                start_ns=self._raw(starts),
                digest=self._numbers(digests),
                connection=self._numbers(connections),
                in_transaction=self._numbers(list(map(int, inside))) if any(inside) else events.RAW,
                thread=self._numbers(threads),
                parameters=self._raw(parameters),
                sample=self._sparse(samples),
                literals=self._sparse([literals for _, literals in numbered]),
                told=self._raw([one or None for one in server_fields])
                if any(server_fields)
                else events.RAW,
            )
        )
        self._forget()
        if any(uses):
            self._line(events.UseEvent(request, _used(before, uses)))
        self._open[request] = before + len(events_seen)
        self._queries += len(events_seen)

    def errands(self, request: int, errands: Sequence[Wait]) -> None:
        """See `Receiver`."""
        waits = tuple(
            events.WaitEvent(
                one.kind, one.what, one.start_ns, one.duration_ns, self._place(one.place)
            )
            for one in errands
        )
        self._line(events.WaitsEvent(request, waits))

    def request_ended(self, event: RequestEnded) -> None:
        """See `Receiver`."""
        del self._open[event.request]
        self._line(
            events.End(
                event.request,
                event.end_ns,
                event.route,
                event.status,
                event.memory_bytes,
                event.more,
                event.more_ns,
            )
        )

    def model(self, model: Model) -> None:
        """See `Receiver`."""
        # The fields of a line are those of the record, in its order; a relation is under its name.
        relations = {
            name: events.Relation(*astuple(relation)[1:])
            for name, relation in model.relations.items()
        }
        self._line(events.ModelEvent(*astuple(replace(model, relations=relations))))

    def note(self, text: str) -> None:
        """See `Receiver`."""
        self._line(events.Note(text))

    def lost(self, count: int, what: str, reason: str) -> None:
        """Input that came and is not in the capture."""
        self._line(events.Lost(count, what, reason))

    def flush(self) -> None:
        """Let others read what was reported so far."""
        self._file.flush()

    def close(self) -> None:
        """Write the last line and close the file."""
        self._line(events.Close(self._requests, self._queries))
        self._file.close()

    def _line(self, event: events.Event) -> None:
        self.size += self._file.write(encoded(event) + b"\n")

    def _raw(self, value: object) -> msgspec.Raw:
        return msgspec.Raw(encoded(value))

    def _numbers(self, values: Sequence[int]) -> msgspec.Raw:
        """A column of numbers; omitted where all are 0, which is what the reader takes for it
        then.
        """
        return self._raw(_column(values)) if any(values) else events.RAW

    def _sparse(self, values: Sequence[object]) -> msgspec.Raw:
        """A column that is omitted where no query has a value."""
        return self._raw(values) if any(value is not None for value in values) else events.RAW

    def _without_credentials(self, event: QuerySeen) -> QuerySeen:
        """The event without passwords and keys; the values of a statement that carries one are
        omitted with it.
        """
        text = event.text
        if text in self._harmless:
            return event
        clean = cleaned(text)
        if clean == text:
            if len(self._harmless) >= TEXTS_MOST:
                self._harmless.clear()
            self._harmless.add(text)
            return event
        return msgspec.structs.replace(
            event,
            text=clean,
            parameters=(None,) * len(event.parameters),
            error=event.error and event.error.split(":")[0][:80],
            plan="",
        )

    def _text(self, event: QuerySeen) -> tuple[int, tuple[str, ...] | None]:
        number, literals, parts = self._texts.number(event.text, event.names)
        if parts:
            self._line(
                events.StatementEvent(number, parts, event.system or self.system, event.names)
            )
        if event.columns and number not in self._columns:
            self._columns.add(number)
            self._line(events.Columns(number, event.columns, event.sampled, event.origins))
        return number, literals

    def _place(self, place: CallSite | None) -> int:
        """The number of a line of code, its callers written before it."""
        if place is None:
            return 0
        caller = self._place(place.caller)
        number, new = self._places.number(place)
        if new:
            self._line(
                events.PlaceEvent(
                    number, place.file, place.line, place.function, caller, place.digest
                )
            )
        return number

    def _load(self, load: Load | None) -> int:
        if load is None:
            return 0
        number, new = self._loads.number(load)
        if new:
            self._line(events.LoadEvent(number, *astuple(load)))
        return number


def _column(values: Sequence[int]) -> list[int] | int:
    return values[0] if values and values.count(values[0]) == len(values) else list(values)
