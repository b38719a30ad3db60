"""One run seen at once by the recorder, the relay, the traces and the server's log: the same
queries, but for what each can't see.
"""

from __future__ import annotations

import os
import re
import signal
import subprocess
import sys
import textwrap
from collections import Counter
from pathlib import Path

import pytest

import askless
from tests import servers
from tests.conftest import ASKLESS, HARBOUR, findings, run
from tests.traces.test_receiving import receiver

PAGES = ("/calls/due", "/berths", "/calls/5990")
TURNS = 3
APPLICATION = """
    import gc, sys, time
    sys.path.insert(0, {office!r})
    from opentelemetry import trace
    from opentelemetry.exporter.otlp.proto.http.trace_exporter import OTLPSpanExporter
    from opentelemetry.instrumentation.flask import FlaskInstrumentor
    from opentelemetry.instrumentation.psycopg import PsycopgInstrumentor
    from opentelemetry.instrumentation.sqlalchemy import SQLAlchemyInstrumentor
    from opentelemetry.sdk.trace import TracerProvider
    from opentelemetry.sdk.trace.export import BatchSpanProcessor
    provider = TracerProvider()
    provider.add_span_processor(BatchSpanProcessor(OTLPSpanExporter(endpoint=sys.argv[2]), max_queue_size=20000))
    trace.set_tracer_provider(provider)
    PsycopgInstrumentor().instrument(skip_dep_check=True)
    import app, sqlalchemy
    office = app.make_app(sys.argv[1], "grown")
    FlaskInstrumentor().instrument_app(office)
    for engine in [one for one in gc.get_objects() if isinstance(one, sqlalchemy.Engine)]:
        SQLAlchemyInstrumentor().instrument(engine=engine, skip_dep_check=True)
    client = office.test_client()
    for turn in range({turns}):
        for page in {pages!r}:
            assert client.get(page).status_code == 200
            time.sleep(0.4)
    provider.shutdown()
"""


@pytest.fixture(scope="module")
def seen(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    """The captures of one run, by what recorded them."""
    folder = tmp_path_factory.mktemp("four")
    script = folder / "traced.py"
    script.write_text(
        textwrap.dedent(APPLICATION.format(office=str(HARBOUR), pages=PAGES, turns=TURNS))
    )
    settings = {"log_min_duration_statement": 0, "log_line_prefix": "%m [%p] %q%u@%d/%a "}
    with servers.postgresql(logging=False, more=settings) as server:
        url = f"postgresql+psycopg://harbour@127.0.0.1:{server.port}/postgres"
        fill = "import sys, data, sqlalchemy; data.fill(sqlalchemy.create_engine(sys.argv[1]), scale=2)"
        subprocess.run([sys.executable, "-c", fill, url], cwd=HARBOUR, check=True, timeout=120)
        since = server.mark()
        words = [
            *ASKLESS,
            "capture",
            "relay",
            "-o",
            folder / "relay",
            "--to",
            f"postgresql://127.0.0.1:{server.port}",
        ]
        relay = subprocess.Popen(list(map(str, words)), stderr=subprocess.PIPE, text=True)
        try:
            assert relay.stderr is not None
            found = re.search(r"Relaying 127\.0\.0\.1:(\d+)", relay.stderr.readline())
            assert found is not None
            with receiver(folder / "traces") as spans:
                run_ = subprocess.run(
                    [*ASKLESS, "capture", "app", "-o", folder / "app", "--", sys.executable, script,
                     f"postgresql+psycopg://harbour@127.0.0.1:{found[1]}/postgres", f"http://127.0.0.1:{spans.http}/v1/traces"],
                    capture_output=True, text=True, timeout=240, check=False, env={**os.environ},
                )  # fmt: skip
                assert run_.returncode == 0, run_.stderr
                spans.stop()
            relay.send_signal(signal.SIGINT)
            relay.communicate(timeout=60)
        finally:
            relay.kill()
            relay.wait()
        server.mark()
        (folder / "server.log").write_bytes(server.log.read_bytes()[since:])
    assert run("capture", "log", folder / "server.log", "-o", folder / "log").code == 0
    return {name: folder / name for name in ("app", "relay", "traces", "log")}


def asked(capture: Path) -> Counter[str]:
    """How often each shape was asked: noise, and the marks of the test, omitted."""
    own = [
        one
        for one in askless.read(capture).queries
        if not one.noise and " FROM " in " ".join(one.statement.split())
    ]
    return Counter(one.shape for one in own if "pg_catalog" not in one.statement)


def test_all_see_the_same_queries(seen: dict[str, Path]) -> None:
    counted = {name: asked(capture) for name, capture in seen.items()}
    assert sum(counted["app"].values()) > 300
    for name in ("relay", "traces", "log"):
        assert counted[name] == counted["app"], (
            name,
            counted[name] - counted["app"],
            counted["app"] - counted[name],
        )


def test_each_tells_requests_apart_as_it_can(seen: dict[str, Path]) -> None:
    routes = {
        name: Counter(
            one.route
            for one in askless.read(capture).requests
            if one.queries > 1 and one.kind != "program"
        )
        for name, capture in seen.items()
    }
    expected = {"GET /berths": TURNS, "GET /calls/due": TURNS, "GET /calls/{number}": TURNS}
    assert routes["app"] == routes["traces"] == expected
    # Pauses distinguish them, and their tables name them; a transaction that a page leaves open
    # joins it to the next one.
    assert sum(routes["log"].values()) >= 6 <= sum(routes["relay"].values())
    assert all("port_call" in route for name in ("relay", "log") for route in routes[name]), routes


def test_each_finds_the_loops_and_says_how_sure_it_is(seen: dict[str, Path]) -> None:
    loops = {}
    for name, capture in seen.items():
        loops[name] = {
            f["shape"]: f["evidence"] for f in findings(capture) if f["pattern"] == "n-plus-one"
        }
    known = {shape for shape, evidence in loops["app"].items() if evidence == "traced"}
    assert len(known) >= 4
    assert {loops["relay"][shape] for shape in known} == {"traced"}, "the relay sees results"
    # Counts need keys that were seen to flow; lookups are known from their repetition.
    for name in ("traces", "log"):
        told = known & set(loops[name])
        assert len(told) >= len(known) - 1 and {loops[name][shape] for shape in told} == {
            "repeated"
        }


def test_what_each_does_not_see_is_left_open(seen: dict[str, Path]) -> None:
    def one(name: str) -> list[object]:
        read = askless.read(seen[name], values=True)
        found = next(
            query
            for query in read.queries
            if "FROM vessel" in " ".join(query.statement.split()) and "%" not in query.parameters
        )
        return [
            found.rows is not None,
            found.bytes > 0,
            bool(found.parameters),
            bool(found.file),
            bool(found.relation),
            found.duration_ms > 0,
        ]

    #                   rows   bytes  parameters  line   relation  time
    assert one("app") == [True, True, True, True, True, True]
    assert one("relay") == [True, True, True, False, False, True]
    assert one("log") == [False, False, True, False, False, True]
    traces = one("traces")
    assert traces[1] is traces[4] is False and traces[5] is True
