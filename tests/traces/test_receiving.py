"""Spans over HTTP and gRPC, from the real SDK and by hand: answers at once, nothing lost that was
accepted.
"""

from __future__ import annotations

import asyncio
import gzip
import http.client
import json
import os
import re
import shlex
import signal
import subprocess
import sys
import textwrap
import zlib
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path

import pytest

import askless
from askless.core.errors import AskLessError
from askless.sources.attribution.grouper import GroupingOptions
from askless.sources.otlp import receiver as receiving
from askless.sources.otlp.journal import Journal
from askless.sources.otlp.services import Services
from askless.sources.otlp.trace_assembly import Traces
from tests.conftest import ASKLESS, HARBOUR, findings, run
from tests.database.test_safety import wait_until
from tests.traces.making import LOOK_UP, payload, query, server

JSON = "application/json"
PROTOBUF = "application/x-protobuf"


class Receiver:
    """A running `askless capture otlp`."""

    def __init__(self, process: subprocess.Popen[str], said: str, out: Path) -> None:
        self.process = process
        self.out = out
        self.http, *grpc = re.findall(r"127\.0\.0\.1:(\d+)", said)
        self.grpc = grpc[0] if grpc else ""

    def post(
        self, body: bytes | str, kind: str = JSON, path: str = "/v1/traces", **headers: str
    ) -> tuple[int, str, dict[str, str]]:
        headers = {
            "Content-Type": kind,
            **{name.replace("_", "-"): value for name, value in headers.items()},
        }
        with closing(
            http.client.HTTPConnection("127.0.0.1", int(self.http), timeout=30)
        ) as connection:
            connection.request("POST", path, body, headers)
            answer = connection.getresponse()
            told = {name.lower(): value for name, value in answer.getheaders()}
            return answer.status, answer.read().decode(), told

    def stop(self) -> str:
        self.process.send_signal(signal.SIGINT)
        _, err = self.process.communicate(timeout=60)
        assert self.process.returncode == 0, err
        return err


@contextmanager
def receiver(out: Path, *words: str) -> Iterator[Receiver]:
    process = subprocess.Popen(
        [*ASKLESS, "capture", "otlp", "-o", str(out), "--listen", "127.0.0.1:0", *(words or ("--grpc", "off"))],
        stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True, env={**os.environ, "COLUMNS": "100"},
    )  # fmt: skip
    assert process.stderr is not None
    try:
        said = ""
        while "to stop." not in " ".join(said.split()):
            line = process.stderr.readline()
            assert line, said
            said += line
        yield Receiver(process, said, out)
    finally:
        process.kill()
        process.communicate()


SPANS = [*(query(n, 1, LOOK_UP, 9000 + n, at_ms=n) for n in range(2, 10)), server(1)]


def test_answers_are_the_protocols_own(tmp_path: Path) -> None:
    with receiver(tmp_path / "calls") as one:
        assert one.post(payload(*SPANS[:4]))[:2] == (200, "{}")
        assert (
            one.post(gzip.compress(payload(*SPANS[4:]).encode()), Content_Encoding="gzip")[0] == 200
        )
        assert (
            one.post(zlib.compress(b'{"resourceSpans":[]}'), Content_Encoding="deflate")[0] == 200
        )
        assert one.post(zlib.compress(b"{}")[2:-4], Content_Encoding="deflate")[0] == 200, (
            "deflate without its frame"
        )
        status, body, headers = one.post(b"", PROTOBUF)
        assert (status, body, headers["content-type"]) == (200, "", PROTOBUF)
        assert (
            one.post("{}", path="/v1/metrics")[0]
            == one.post("{}", path="/v1/logs")[0]
            == one.post("{}", path="/")[0]
            == 200
        )
        assert one.post("{}", path="/base/v1/traces")[0] == 200
        for status, word, posted in (
            (400, "not valid JSON", one.post("[")), (400, "ExportTraceServiceRequest", one.post(b"\xff\xff", PROTOBUF)),
            (400, "not gzip", one.post(b"{}", Content_Encoding="gzip")),
            (400, "ends early", one.post(gzip.compress(b"{}" * 99)[:-12], Content_Encoding="gzip")),
            (415, "Content-Encoding", one.post("{}", Content_Encoding="br")), (415, "Content-Type", one.post("{}", "text/html")),
            (404, "/v1/traces", one.post("{}", path="/v2/spans")),
            (413, "decompresses to more", one.post(gzip.compress(b" " * (receiving.PAYLOAD_MOST + 1)), Content_Encoding="gzip")),
        ):  # fmt: skip
            assert posted[0] == status and word in posted[1], posted
        err = one.stop()
        assert "received 9 spans" in err
    (found,) = findings(tmp_path / "calls")
    assert (found["pattern"], found["route"], found["cost"]["queries"]) == (
        "n-plus-one",
        "GET /calls/{id}",
        8.0,
    )


