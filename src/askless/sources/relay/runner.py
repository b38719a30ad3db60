"""Runs a relay: the loop that forwards in a thread, the reader in a process, and the program, if
there is one, between.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import subprocess
import sys
import threading
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import msgspec

from askless.core.errors import AskLessError
from askless.core.formatting import plural, size
from askless.sources import Reporter, wire
from askless.sources.attribution.boundaries import Window
from askless.sources.attribution.route_templates import route_of
from askless.sources.programs import program as programs
from askless.sources.programs.program import ProgramEnd, Visit, Visits
from askless.sources.relay.child_environment import surroundings
from askless.sources.relay.forwarding import Forwarder
from askless.sources.relay.options import RelayOptions
from askless.sources.relay.reader import Job
from askless.sources.relay.relay_buffer import MARK, BufferWriter, RelayBuffer

_DRAIN_S = 0.3  # connections may say goodbye
_WATCH_S = 0.2


def run(
    wish: RelayOptions, program: Sequence[str], visits: Visits | None, folder: Path, voice: Reporter
) -> ProgramEnd | None:
    """Relay into a folder; how the program ended, if there was one.

    Raises AskLessError: cant-listen, and what running the program raises.
    """
    backlog = RelayBuffer.create(folder, wish.backlog)
    bell, ring = os.pipe()
    os.set_blocking(ring, False)
    spool = BufferWriter(backlog)
    protocol = wire.load(wish.system)
    forwarder = Forwarder(protocol, wish.settings, spool, lambda: _ring(ring))
    # What is asked while pages are visited belongs to the visits; otherwise queries say, or pauses.
    by_visits = (
        visits is not None
        and wish.apart.way == "auto"
        and not wish.apart.marks
        and not wish.apart.log
    )
    loop = _Loop(forwarder)
    address = loop.start()
    reader = _start_reader(wish, folder, backlog, bell, program, by_visits)
    os.close(bell)
    try:
        said = (
            f"Relaying {address} to {wish.settings.to}; "
            f"{'the program is configured' if program else 'press Ctrl-C to stop'}."
        )
        if not program:
            gone = threading.Event()
            threading.Thread(
                target=_watch, args=(reader, gone), name="askless-relay-watch", daemon=True
            ).start()
            programs.until_stopped(lambda: voice.note(said), gone)
            return None
        voice.note(said)
        environment = surroundings(
            os.environ, wish.system, protocol.variables, wish.settings.to, address
        )
        windows = _Windows(loop) if by_visits else None
        try:
            return programs.run(
                program, environment, visits, voice.progress, windows.visited if windows else None
            )
        finally:
            if windows is not None:
                windows.tell()
            voice.progress("")
    finally:
        loop.stop()
        os.close(ring)
        code = _await_reader(reader, backlog, voice)
        _tell(forwarder, spool, voice)
        if code:
            raise AskLessError(
                "reader-ended",
                "the relay's reader ended early; later traffic is not in the capture "
                f"({size(backlog.written - backlog.read)})",
                "forwarding was not affected; see its message above, free disk space, and start "
                "again",
            )


def _ring(ring: int) -> None:
    with contextlib.suppress(BlockingIOError, BrokenPipeError):
        os.write(ring, b".")


def _start_reader(
    wish: RelayOptions,
    folder: Path,
    backlog: RelayBuffer,
    bell: int,
    program: Sequence[str],
    by_visits: bool,
) -> subprocess.Popen[bytes]:
    job = Job(
        data=backlog.data,
        page=backlog.page,
        size=backlog.size,
        bell=bell,
        system=wish.system,
        path=str(folder / f"relay-{os.getpid()}-{int(time.time() * 1000)}.askless.jsonl"),
        program=Path(program[0]).name if program else "",
        apart=wish.apart._replace(visits=by_visits),
    )
    words = [
        sys.executable,
        "-m",
        "askless.sources.relay.reader",
        msgspec.json.encode(job).decode(),
    ]
    return subprocess.Popen(
        words, pass_fds=(backlog.data, backlog.page, bell), stdin=subprocess.DEVNULL
    )


def _watch(reader: subprocess.Popen[bytes], gone: threading.Event) -> None:
    """Anyone who records nothing any more does not go on as if it did."""
    reader.wait()
    gone.set()


def _await_reader(reader: subprocess.Popen[bytes], backlog: RelayBuffer, voice: Reporter) -> int:
    """Wait for what was put aside to be read; the reader's exit code."""
    while True:
        try:
            code = reader.wait(_WATCH_S)
            break
        except subprocess.TimeoutExpired:
            unread = backlog.written - backlog.read
            voice.progress(
                f"reading relayed traffic: {size(unread)} left"
                if unread
                else "reading relayed traffic"
            )
    voice.progress("")
    return code


