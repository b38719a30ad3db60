"""Runs what receives spans, with the program between where there is one; or reads files."""

from __future__ import annotations

import os
import time
from collections.abc import Mapping, Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import Any, NamedTuple

from askless.core.errors import AskLessError
from askless.core.formatting import plural
from askless.sources import Reporter
from askless.sources.attribution.grouper import GroupingOptions
from askless.sources.otlp import receiver, span_files
from askless.sources.otlp.journal import Journal
from askless.sources.otlp.services import Services
from askless.sources.otlp.size_limits import OBJECTS_MOST, OPTION
from askless.sources.otlp.trace_assembly import Traces
from askless.sources.programs import program as programs
from askless.sources.programs.program import ProgramEnd, Visit, Visits
from askless.sources.sampling import size_of

HTTP, GRPC = "127.0.0.1:4318", "127.0.0.1:4317"
_ANY_PORT = "127.0.0.1:0"
_LOCAL = ("127.0.0.1", "::1", "localhost")
_FILE_QUIET = 50_000  # spans of a file after which a trace is put together of which none came
_EXPORT_EVERY_MS = 500
_CLOCK_NS = 1_000_000  # some clients cut the start of a span to the millisecond


class OtlpOptions(NamedTuple):
    """Where to listen; no `grpc` for HTTP alone. `is_open`: for requests that name any host;
    `objects_most`: of a payload.
    """

    http: tuple[str, int]
    grpc: str
    is_open: bool = False
    objects_most: int = OBJECTS_MOST


def wish_of(values: Mapping[str, Any]) -> OtlpOptions:
    """What the options ask for. Raises AskLessError: bad-listen, not-local."""
    program = bool(values["program"])
    http = _address(
        values["listen"] or (_ANY_PORT if program else HTTP), "--listen", values["allow_remote"]
    )
    grpc = values["grpc"] or ("off" if program else GRPC)
    objects_most = objects_of(values)
    if grpc == "off":
        return OtlpOptions(http, "", values["allow_remote"], objects_most)
    host, port = _address(grpc, "--grpc", values["allow_remote"])
    return OtlpOptions(
        http,
        f"[{host}]:{port}" if ":" in host else f"{host}:{port}",
        values["allow_remote"],
        objects_most,
    )


