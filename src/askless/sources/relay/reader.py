"""Reads what a relay has put aside and writes the capture: a process of its own, which works when
no one else wants to.

It ends when the relay has closed the bell and nothing more lies there; a relay that is killed loses
nothing that it has put aside. Started as `python -m askless.sources.relay.reader`, with a job as
JSON in its last argument.
"""

from __future__ import annotations

import json
import os
import select
import signal
import sys
from pathlib import Path
from time import perf_counter_ns, process_time_ns, sleep, time

import msgspec

from askless.capture.sampling import SamplingWriter
from askless.core.formatting import escaped_line
from askless.sources.attribution.boundaries import Window
from askless.sources.attribution.grouper import GroupingOptions, RequestGrouper
from askless.sources.recording.connection_recorder import ConnectionRecorder
from askless.sources.relay.relay_buffer import (
    CLIENT,
    CLOSED,
    LOST,
    MARK,
    OPENED,
    SERVER,
    RelayBuffer,
    records,
)
from askless.sources.wire import load

_WAIT_S = 0.25
_NICE = 10
_FULL_SHARE = 2  # once the backlog is half full, reading is no longer put off
_SLICE_NS, _REST_MOST_S, _LOOK_EVERY = 4_000_000, 0.8, 4
_REST_SHARE, _REST_SHARE_OF_MUCH, _MUCH_BYTES_S = 9, 199, 1_000_000


class Job(msgspec.Struct, frozen=True):
    """What to read, and what to make of it. `data` and `page` are descriptors of the backlog,
    `bell` wakes the reader.
    """

    data: int
    page: int
    size: int
    bell: int
    path: str
    system: str
    program: str = ""
    apart: GroupingOptions = GroupingOptions()


def run(job: Job) -> None:
    """Read until the bell is closed and nothing is left."""
    backlog = RelayBuffer(job.data, job.page, job.size)
    began_s, now_ns = time(), perf_counter_ns()
    writer = SamplingWriter(
        Path(job.path), "relay", job.system, job.program, began_s, now_ns, sparing=job.apart.sparing
    )
    telling = RequestGrouper(job.apart, writer, lambda at_s: now_ns + int((at_s - began_s) * 1e9))
    conversations = ConnectionRecorder(load(job.system), writer, telling)
    os.set_blocking(job.bell, False)
    pace = _Pace(backlog)
    over = False
    for record in records(backlog):
        if record is not None:
            _take(conversations, *record)
            if not over:
                pace.rest()
            continue
        telling.flush()
        if over:
            break
        over = _wait(job.bell)
    conversations.close(perf_counter_ns(), "arrived faster than it could be buffered")


def _take(
    conversations: ConnectionRecorder, kind: int, number: int, at_ns: int, data: bytes
) -> None:
    """One record of the backlog."""
    if kind in (CLIENT, SERVER):
        conversations.said(number, kind == CLIENT, data, at_ns)
    elif kind == OPENED:
        conversations.opened(number, json.loads(data), at_ns)
    elif kind == CLOSED:
        conversations.closed(number, at_ns)
    elif kind == LOST:
        conversations.lost(number)
    elif kind == MARK:
        conversations.requests.window(msgspec.json.decode(data, type=Window))


class _Pace:
    """Keeps the reader out of the way while there is traffic: it works a tenth of the time then, or
    less if much comes.

    A process that runs next to the traffic slows it down, whatever its priority is: measured by
    benchmarks/relay.py. Once the backlog is half full, and when nothing new comes, it works as fast
    as it can.
    """

    def __init__(self, backlog: RelayBuffer) -> None:
        self.backlog = backlog
        self.turn = 0
        self.began_ns = process_time_ns()
        self.written = backlog.written
        self.looked_ns = perf_counter_ns()

    def rest(self) -> None:
        """Called after each record."""
        self.turn += 1
        if self.turn % _LOOK_EVERY:
            return
        worked_ns = process_time_ns() - self.began_ns
        if worked_ns < _SLICE_NS:
            return
        written, now_ns = self.backlog.written, perf_counter_ns()
        if (
            written != self.written
            and (written - self.backlog.read) * _FULL_SHARE < self.backlog.size
        ):
            much = (written - self.written) * 1e9 > _MUCH_BYTES_S * (now_ns - self.looked_ns)
            sleep(
                min(worked_ns * (_REST_SHARE_OF_MUCH if much else _REST_SHARE) / 1e9, _REST_MOST_S)
            )
        self.written, self.looked_ns = written, now_ns
        self.began_ns = process_time_ns()


def _wait(bell: int) -> bool:
    """Wait until there may be more; whether there will never be."""
    select.select([bell], [], [], _WAIT_S)
    try:
        return os.read(bell, 4096) == b""
    except BlockingIOError:
        return False


if __name__ == "__main__":
    # Anyone who stops the relay means the relay: what it has put aside is still read.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, signal.SIG_IGN)
    os.nice(_NICE)
    try:
        run(msgspec.json.decode(sys.argv[-1], type=Job))
    except Exception as error:  # noqa: BLE001  (whoever started it says that it has ended, and goes too)
        reason = (
            error.strerror if isinstance(error, OSError) else f"{type(error).__name__}: {error}"
        )
        sys.exit(f"askless: the relay's reader has failed: {escaped_line(str(reason))}")