def _tell(forwarder: Forwarder, spool: BufferWriter, voice: Reporter) -> None:
    counts = forwarder.counts
    for why, count in counts.unread.items():
        voice.note(f"note: {plural(count, 'connection')} forwarded but not read: {why}")
    for why, count in counts.refused.items():
        voice.note(f"note: {plural(count, 'connection')} refused: {why}")
    if counts.away:
        voice.note(
            f"note: {plural(counts.away, 'connection')} refused, as {forwarder.settings.to} could "
            "not be reached"
        )
    if spool.lost_bytes:
        voice.note(
            f"note: {size(spool.lost_bytes)} arrived faster than they could be read and are "
            "missing: --buffer-size allows more"
        )


class _Loop:
    """The forwarder's event loop, in a thread of its own."""

    def __init__(self, forwarder: Forwarder) -> None:
        self.forwarder = forwarder
        self.loop = _new_loop()
        self.thread = threading.Thread(
            target=self.loop.run_forever, name="askless-relay", daemon=True
        )

    def start(self) -> Any:
        """The address that clients go to. Raises AskLessError cant-listen."""
        self.thread.start()
        try:
            return self._do(self.forwarder.start())
        except OSError as error:
            where = self.forwarder.settings.listen
            raise AskLessError(
                "cant-listen",
                f"can't listen on {where}: {os.strerror(error.errno) if error.errno else error}",
                "name another address with --listen",
            ) from None

    def put(self, kind: int, data: bytes) -> None:
        """Put something aside, after all that has come until now."""

        async def put() -> None:
            self.forwarder.put(kind, 0, data)

        self._do(put())

    def stop(self) -> None:
        """End it, in good order."""
        if self.forwarder.loop is not None:
            with contextlib.suppress(TimeoutError, OSError):
                self._do(self._end())
        self.loop.call_soon_threadsafe(self.loop.stop)
        self.thread.join(5)

    async def _end(self) -> None:
        deadline = time.monotonic() + _DRAIN_S
        while self.forwarder.counts.open and time.monotonic() < deadline:
            await asyncio.sleep(0.01)
        await self.forwarder.stop()

    def _do(self, work: Any) -> Any:
        return asyncio.run_coroutine_threadsafe(work, self.loop).result(30)


def _new_loop() -> asyncio.AbstractEventLoop:
    """uvloop's, which forwards twice as much; Python's own where it is not installed."""
    try:
        import uvloop
    except ImportError:
        return asyncio.new_event_loop()
    loop: asyncio.AbstractEventLoop = uvloop.new_event_loop()
    return loop


class _Windows:
    """Tells the reader of each visit, once the next one begins: what a page does after its answer
    is its own.
    """

    def __init__(self, loop: _Loop) -> None:
        self.loop = loop
        self.last: Visit | None = None

    def visited(self, visit: Visit) -> None:
        """A page has answered."""
        self.tell()
        self.last = visit

    def tell(self) -> None:
        """Tell of the last visit."""
        visit, self.last = self.last, None
        if visit is not None:
            parts = urlsplit(visit.url)
            window = Window(
                route_of("GET", parts.path),
                visit.start_ns,
                visit.end_ns,
                visit.status,
                visit.warm_up,
            )
            self.loop.put(MARK, msgspec.json.encode(window))