def test_a_body_that_is_too_large(tmp_path: Path) -> None:
    with receiver(tmp_path / "calls") as one:
        with closing(
            http.client.HTTPConnection("127.0.0.1", int(one.http), timeout=30)
        ) as connection:
            connection.putrequest("POST", "/v1/traces")
            connection.putheader("Content-Type", JSON)
            connection.putheader("Content-Length", str(receiving.SENT_MOST + 10))
            connection.endheaders()
            connection.send(b" " * (receiving.SENT_MOST + 10))
            assert connection.getresponse().status == 413
        assert one.post(payload(*SPANS))[0] == 200


def sink_in(folder: Path) -> receiving.Sink:
    services = Services(folder, GroupingOptions())
    traces = Traces(services.target, receiving.QUIET_NS, receiving.PATIENT_NS)
    return receiving.Sink(traces, services, Journal(folder, GroupingOptions()))


def test_pressure_is_told_and_what_was_accepted_is_read(tmp_path: Path) -> None:
    sink = sink_in(tmp_path)
    assert sink.take(b"J", b"{}") == 0
    sink._waiting = receiving.WAITING_MOST + 1
    with pytest.raises(receiving._Refused) as refused:
        receiving._take(sink, b"{}", "", JSON)
    assert refused.value.status == 503 and sink.refused == 1
    sink.close()
    assert not list(tmp_path.iterdir())


SENDER = """
    import sys
    from opentelemetry.sdk.resources import Resource
    from opentelemetry.sdk.trace import TracerProvider
    from opentelemetry.sdk.trace.export import BatchSpanProcessor
    from opentelemetry.trace import SpanKind, Status, StatusCode
    if sys.argv[1] == "grpc":
        from opentelemetry.exporter.otlp.proto.grpc.trace_exporter import OTLPSpanExporter
        exporter = OTLPSpanExporter(endpoint=sys.argv[2], insecure=True, timeout=2)
    else:
        from opentelemetry.exporter.otlp.proto.http.trace_exporter import Compression, OTLPSpanExporter
        exporter = OTLPSpanExporter(endpoint=sys.argv[2], compression=Compression.Gzip)
    provider = TracerProvider(resource=Resource.create({"service.name": "office"}))
    provider.add_span_processor(BatchSpanProcessor(exporter))
    tracer = provider.get_tracer("pages")
    for turn in range(3):
        known = {"http.request.method": "GET", "http.route": "/calls/<int:id>", "http.response.status_code": 200}
        with tracer.start_as_current_span("GET", kind=SpanKind.SERVER, attributes=known):
            for key in range(6):
                asked = {"db.system.name": "postgresql", "db.query.text": "SELECT name FROM vessel WHERE id = $1",
                         "db.query.parameter.0": str(key), "code.file.path": "/app/pages.py", "code.line.number": 7}
                with tracer.start_as_current_span("SELECT", kind=SpanKind.CLIENT, attributes=asked) as span:
                    if key == 5:
                        span.record_exception(ValueError("no such vessel"))
                        span.set_status(Status(StatusCode.ERROR))
    provider.shutdown()
"""


@pytest.mark.parametrize("protocol", ["http", "grpc"])
def test_the_real_sdk_over_http_and_grpc(protocol: str, tmp_path: Path) -> None:
    script = tmp_path / "sender.py"
    script.write_text(textwrap.dedent(SENDER))
    with receiver(tmp_path / "calls", "--grpc", "127.0.0.1:0") as one:
        address = (
            f"http://127.0.0.1:{one.http}/v1/traces"
            if protocol == "http"
            else f"http://127.0.0.1:{one.grpc}"
        )
        subprocess.run([sys.executable, script, protocol, address], check=True, timeout=120)
        assert "received 21 spans" in one.stop()
    queries = list(askless.read(tmp_path / "calls", values=True).queries)
    assert len(queries) == 18 and {one.parameters for one in queries} == {
        f"'{key}'" for key in range(6)
    }
    assert {one.error for one in queries} == {"", "ValueError: no such vessel"}
    assert {(one.route, one.file, one.line) for one in queries} == {
        ("GET /calls/{id}", "/app/pages.py", 7)
    }