def objects_of(values: Mapping[str, Any]) -> int:
    """How many objects a payload may hold, which grows with its bytes. Raises AskLessError
    bad-size.
    """
    given = values["max_payload"]
    if not given:
        return OBJECTS_MOST
    return max(size_of(given, OPTION) * OBJECTS_MOST // receiver.PAYLOAD_MOST, 1)


def _address(word: str, option: str, is_open: bool) -> tuple[str, int]:
    host, _, port = word.rpartition(":")
    host = host.strip("[]")
    if not host or not port.isdigit() or int(port) > 65_535:
        raise AskLessError(
            "bad-listen", f"{option} takes HOST:PORT, not {word!r}", "write it like 127.0.0.1:4318"
        )
    if host not in _LOCAL and not is_open:
        raise AskLessError(
            "not-local",
            f"{option} {word} is reachable from other machines: anyone could send spans",
            "use --allow-remote if that is intended",
        )
    return host, int(port)


def receive(
    wish: OtlpOptions,
    program: Sequence[str],
    visits: Visits | None,
    folder: Path,
    apart: GroupingOptions,
    voice: Reporter,
) -> ProgramEnd | None:
    """Receive into a folder; how the program ended, if there was one.

    Raises AskLessError: cant-listen, otlp-extra-missing, and what running the program raises.
    """
    services = Services(folder, apart)
    warming = _WarmUps()
    traces = Traces(services.target, receiver.QUIET_NS, receiver.PATIENT_NS, warming.holds)
    taken = receiver.listening(*wish.http)
    sink = receiver.Sink(traces, services, Journal(folder, apart), wish.objects_most)
    try:
        with ExitStack() as stack:
            port = taken.getsockname()[1]
            hosts = (
                None if wish.is_open else frozenset(f"{host}:{port}" for host in (*_LOCAL, "[::1]"))
            )
            stack.enter_context(receiver.over_http(taken, sink, hosts))
            address = f"http://{wish.http[0]}:{port}"
            said = f"Receiving OTLP/HTTP at {address}"
            if wish.grpc:
                port = stack.enter_context(receiver.over_grpc(wish.grpc, sink))
                said += f" and OTLP/gRPC at {wish.grpc.rpartition(':')[0]}:{port}"
            if not program:
                programs.until_stopped(
                    lambda: voice.note(said + "; press Ctrl-C to stop."), sink.ended
                )
                return None
            voice.note(said + "; the program's exporter is configured.")
            return programs.run(
                program,
                exporting(os.environ, address),
                visits,
                voice.progress,
                warming.visited,
                traces.has_seen,
            )
    finally:
        voice.progress("")
        try:
            sink.close()
        finally:
            _tell(sink, traces, voice)


class _WarmUps:
    """When visits of ours warmed the application up."""

    def __init__(self) -> None:
        self._offset_ns = time.time_ns() - time.perf_counter_ns()
        self._times: list[tuple[int, int]] = []

    def visited(self, visit: Visit) -> None:
        """A visit is over."""
        if visit.warm_up:
            self._times.append((visit.start_ns + self._offset_ns, visit.end_ns + self._offset_ns))

    def holds(self, start_ns: int) -> bool:
        """Whether a request that began then was one of them."""
        return any(start - _CLOCK_NS <= start_ns <= end for start, end in self._times)


def exporting(environment: Mapping[str, str], address: str) -> dict[str, str]:
    """The variables with which an OpenTelemetry SDK sends its spans here, and nothing else."""
    return {
        **environment,
        "OTEL_TRACES_EXPORTER": "otlp",
        "OTEL_METRICS_EXPORTER": "none",
        "OTEL_LOGS_EXPORTER": "none",
        "OTEL_EXPORTER_OTLP_ENDPOINT": address,
        "OTEL_EXPORTER_OTLP_PROTOCOL": "http/protobuf",
        "OTEL_EXPORTER_OTLP_TRACES_ENDPOINT": address + "/v1/traces",
        "OTEL_EXPORTER_OTLP_TRACES_PROTOCOL": "http/protobuf",
        "OTEL_BSP_SCHEDULE_DELAY": str(_EXPORT_EVERY_MS),
        "OTEL_TRACES_SAMPLER": "always_on",
    }


def read(
    files: Sequence[Path],
    folder: Path,
    apart: GroupingOptions,
    voice: Reporter,
    objects_most: int = OBJECTS_MOST,
) -> None:
    """Read files of spans into a folder; what was read before one that can't be is kept.

    Raises AskLessError: file-missing, traces-unreadable.
    """
    services = Services(folder, apart)
    traces = Traces(services.target, _FILE_QUIET, _FILE_QUIET)
    unreadable, reason = 0, ""
    try:
        for path in files:
            for _, spans in span_files.payloads(path, objects_most):
                before = traces.spans
                traces.add(spans.spans, before)
                unreadable, reason = unreadable + spans.unreadable, reason or spans.reason
                if traces.spans // _FILE_QUIET > before // _FILE_QUIET:
                    traces.settle(traces.spans)
                    voice.progress(f"reading {path.name}: {plural(traces.spans, 'span')}")
    finally:
        voice.progress("")
        traces.close()
        services.close(traces, unreadable, reason)
        voice.note(f"read {plural(traces.spans, 'span')}")


def _tell(sink: receiver.Sink, traces: Traces, voice: Reporter) -> None:
    voice.note(f"received {plural(traces.spans, 'span')}")
    lost = sink.unreadable + traces.broken
    if lost:
        voice.note(
            f"note: {plural(lost, 'span')} can't be read and are lost: "
            f"{sink.reason or traces.broken_reason}"
        )
    if sink.grpc_on_http:
        voice.note("note: " + receiver.WRONG_PORT)
    if sink.refused:
        voice.note(
            f"note: {plural(sink.refused, 'request')} to export refused for a while because too "
            "much was waiting; exporters retry"
        )
