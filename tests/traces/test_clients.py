"""Clients of OpenTelemetry that are not ours, against a real PostgreSQL: Node with http and pg,
Django with psycopg.
"""

from __future__ import annotations

import os
import socket
import subprocess
import sys
import textwrap
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

import askless
from tests import servers
from tests.conftest import ASKLESS, findings
from tests.output.conftest import NODE
from tests.traces.test_receiving import receiver

CALLS = 6
SETTING_UP = """
CREATE TABLE vessel (id int PRIMARY KEY, name text);
CREATE TABLE port_call (id int PRIMARY KEY, vessel_id int);
INSERT INTO vessel SELECT n, 'Tern ' || n FROM generate_series(9001, 9040) n;
INSERT INTO port_call SELECT n, 9000 + n FROM generate_series(1, 40) n;
"""


@pytest.fixture(scope="module")
def office() -> Iterator[servers.Server]:
    with servers.postgresql() as server:
        with server.connect("postgres") as connection:
            connection.execute(SETTING_UP)
        yield server


def free_port() -> int:
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        return int(free.getsockname()[1])


NODE_OFFICE = """
const { NodeSDK } = require('@opentelemetry/sdk-node');
const { HttpInstrumentation } = require('@opentelemetry/instrumentation-http');
const { PgInstrumentation } = require('@opentelemetry/instrumentation-pg');
const options = {};
if (process.argv[3] === 'json') {
  const { OTLPTraceExporter } = require('@opentelemetry/exporter-trace-otlp-http');
  options.traceExporter = new OTLPTraceExporter();
}
const pgOptions = { enhancedDatabaseReporting: process.argv[4] === 'values' };
const sdk = new NodeSDK({ instrumentations: [new HttpInstrumentation(), new PgInstrumentation(pgOptions)], ...options });
sdk.start();
const http = require('http');
const { Pool } = require('pg');
const pool = new Pool({ host: '127.0.0.1', port: +process.env.PGPORT, user: 'harbour', database: 'postgres' });
const stopped = () => sdk.shutdown().then(() => process.exit(0));
process.on('SIGTERM', stopped);
process.on('SIGINT', stopped);
http.createServer(async (request, response) => {
  const { rows } = await pool.query('SELECT id, vessel_id FROM port_call ORDER BY id LIMIT CALLS');
  const names = [];
  for (const call of rows) {
    const found = await pool.query('SELECT name FROM vessel WHERE id = $1', [call.vessel_id]);
    names.push(found.rows[0].name);
  }
  response.end(JSON.stringify(names));
}).listen(+process.argv[2], '127.0.0.1');
""".replace("CALLS", str(CALLS))