def test_a_grpc_client_on_the_port_of_http_is_told_what_to_change(tmp_path: Path) -> None:
    script = tmp_path / "sender.py"
    script.write_text(textwrap.dedent(SENDER))
    with receiver(tmp_path / "calls") as one:
        subprocess.run(
            [sys.executable, script, "grpc", f"http://127.0.0.1:{one.http}"],
            check=True,
            timeout=120,
            capture_output=True,
        )
        err = " ".join(one.stop().split())
    assert "OTEL_EXPORTER_OTLP_PROTOCOL=http/protobuf" in err and "nothing was recorded" in err


def test_a_port_in_use(tmp_path: Path) -> None:
    with receiver(tmp_path / "calls") as one:
        ran = run(
            "capture",
            "otlp",
            "-o",
            tmp_path / "other",
            "--listen",
            f"127.0.0.1:{one.http}",
            "--grpc",
            "off",
        )
        assert ran.code == 2 and "can't listen on" in ran.err and "Traceback" not in ran.err


APPLICATION = """
    import gc, sys
    sys.path.insert(0, {office!r})
    import app, sqlalchemy
    from opentelemetry.instrumentation.flask import FlaskInstrumentor
    from opentelemetry.instrumentation.sqlalchemy import SQLAlchemyInstrumentor
    from opentelemetry.sdk.trace import TracerProvider
    from opentelemetry.sdk.trace.export import BatchSpanProcessor
    from opentelemetry.exporter.otlp.proto.http.trace_exporter import OTLPSpanExporter
    from opentelemetry import trace
    provider = TracerProvider()
    provider.add_span_processor(BatchSpanProcessor(OTLPSpanExporter()))
    trace.set_tracer_provider(provider)
    office = app.make_app(sys.argv[1], "grown")
    FlaskInstrumentor().instrument_app(office)
    for engine in [one for one in gc.get_objects() if isinstance(one, sqlalchemy.Engine)]:
        SQLAlchemyInstrumentor().instrument(engine=engine, skip_dep_check=True)
    office.run(port=int(sys.argv[2]))
"""


def test_a_traced_application_is_seen_as_the_recorder_sees_it(
    harbour: Path, tmp_path: Path
) -> None:
    """Flask and SQLAlchemy under their instrumentations: the same requests and queries, but for
    what a span can't tell.
    """
    import socket

    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    script = tmp_path / "traced.py"
    script.write_text(textwrap.dedent(APPLICATION.format(office=str(HARBOUR))))
    address = f"http://127.0.0.1:{port}"
    visits = [word for path in ("/calls/due", "/berths") for word in ("--visit", address + path)]
    seen = {}
    for source in ("otlp", "app"):
        out = tmp_path / source
        words = [
            *ASKLESS,
            "capture",
            source,
            "-o",
            out,
            "--repeat",
            "2",
            *visits,
            "--",
            sys.executable,
            script,
        ]
        env = {**os.environ, "OTEL_SDK_DISABLED": "false" if source == "otlp" else "true"}
        done = subprocess.run(
            [*map(str, words), f"sqlite:///{harbour}", str(port)],
            capture_output=True,
            text=True,
            timeout=120,
            env=env,
            check=False,
        )
        assert done.returncode == 0, done.stderr
        read = askless.read(out)
        seen[source] = {
            row.route: (row.requests, row.queries, row.shapes) for row in read.routes().routes
        }
        shapes = {
            (one.route, one.shape)
            for one in read.queries
            if not one.noise and one.route.startswith("GET")
        }
        seen[source + " shapes"] = shapes
    assert seen["otlp"] == seen["app"] and seen["otlp"]["GET /calls/due"][0] == 2, seen
    assert seen["otlp shapes"] == seen["app shapes"]
    loops = {
        (f["route"], f["shape"]) for f in findings(tmp_path / "app") if f["pattern"] == "n-plus-one"
    }
    traced = {(f["route"], f["shape"]): f for f in findings(tmp_path / "otlp")}
    assert {key for key in loops if key[0] == "GET /calls/due"} <= set(traced)
    assert {f["pattern"] for f in traced.values()} == {"n-plus-one"}, (
        "nothing that is not known is claimed"
    )


