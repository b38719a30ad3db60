"""Runs a program until it ends, or until its pages are visited, and sees to it that it stops.

The program keeps its own interpreter, environment and exit code.
"""

from __future__ import annotations

import http.client
import os
import shutil
import signal
import subprocess
import sys
import threading
import time
import urllib.error
import urllib.request
from collections.abc import Callable, Mapping, Sequence
from email.message import Message
from types import FrameType
from typing import BinaryIO

import msgspec

from askless.core.errors import AskLessError
from askless.core.progress import Progress, quiet

STOP_WAIT_S = 5.0  # how long pages' programs may take to stop once they are visited
# the last page has been answered; what its application does after the answer may go on
SETTLE_S = 0.1
SETTLE_MOST_S = 15.0  # where someone waits for it
TERMINATE_WAIT_S = 10.0  # and a program that anyone who runs us wants stopped
WARM_UP_HEADER = "X-Ask-Less-Warm-Up"


class Visits(msgspec.Struct, frozen=True):
    """Pages to request, with these headers: each once to warm up, then `times` times, in turns."""

    urls: tuple[str, ...]
    times: int = 5
    wait_s: float = 30.0
    timeout_s: float = 60.0
    headers: tuple[tuple[str, str], ...] = ()


class Visit(msgspec.Struct, frozen=True):
    """One visit of a page, on the clock of time.perf_counter_ns, and what it answered."""

    url: str
    start_ns: int
    end_ns: int
    status: int
    warm_up: bool
    headers: tuple[tuple[str, str], ...] = ()
    body: bytes = b""


class VisitResult(msgspec.Struct, frozen=True):
    """What one page answered: its last status, and how long each measured visit took, as the
    visitor saw it.
    """

    url: str
    status: int
    durations_ms: tuple[float, ...]


class ProgramEnd(msgspec.Struct, frozen=True):
    """How the program ended. `stopped` says that it was reported to stop; its exit code then says
    nothing.
    """

    exit_code: int
    stopped: bool
    visited: tuple[VisitResult, ...] = ()


Watch = Callable[[Visit], None]


def run(
    command: Sequence[str],
    environment: Mapping[str, str],
    visits: Visits | None = None,
    progress: Progress = quiet,
    watch: Watch | None = None,
    settled: Callable[[int], bool] | None = None,
    output: BinaryIO | None = None,
) -> ProgramEnd:
    """Run the program until it ends, or until its pages are visited; `watch` is reported of each
    visit.

    What it prints goes where ours goes, or into `output`. Behind the last visit it goes on for a
    moment, or until what it does about so many visits has `settled`.

    Raises AskLessError: program-missing, program-exited, never-answers, visit-failed.
    """
    program = shutil.which(command[0])
    if program is None:
        raise AskLessError(
            "program-missing",
            f"there is no program {command[0]!r} to run",
            "check the command after `--` and your PATH",
        )
    stop = threading.Event()
    try:
        # Visited programs get a process group of their own: what they started (a reloader's child)
        # stops with them.
        process = subprocess.Popen(
            [program, *command[1:]],
            env=environment,
            start_new_session=visits is not None,
            stdout=output,
            stderr=subprocess.STDOUT if output is not None else None,
        )
    except OSError as error:
        raise AskLessError(
            "program-missing",
            f"can't start {program}: {error.strerror}",
            "check that it is executable",
        ) from None
    grouped = visits is not None
    with _Signals(process, stop, grouped):
        try:
            visited = _visit(process, visits, stop, progress, watch) if visits is not None else ()
            if visits is not None:
                stop.wait(SETTLE_S)
                count = len(visits.urls) * (visits.times + 1)
                deadline_s = time.monotonic() + SETTLE_MOST_S
                while (
                    settled is not None
                    and not settled(count)
                    and not stop.is_set()
                    and time.monotonic() < deadline_s
                ):
                    stop.wait(SETTLE_S)
                stop.set()
                _stop(process, grouped)
            code = process.wait()
        except BaseException:
            _stop(process, grouped)
            raise
    return ProgramEnd(code if code >= 0 else 128 - code, stop.is_set(), visited)


class _Signals:
    """While the program runs, signals are its affair: the terminal sends it Ctrl-C itself, SIGTERM
    is passed on.

    A program that SIGTERM does not end within TERMINATE_WAIT_S is killed: the one that wants us
    gone wants it gone too.
    """

    def __init__(
        self, process: subprocess.Popen[bytes], stop: threading.Event, grouped: bool
    ) -> None:
        self.process = process
        self.stop = stop
        self.grouped = grouped
        self.before: dict[int, object] = {}
        self.last: threading.Timer | None = None

    def __enter__(self) -> None:
        for number in (signal.SIGINT, signal.SIGTERM):
            self.before[number] = signal.signal(number, self._pass_on)

    def __exit__(self, *details: object) -> None:
        if self.last is not None:
            self.last.cancel()
        for number, handler in self.before.items():
            signal.signal(number, handler)  # type: ignore[arg-type]

    def _pass_on(self, number: int, frame: FrameType | None) -> None:
        self.stop.set()
        if number == signal.SIGTERM or self.grouped or not sys.stdin.isatty():
            _send(self.process, number, self.grouped)
        if number == signal.SIGTERM and self.last is None:
            self.last = threading.Timer(
                TERMINATE_WAIT_S, _send, (self.process, signal.SIGKILL, self.grouped)
            )
            self.last.daemon = True
            self.last.start()