def node(office: servers.Server, tmp_path: Path, transport: str, values: str = "") -> list[Any]:
    """What is captured of a Node program that is visited three times."""
    script, port = tmp_path / "office.js", free_port()
    script.write_text(NODE_OFFICE)
    done = subprocess.run(
        [*ASKLESS, "capture", "otlp", "-o", tmp_path / "calls", "--visit", f"http://127.0.0.1:{port}/calls/due",
         "--", "node", script, str(port), transport, values],
        capture_output=True, text=True, timeout=240, check=False,
        env={**os.environ, "NODE_PATH": str(NODE), "PGPORT": str(office.port)},
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    return [
        one
        for one in askless.read(tmp_path / "calls", values=True).queries
        if "FROM" in one.statement
    ]


@pytest.mark.parametrize("transport", ["protobuf", "json"])
def test_node_with_http_and_pg(transport: str, office: servers.Server, tmp_path: Path) -> None:
    since = office.mark()
    queries = node(office, tmp_path, transport)
    sent = [one for one in office.statements(since) if "FROM" in one]
    assert len(queries) == len(sent) and len(queries) % (CALLS + 1) == 0
    by_request = Counter(one.request for one in queries)
    assert set(by_request.values()) == {CALLS + 1}
    assert {(one.system, one.error) for one in queries} == {("postgresql", "")} and all(
        one.duration_ms > 0 for one in queries
    )
    (found,) = [one for one in findings(tmp_path / "calls") if "vessel" in one["tables"]]
    assert (found["pattern"], found["evidence"]) == ("n-plus-one", "repeated")
    assert "enhancedDatabaseReporting" in str(found)


def test_node_tells_parameters_where_it_is_told_to(office: servers.Server, tmp_path: Path) -> None:
    queries = node(office, tmp_path, "protobuf", "values")
    looked_up = [one.parameters.strip("'") for one in queries if "vessel WHERE" in one.statement]
    assert Counter(looked_up) == {
        str(9000 + n): len(looked_up) // CALLS for n in range(1, CALLS + 1)
    }
    (found,) = [one for one in findings(tmp_path / "calls") if "vessel" in one["tables"]]
    assert "enhancedDatabaseReporting" not in str(found)


DJANGO = """
    import sys
    from django.conf import settings
    settings.configure(
        ROOT_URLCONF=__name__, ALLOWED_HOSTS=["*"], USE_TZ=True,
        DATABASES={"default": {"ENGINE": "django.db.backends.postgresql", "NAME": "postgres", "USER": "harbour",
                               "HOST": "127.0.0.1", "PORT": sys.argv[1]}},
    )
    from opentelemetry import trace
    from opentelemetry.exporter.otlp.proto.grpc.trace_exporter import OTLPSpanExporter
    from opentelemetry.instrumentation.django import DjangoInstrumentor
    from opentelemetry.instrumentation.psycopg import PsycopgInstrumentor
    from opentelemetry.sdk.trace import TracerProvider
    from opentelemetry.sdk.trace.export import BatchSpanProcessor
    provider = TracerProvider()
    provider.add_span_processor(BatchSpanProcessor(OTLPSpanExporter(endpoint=sys.argv[2], insecure=True)))
    trace.set_tracer_provider(provider)
    PsycopgInstrumentor().instrument(skip_dep_check=True)
    DjangoInstrumentor().instrument()
    import django
    django.setup()
    from django.db import models
    from django.http import JsonResponse
    from django.test import Client
    from django.urls import path

    class Vessel(models.Model):
        name = models.TextField()
        class Meta:
            app_label, db_table, managed = "office", "vessel", False

    class PortCall(models.Model):
        vessel = models.ForeignKey(Vessel, models.CASCADE)
        class Meta:
            app_label, db_table, managed = "office", "port_call", False

    def due(request, least):
        return JsonResponse({"names": [call.vessel.name for call in PortCall.objects.filter(id__gte=least).order_by("id")[:CALLS]]})

    urlpatterns = [path("calls/<int:least>", due)]
    for least in (1, 11, 21):
        assert Client().get(f"/calls/{least}").status_code == 200
    provider.shutdown()
"""


def test_django_with_psycopg_over_grpc(office: servers.Server, tmp_path: Path) -> None:
    script = tmp_path / "pages.py"
    script.write_text(textwrap.dedent(DJANGO.replace("CALLS", str(CALLS))))
    since = office.mark()
    with receiver(tmp_path / "calls", "--grpc", "127.0.0.1:0") as one:
        words = [sys.executable, script, str(office.port), f"http://127.0.0.1:{one.grpc}"]
        subprocess.run(list(map(str, words)), check=True, timeout=120, capture_output=True)
        one.stop()
    sent = [
        statement
        for statement in office.statements(since)
        if "port_call" in statement or "vessel" in statement
    ]
    capture = askless.read(tmp_path / "calls", values=True)
    queries = [one for one in capture.queries if "FROM" in one.statement]
    assert len(queries) == len(sent) == 3 * (CALLS + 1)
    assert {(row.route, row.queries) for row in capture.requests} == {
        ("GET /calls/{least}", CALLS + 1)
    }
    (found,) = findings(tmp_path / "calls")
    assert (found["pattern"], found["tables"], found["evidence"]) == (
        "n-plus-one",
        ["vessel"],
        "repeated",
    )