def calls(first: int, count: int) -> str:
    """A payload of requests with a query each, of traces with numbers from `first` on."""
    spans = []
    for number in range(first, first + count):
        trace = f"{number:032x}"
        spans += [
            {"traceId": trace, "spanId": f"{number:016x}", "name": "GET /calls", "kind": 2, "startTimeUnixNano": str(1000 * number), "endTimeUnixNano": str(1000 * number + 900),
             "attributes": [{"key": "http.route", "value": {"stringValue": "/calls"}}, {"key": "http.request.method", "value": {"stringValue": "GET"}}]},
            {"traceId": trace, "spanId": f"{number + 2**32:016x}", "parentSpanId": f"{number:016x}", "name": "q", "kind": 3, "startTimeUnixNano": str(1000 * number + 1), "endTimeUnixNano": str(1000 * number + 2),
             "attributes": [{"key": "db.query.text", "value": {"stringValue": "SELECT 1 FROM vessel"}}, {"key": "db.system.name", "value": {"stringValue": "postgresql"}}]},
        ]  # fmt: skip
    return json.dumps({"resourceSpans": [{"scopeSpans": [{"spans": spans}]}]})


def requests_in(folder: Path) -> int:
    return sum(row.requests for row in askless.read(folder).routes().routes)


@pytest.mark.parametrize("rounds", [1, 4])
def test_what_was_acknowledged_survives_a_kill(rounds: int, tmp_path: Path) -> None:
    """And comes once, whatever of it was in the capture by then."""
    taken = 0
    with receiver(tmp_path / "c") as one:
        for _ in range(rounds):
            for _ in range(20):
                assert one.post(calls(taken + 1, 25))[0] == 200
                taken += 25
            if rounds > 1:  # some of it is put together, and written
                size = sum(file.stat().st_size for file in (tmp_path / "c").glob("*.jsonl"))
                wait_until(
                    lambda size=size: (
                        sum(f.stat().st_size for f in (tmp_path / "c").glob("*.jsonl")) > size
                    ),
                    20,
                )
        one.process.kill()
        one.process.wait()
    checked = run("capture", "check", tmp_path / "c")
    assert checked.code == 0, checked.out
    assert requests_in(tmp_path / "c") == taken
    assert not list((tmp_path / "c").glob("*.journal")) and requests_in(tmp_path / "c") == taken


def test_a_full_disk_is_told_at_once_and_takes_nothing_that_was_acknowledged(
    tmp_path: Path,
) -> None:
    """A limit on the size of a file is in for the disk's."""
    limited = f"ulimit -f 200; exec {' '.join(map(shlex.quote, [*ASKLESS, 'capture', 'otlp', '-o', str(tmp_path / 'c'), '--listen', '127.0.0.1:0', '--grpc', 'off']))}"
    process = subprocess.Popen(
        ["bash", "-c", limited],
        stderr=subprocess.PIPE,
        text=True,
        env={**os.environ, "COLUMNS": "200"},
    )
    assert process.stderr is not None
    one = Receiver(process, process.stderr.readline(), tmp_path / "c")
    taken = 0
    for number in range(200):
        try:
            status, told, _ = one.post(calls(25 * number + 1, 25))
        except OSError:  # it has ended
            break
        if status != 200:
            assert status == 503 and "can't be stored" in told
            break
        taken += 25
    _, err = process.communicate(timeout=60)
    assert process.returncode == 2 and "could store no more" in err and "Traceback" not in err, err
    assert 0 < taken < 5000
    assert requests_in(tmp_path / "c") == taken
    assert run("capture", "check", tmp_path / "c").code == 0