def _send(process: subprocess.Popen[bytes], number: int, grouped: bool) -> bool:
    """Send a signal to the program, or to all of its group; False if no one is left to get it."""
    try:
        if grouped:
            os.killpg(process.pid, number)
        else:
            process.send_signal(number)
    except (ProcessLookupError, PermissionError):
        return False
    return True


def _stop(process: subprocess.Popen[bytes], grouped: bool) -> None:
    """Ask the program to stop, and what it started; anyone who has not after some seconds is
    killed.
    """
    deadline = time.monotonic() + STOP_WAIT_S
    if process.poll() is None or grouped:
        _send(process, signal.SIGTERM, grouped)
    while time.monotonic() < deadline:
        ended = process.poll() is not None
        if ended and not (grouped and _send(process, 0, grouped)):
            return
        time.sleep(0.02)
    _send(process, signal.SIGKILL, grouped)
    process.wait()


class _Reply(msgspec.Struct, frozen=True):
    """A page's status, its headers (names in lower case) and its body."""

    status: int
    headers: tuple[tuple[str, str], ...]
    body: bytes


def _request(
    url: str, timeout_s: float, warm_up: bool, headers: Sequence[tuple[str, str]]
) -> _Reply:
    """GET a page and read it whole. Raises OSError if nothing answers."""
    opener = urllib.request.build_opener(urllib.request.ProxyHandler({}))
    try:
        more = [(WARM_UP_HEADER, "1")] if warm_up else []
        request = urllib.request.Request(url, headers=dict([*headers, *more]))
        with opener.open(request, timeout=timeout_s) as answer:
            return _Reply(int(answer.status), _headers(answer.headers), answer.read())
    except urllib.error.HTTPError as error:
        with error:
            return _Reply(error.code, _headers(error.headers), error.read())
    except (http.client.HTTPException, ValueError) as error:
        raise OSError(str(error)) from None


def _headers(headers: Message) -> tuple[tuple[str, str], ...]:
    return tuple((name.lower(), value) for name, value in headers.items())


def _wait_until_up(
    process: subprocess.Popen[bytes], visits: Visits, stop: threading.Event, watch: Watch | None
) -> None:
    deadline = time.monotonic() + visits.wait_s
    url = visits.urls[0]
    reason = "nothing is listening there"
    while time.monotonic() < deadline and not stop.is_set():
        if process.poll() is not None:
            raise AskLessError(
                "program-exited",
                f"the program ended with exit code {process.returncode} before {url} answered",
                "run it on its own to see why; its queries up to that point were recorded",
            )
        start_ns = time.perf_counter_ns()
        try:
            left_s = max(deadline - time.monotonic(), 0.5)
            reply = _request(url, left_s, True, visits.headers)
            if watch is not None:
                watch(Visit(url, start_ns, time.perf_counter_ns(), reply.status, True))
            return
        except OSError as error:
            reason = str(getattr(error, "reason", error))
        stop.wait(0.1)
    if not stop.is_set():
        raise AskLessError(
            "never-answers",
            f"{url} did not answer within {visits.wait_s:g} s: {reason}",
            "check host, port and path; --startup-timeout SECONDS allows a slower start",
        )


def _why_silent(process: subprocess.Popen[bytes], error: OSError) -> str:
    """Why a page did not answer: the program may be ending this very moment."""
    try:
        return f"the program ended with exit code {process.wait(1)}"
    except subprocess.TimeoutExpired:
        return str(getattr(error, "reason", error))


def _visit(
    process: subprocess.Popen[bytes],
    visits: Visits,
    stop: threading.Event,
    progress: Progress,
    watch: Watch | None,
) -> tuple[VisitResult, ...]:
    progress("waiting for " + visits.urls[0])
    _wait_until_up(process, visits, stop, watch)
    statuses = dict.fromkeys(visits.urls, 0)
    durations: dict[str, list[float]] = {url: [] for url in visits.urls}
    for turn in range(visits.times + 1):
        for url in visits.urls:
            if stop.is_set():
                break
            progress(f"visit {turn} of {visits.times}: {url}" if turn else f"warming up: {url}")
            start_ns = time.perf_counter_ns()
            try:
                reply = _request(url, visits.timeout_s, turn == 0, visits.headers)
                statuses[url] = reply.status
            except OSError as error:
                what = _why_silent(process, error)
                raise AskLessError(
                    "visit-failed",
                    f"{url} did not answer: {what}",
                    "queries up to that point were recorded",
                ) from None
            end_ns = time.perf_counter_ns()
            if watch is not None:
                watch(
                    Visit(url, start_ns, end_ns, reply.status, turn == 0, reply.headers, reply.body)
                )
            if turn:
                durations[url].append((end_ns - start_ns) / 1e6)
    return tuple(VisitResult(url, statuses[url], tuple(durations[url])) for url in visits.urls)


def until_stopped(ready: Callable[[], None], stopped: threading.Event | None = None) -> None:
    """Wait for Ctrl-C, for someone who wants us gone, or until `stopped` is set; `ready` is called
    once that is heard.
    """
    stopped = stopped or threading.Event()

    before = {
        number: signal.signal(number, lambda *_: stopped.set())
        for number in (signal.SIGINT, signal.SIGTERM)
    }
    try:
        ready()
        stopped.wait()
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
