"""A writer of captures that may stay on for days: omits requests and counts them, and keeps its
files within a size.

What `sparing` in the recorder's own room does, for sources outside of the recorded process.
"""

from __future__ import annotations

import random
import time
from collections.abc import Sequence
from pathlib import Path

import msgspec

from askless.capture import events, pause_control
from askless.capture.writing import CaptureWriter
from askless.core.records.limits_of_recording import (
    RANDOM_BITS,
    TAIL_BYTES,
    closed_counts,
    kept_below,
    random_part,
    segment_bytes,
)
from askless.core.records.model import Wait
from askless.core.records.sampling import UNTOLD_MOST, Counts, Evicted, SamplingRules
from askless.core.records.traffic import QuerySeen, RequestBegan, RequestEnded

_LOOK_S, _TELL_EVERY, _TELL_S = 1.0, UNTOLD_MOST, 1.0
_BY_CHANCE, _QUICK, _STOPPED = Counts(by_chance=1), Counts(quick=1), Counts(stopped=1)


class _Held(msgspec.Struct):
    """A request that may yet turn out to be a quick one."""

    began: RequestBegan
    queries: list[QuerySeen] = []
    errands: list[Wait] = []


class SamplingWriter(CaptureWriter):
    """See the module. A `Receiver`, as its base is."""

    def __init__(  # noqa: PLR0913  (its base's, and one more)
        self,
        path: Path,
        recorder: str,
        system: str,
        program: str = "",
        started_unix_s: float = 0.0,
        clock_ns: int = 0,
        unseen: tuple[str, ...] = (),
        sparing: SamplingRules = SamplingRules(),  # noqa: B008  (frozen)
    ) -> None:
        self._sparing = sparing
        self._threshold = kept_below(sparing.sample)
        self._segment = segment_bytes(sparing.keep_bytes)
        self._first, self._turn = path, 0
        self._chance = random.Random()
        self._counts: dict[str, Counts] = {}
        self._uncounted = 0
        self._told_s = 0.0
        self._left: dict[int, tuple[str, Counts]] = {}
        self._held: dict[int, _Held] = {}
        self._taken: dict[int, int] = {}
        self._more: dict[int, tuple[int, int]] = {}
        self._dropped = Evicted()
        self._paused, self._looked_s = False, 0.0
        super().__init__(path, recorder, system, program, started_unix_s, clock_ns, unseen)

    def _begin(self) -> None:
        wish = self._sparing
        self._header = msgspec.structs.replace(
            self._header, sample=wish.sample, slower_ns=wish.slower_ns, at_most=wish.at_most
        )
        super()._begin()

    def request_began(self, event: RequestBegan) -> None:
        """See `Receiver`."""
        reason = self._left_out(event)
        if reason is not None:
            self._left[event.request] = event.route, reason
        elif self._sparing.slower_ns and not event.warm_up and event.kind != "program":
            self._held[event.request] = _Held(event)
        else:
            super().request_began(event)

    def _left_out(self, event: RequestBegan) -> Counts | None:
        """Why a request is omitted; None if it is not."""
        now_s = time.monotonic()
        if now_s - self._looked_s >= _LOOK_S:
            self._looked_s, self._paused = now_s, pause_control.is_paused(self.path.parent)
        if self._paused:
            return _STOPPED
        if self._sparing.sample == 1 or event.warm_up or event.kind == "program":
            return None
        number = random_part(event.trace) or self._chance.getrandbits(RANDOM_BITS)
        return _BY_CHANCE if number >= self._threshold else None

    def queries(self, request: int, events_seen: Sequence[QuerySeen]) -> None:
        """See `Receiver`."""
        if request in self._left:
            return
        if self._sparing.at_most:
            events_seen = self._at_most(request, events_seen)
        held = self._held.get(request)
        if held is not None:
            held.queries += events_seen
            last = held.queries[-1] if held.queries else None
            if (
                last is not None
                and last.start_ns + last.duration_ns - held.began.start_ns
                >= self._sparing.slower_ns
            ):
                self._release(request)
        elif events_seen:
            super().queries(request, events_seen)

    def _at_most(self, request: int, events_seen: Sequence[QuerySeen]) -> Sequence[QuerySeen]:
        taken = self._taken.get(request, 0)
        recorded = events_seen[: max(self._sparing.at_most - taken, 0)]
        self._taken[request] = taken + len(recorded)
        beyond = events_seen[len(recorded) :]
        if beyond:
            more, more_ns = self._more.get(request, (0, 0))
            self._more[request] = (
                more + len(beyond),
                more_ns + sum(one.duration_ns for one in beyond),
            )
        return recorded

    def _release(self, request: int) -> None:
        """A request has shown to be slow: it is written."""
        held = self._held.pop(request)
        super().request_began(held.began)
        if held.queries:
            super().queries(request, held.queries)
        if held.errands:
            super().errands(request, held.errands)

    def errands(self, request: int, errands: Sequence[Wait]) -> None:
        """See `Receiver`."""
        held = self._held.get(request)
        if held is not None:
            held.errands += errands
        elif request not in self._left:
            super().errands(request, errands)

    def request_ended(self, event: RequestEnded) -> None:
        """See `Receiver`."""
        self._taken.pop(event.request, None)
        more, more_ns = self._more.pop(event.request, (0, 0))
        remaining = self._left.pop(event.request, None)
        held = self._held.get(event.request)
        if remaining is not None:
            self._count(event.route or remaining[0], remaining[1])
        elif held is not None and event.end_ns - held.began.start_ns < self._sparing.slower_ns:
            del self._held[event.request]
            spent_ns = sum(query.duration_ns for query in held.queries) + more_ns
            quick = Counts(quick=1, quick_queries=len(held.queries) + more, quick_ns=spent_ns)
            self._count(event.route or held.began.route, quick)
        else:
            if held is not None:
                self._release(event.request)
            super().request_ended(msgspec.structs.replace(event, more=more, more_ns=more_ns))
            if 0 < self._segment <= self.size:
                self._rotate()

    def _count(self, route: str, counts: Counts) -> None:
        known = self._counts.get(route)
        self._counts[route] = counts if known is None else known.plus(counts)
        self._uncounted += 1
        now_s = time.monotonic()
        if self._uncounted >= _TELL_EVERY or now_s - self._told_s > _TELL_S:
            self._told_s = now_s
            self._tell_left_out()

    def _tell_left_out(self) -> None:
        if self._counts or self._dropped.files:
            self._line(events.LeftOut(self._counts, self._dropped))
        self._counts, self._uncounted = {}, 0

    def _rotate(self) -> None:
        """Close the file, which is large enough, and begin another; the oldest go. A request is
        reported in one file.
        """
        if self._open:
            return
        super().close()
        self._turn += 1
        name = self._first.name.removesuffix(".askless.jsonl")
        self.path = self._first.with_name(f"{name}-{self._turn:06}.askless.jsonl")
        self._begin()
        self._drop_oldest()
        self._tell_left_out()

    def _drop_oldest(self) -> None:
        """Remove the oldest files of this writer's until it is within its size."""
        name = self._first.name.removesuffix(".askless.jsonl")
        files = sorted(self._first.parent.glob(f"{name}-[0-9]*.askless.jsonl"))
        closed = [path for path in (self._first, *files) if path != self.path and path.exists()]
        total = sum(path.stat().st_size for path in closed) + self.size
        for path in closed:
            size = path.stat().st_size
            if total <= self._sparing.keep_bytes - self._segment:
                return
            requests, queries, _ = closed_counts(_last_bytes(path))
            path.unlink()
            total -= size
            self._dropped = self._dropped.plus(Evicted(1, requests, queries, size))

    def close(self) -> None:
        """Write the last lines and close the file."""
        for request in list(self._held):
            self._release(request)
        self._tell_left_out()
        super().close()


def _last_bytes(path: Path) -> bytes:
    with path.open("rb") as stream:
        stream.seek(max(path.stat().st_size - TAIL_BYTES, 0))
        return stream.read()