def test_a_reader_that_dies_ends_the_receiver(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    sink = sink_in(tmp_path)
    monkeypatch.setattr(sink._traces, "add", lambda *_: 1 / 0)
    sink.take(b"J", calls(1, 1).encode())
    assert sink.ended.wait(30)
    with pytest.raises(receiving._Refused) as refused:
        receiving._take(sink, calls(2, 1).encode(), "", JSON)
    assert refused.value.status == 503
    with pytest.raises(AskLessError, match="ZeroDivisionError"):
        sink.close()
    assert requests_in(tmp_path) == 1, "it was acknowledged"


def test_spans_that_cant_be_read_are_no_success(tmp_path: Path) -> None:
    with receiver(tmp_path / "c") as one:
        broken = json.loads(calls(1, 2))
        broken["resourceSpans"][0]["scopeSpans"][0]["spans"][1]["traceId"] = 7
        status, told, _ = one.post(json.dumps(broken))
        assert status == 200 and json.loads(told)["partialSuccess"]["rejectedSpans"] == "1"
        assert "1 span can't be read" in " ".join(one.stop().split())
    assert run("capture", "check", tmp_path / "c").code == 1


def test_only_its_own_host(tmp_path: Path) -> None:
    with receiver(tmp_path / "a") as one:
        assert one.post(calls(1, 1), Host="harbour.example")[0] == 421
        assert one.post(calls(1, 1), Host=f"localhost:{one.http}")[0] == 200
    with receiver(tmp_path / "b", "--grpc", "off", "--allow-remote") as one:
        assert one.post(calls(1, 1), Host="harbour.example")[0] == 200


def test_clients_that_get_stuck(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A body that never ends is cut off after a time, and others are answered meanwhile."""
    monkeypatch.setattr(receiving, "BODY_S", 0.2)
    sink = sink_in(tmp_path)
    app = receiving.application(sink)
    scope = {
        "method": "POST",
        "path": "/v1/traces",
        "headers": [(b"content-type", b"application/json")],
    }

    async def post(body: bytes | None) -> int:
        answers: list[dict[str, object]] = []
        sent = body is None

        async def receive() -> dict[str, object]:
            nonlocal sent
            if sent:
                await asyncio.Event().wait()
            sent = True
            return {"type": "http.request", "body": body, "more_body": False}

        async def send(message: dict[str, object]) -> None:
            answers.append(message)

        await app(scope, receive, send)  # type: ignore[arg-type]
        return int(str(answers[0]["status"]))

    async def all_of_them() -> list[int]:
        return await asyncio.gather(*(post(None) for _ in range(300)), post(calls(1, 1).encode()))

    assert asyncio.run(all_of_them()) == [408] * 300 + [200]
    sink.close()


BOMBS = {
    "spans of nothing": lambda: (PROTOBUF, gzip.compress(nested(b"\x12\x00" * 20_000_000)), 413),
    "attributes of nothing": lambda: (PROTOBUF, gzip.compress(nested(b"\x12" + varint(40_000_000) + b"\x4a\x00" * 20_000_000)), 413),
    "objects of JSON": lambda: (JSON, gzip.compress(b'{"resourceSpans": [' + b"{}," * 15_000_000 + b"{}]}"), 413),
    "lists of JSON": lambda: (JSON, gzip.compress(b'{"a": [' + b"[]," * 20_000_000 + b"[]]}"), 413),
    "small spans": lambda: (PROTOBUF, gzip.compress(nested(b"\x12\x00" * 1_900_000)), 413),
}  # fmt: skip


def varint(number: int) -> bytes:
    result = b""
    while number > 127:
        result, number = result + bytes([number & 127 | 128]), number >> 7
    return result + bytes([number])


def nested(spans: bytes) -> bytes:
    """A request to export what is in the scope of one resource."""
    scope = b"\x12" + varint(len(spans)) + spans
    return b"\x0a" + varint(len(scope)) + scope


@pytest.mark.parametrize("bomb", BOMBS)
def test_a_small_body_that_is_large_in_memory(bomb: str, tmp_path: Path) -> None:
    kind, body, status = BOMBS[bomb]()
    with receiver(tmp_path / "c") as one:
        answer, told, _ = one.post(body, kind, Content_Encoding="gzip")
        assert answer == status and "--max-payload" in told
        assert one.post(calls(1, 1))[0] == 200
        peak = re.search(r"VmHWM:\s+(\d+) kB", Path(f"/proc/{one.process.pid}/status").read_text())
        assert peak is not None and int(peak[1]) < 500_000, peak
