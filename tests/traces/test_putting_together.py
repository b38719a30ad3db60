"""Spans to requests and queries: each case that clients were seen to send, by files of OTLP's JSON."""

from __future__ import annotations

import gzip
import json
import random
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, strategies as st

import askless
from askless.capture.reading import read
from askless.sources.attribution.grouper import GroupingOptions
from askless.sources.attribution.route_templates import template_of
from askless.sources.otlp.decoding import spans_of_json
from askless.sources.otlp.services import Services
from askless.sources.otlp.spans import parameters_of
from askless.sources.otlp.trace_assembly import Traces
from tests.conftest import findings, refused, run
from tests.traces.making import CONSUMER, INTERNAL, LOOK_UP, SERVER, payload, query, server, span

RequestHints = list[tuple[str, list[str]]]


def captured(tmp_path: Path, *spans: dict[str, Any], name: str = "calls", lines: int = 1) -> Path:
    """The capture of a file with these spans, so many to a line."""
    file = tmp_path / f"{name}.jsonl"
    size = -(-len(spans) // lines)
    file.write_text(
        "".join(payload(*spans[at : at + size]) + "\n" for at in range(0, len(spans), size))
    )
    out = tmp_path / name
    ran = run("capture", "otlp", file, "-o", out)
    assert ran.code == 0, ran.err
    return out


def told(capture: Path) -> RequestHints:
    """The requests with the texts of their queries."""
    read = askless.read(capture, values=True)
    queries: dict[str, list[str]] = {}
    for one in read.queries:
        queries.setdefault(one.request, []).append(one.statement)
    return sorted((one.route, queries.get(one.name, [])) for one in read.requests)


def test_a_request_is_the_server_span_and_not_the_trace(tmp_path: Path) -> None:
    """Two requests share a trace; a parent in another service never arrives; the request's span
    comes last.
    """
    spans = [
        query(2, 1, "SELECT 1 FROM berth"), query(4, 3, "SELECT 1 FROM tug", at_ms=210.0),
        server(1, parentSpanId=9, flags=0x300), server(3, at_ms=200.0, route="/tugs"),
    ]  # fmt: skip
    assert told(captured(tmp_path, *spans)) == [
        ("GET /calls/{id}", ["SELECT 1 FROM berth"]),
        ("GET /tugs", ["SELECT 1 FROM tug"]),
    ]


def test_ancestors_are_climbed(tmp_path: Path) -> None:
    """Statements sit under connect and pool spans, and under the application's own; the route may
    are on an inner one.
    """
    plain = span(
        1,
        kind=SERVER,
        name="GET",
        ms=90.0,
        scope="http",
        http__method="GET",
        http__target="/calls/17?x=1",
    )
    spans = [
        plain,
        span(2, 1, kind=INTERNAL, name="dispatch", scope="framework", http__route="/calls/:id"),
        span(3, 2, kind=INTERNAL, name="pool", scope="pool"),
        span(4, 3, name="connect", db__system="postgresql"),
        query(5, 3, "SELECT 1 FROM berth"),
    ]
    assert told(captured(tmp_path, *spans)) == [("GET /calls/{id}", ["SELECT 1 FROM berth"])]
    alone = [plain, query(5, 1, "SELECT 1 FROM berth")]
    assert told(captured(tmp_path, *alone, name="alone")) == [
        ("GET /calls/{id}", ["SELECT 1 FROM berth"])
    ]


@pytest.mark.parametrize(
    "attributes",
    [
        {"db__statement": LOOK_UP, "db__system": "postgresql"},
        {"db__query__text": LOOK_UP, "db__system__name": "postgresql"},
        {
            "db__statement": LOOK_UP,
            "db__query__text": LOOK_UP,
            "db__system": "postgresql",
            "db__system__name": "postgresql",
        },
        {
            "db__statement": LOOK_UP + " /*traceparent='00-01-02-03',route='%%2Fcalls'*/",
            "db__system": "postgresql",
        },
    ],
)
def test_old_names_new_names_and_both(attributes: dict[str, str], tmp_path: Path) -> None:
    old = span(
        1,
        kind=SERVER,
        name="GET",
        ms=50.0,
        http__method="GET",
        http__route="calls/<int:id>",
        http__status_code=404,
    )
    capture = captured(tmp_path, old, span(2, 1, **attributes))
    assert told(capture) == [("GET /calls/{id}", [LOOK_UP])]
    (request,) = askless.read(capture).requests
    assert request.status == 404 and request.kind == "http" and request.duration_ms == 50.0


def test_an_orms_span_and_its_drivers_count_once(tmp_path: Path) -> None:
    """They are siblings of the same text, one encloses the other, from different libraries; starts
    may be cut to the millisecond.
    """
    orm = query(2, 1, LOOK_UP, scope="orm", at_ms=1.2, ms=3.0)
    driver = query(
        3,
        1,
        LOOK_UP + " /*db_driver='psycopg'*/",
        9001,
        scope="driver",
        at_ms=1.0,
        ms=2.5,
        db__response__returned_rows=4,
    )
    nested = query(4, 2, LOOK_UP, scope="lower driver", at_ms=2.0, ms=1.0)
    (one,) = askless.read(captured(tmp_path, server(1), orm, driver, nested), values=True).queries
    assert (one.parameters, one.rows, one.duration_ms) == ("9001", 4, 1.0)
    # Two of one library that overlap were asked at once.
    both = [query(number, 1, LOOK_UP, at_ms=1.0, ms=3.0 - number / 10) for number in (2, 3)]
    assert len(askless.read(captured(tmp_path, server(1), *both, name="both")).queries) == 2


def test_what_is_known_of_a_query(tmp_path: Path) -> None:
    given_ = query(
        2, 1, LOOK_UP, 9001, code__file__path="/app/pages.py", code__line__number=7, code__function__name="page",
        db__response__returned_rows=3, error="relation does not exist",
    )  # fmt: skip
    above = span(
        3,
        1,
        kind=INTERNAL,
        scope="app",
        code__filepath="/app/old.py",
        code__lineno=12,
        code__function="board",
    )
    below = query(4, 3, "INSERT INTO tug_job (id) VALUES ($1)", db__operation__batch__size=30)
    rows = {
        one.number: one
        for one in askless.read(
            captured(tmp_path, server(1), given_, above, below), values=True
        ).queries
    }
    known = next(one for one in rows.values() if one.statement == LOOK_UP)
    assert (known.file, known.line, known.function, known.rows) == ("/app/pages.py", 7, "page", 3)
    assert known.error == "relation does not exist" and known.system == "postgresql"
    other = next(one for one in rows.values() if one is not known)
    assert (other.file, other.line, other.rows) == ("/app/old.py", 12, None)


@pytest.mark.parametrize(
    "attributes, values, names, batch",
    [
        (
            {"db.query.parameter.0": "7", "db.query.parameter.10": 2, "db.query.parameter.1": True},
            ("7", True, 2),
            (),
            0,
        ),
        ({"db.query.parameter.pk_1": 7}, (7,), ("pk_1",), 0),
        ({"db.postgresql.values": ["7", "due"]}, ("7", "due"), (), 0),
        ({"db.statement.parameters": "{'pk_1': 7, 'name': None}"}, (7, None), ("pk_1", "name"), 0),
        ({"db.statement.parameters": "(7, 'it''s', 1.5)"}, (7, "its", 1.5), (), 0),
        ({"db.statement.parameters": "[(1, 'a'), (2, 'b')]"}, (1, "a"), (), 2),
        ({"db.statement.parameters": "(datetime.date(2026, 11, 27),)"}, (), (), 0),
        ({"db.statement.parameters": "nonsense ("}, (), (), 0),
        ({"db.statement.parameters": "7"}, (), (), 0),
        ({}, (), (), 0),
    ],
)
def test_parameters_in_every_form(attributes: Any, values: Any, names: Any, batch: int) -> None:
    found = parameters_of(attributes)
    assert (found.values, found.names, found.batch) == (values, names, batch)


@given(
    st.dictionaries(
        st.sampled_from(
            ["db.statement.parameters", "db.postgresql.values", "db.query.parameter.x"]
        ),
        st.text() | st.integers(),
    )
)
def test_any_parameters_are_read(attributes: dict[str, Any]) -> None:
    found = parameters_of(attributes)
    assert len(found.names) in (0, len(found.values))


def test_row_by_row_without_parameters_is_no_duplicate(tmp_path: Path) -> None:
    """What was given is not known: it may be one row. The finding says so, and which setting would
    tell.
    """
    (found,) = findings(
        captured(tmp_path, server(1), *(query(number, 1, at_ms=number) for number in range(2, 10)))
    )
    assert (found["pattern"], found["evidence"]) == ("n-plus-one", "repeated")
    assert any(
        "capture_parameters=True" in doubt and "enhancedDatabaseReporting" in doubt
        for doubt in found["caveats"]
    )
    keyed = captured(
        tmp_path,
        server(1),
        *(query(n, 1, LOOK_UP, 9000 + n, at_ms=n) for n in range(2, 10)),
        name="keyed",
    )
    (known,) = findings(keyed)
    assert known["pattern"] == "n-plus-one" and not any(
        "parameters were not recorded" in doubt for doubt in known["caveats"]
    )
    same = captured(
        tmp_path,
        server(1),
        *(query(n, 1, LOOK_UP, 9000, at_ms=n) for n in range(2, 10)),
        name="same",
    )
    (again,) = findings(same)
    assert again["pattern"] == "duplicate" and any(
        "results were not recorded" in doubt for doubt in again["caveats"]
    )
    assert "equal results" not in again["evidence_details"][0]


def test_placeholders_of_an_orm_are_the_databases_own(tmp_path: Path) -> None:
    """Django's instrumentation under SQLite tells %s, if the database was sent ?."""
    text = "SELECT \"odd%s\" FROM vessel WHERE id = %s AND name LIKE '50%s' AND rate = 1 %% %(rate)s LIMIT 21"
    spans = [
        server(1),
        *(query(n, 1, text, db__system__name="sqlite", at_ms=n) for n in range(2, 8)),
    ]
    capture = captured(tmp_path, *spans)
    assert (
        told(capture)[0][1]
        == [
            "SELECT \"odd%s\" FROM vessel WHERE id = ? AND name LIKE '50%s' AND rate = 1 % :rate LIMIT 21"
        ]
        * 6
    )
    plain = [
        query(
            n,
            1,
            "SELECT name FROM vessel WHERE id = %s LIMIT 21",
            db__system__name="sqlite",
            at_ms=n,
        )
        for n in range(2, 8)
    ]
    (found,) = findings(captured(tmp_path, server(1), *plain, name="plain"))
    assert found["pattern"] == "n-plus-one" and found["caveats"]


def test_jobs_calls_and_other_services(tmp_path: Path) -> None:
    spans = [
        span(1, kind=CONSUMER, name="process", scope="queue", messaging__destination__name="tug_orders", ms=20.0),
        query(2, 1, "SELECT 1 FROM tug"),
        span(3, kind=SERVER, scope="grpc", rpc__service="harbour.Board", rpc__method="Due", ms=20.0, trace=2),
        query(4, 3, "SELECT 1 FROM berth", trace=2),
        server(5, trace=3, service="billing", route="/bills"), query(6, 5, "SELECT 1 FROM tariff", trace=3, service="billing"),
    ]  # fmt: skip
    capture = captured(tmp_path, *spans)
    assert [route for route, _ in told(capture)] == [
        "GET /bills",
        "harbour.Board/Due",
        "job tug_orders",
    ]
    assert {one.kind for one in askless.read(capture).requests} == {"job", "call", "http"}
    assert len(list(capture.iterdir())) == 2, "a file a service"


def test_parents_that_never_come(tmp_path: Path) -> None:
    """A lost span between: the only request that ran meanwhile; no request at all: together by
    their trace; one alone: a pause.
    """
    lost = [server(1), query(2, 77, "SELECT 1 FROM berth", at_ms=5.0)]
    capture = captured(tmp_path, *lost)
    assert told(capture) == [("GET /calls/{id}", ["SELECT 1 FROM berth"])]
    assert "have a parent that never arrived" in run("requests", capture).err
    alone = [query(2, 77, "SELECT 1 FROM berth"), query(3, 77, "SELECT 1 FROM tug", at_ms=5.0)]
    assert told(captured(tmp_path, *alone, name="alone")) == [
        ("a trace without its request", ["SELECT 1 FROM berth", "SELECT 1 FROM tug"])
    ]
    roots = [
        query(number, 0, "SELECT 1 FROM berth", trace=number, at_ms=1000.0 * number)
        for number in (1, 2)
    ]
    assert [texts for _, texts in told(captured(tmp_path, *roots, name="roots"))] == [
        ["SELECT 1 FROM berth"]
    ] * 2


def test_other_languages_are_left_out(tmp_path: Path) -> None:
    capture = captured(
        tmp_path,
        server(1),
        query(2, 1, "GET calls", db__system__name="redis"),
        query(3, 1, "SELECT 1 FROM tug"),
    )
    assert told(capture) == [("GET /calls/{id}", ["SELECT 1 FROM tug"])]
    assert "1 statement of unsupported database systems skipped" in run("requests", capture).err


def test_hosts_users_and_command_lines_are_not_kept(tmp_path: Path) -> None:
    spans = [
        server(1, user_agent__original="SECRET", client__address="SECRET"),
        query(2, 1, server__address="SECRET", db__user="SECRET"),
    ]
    capture = captured(tmp_path, *spans)
    assert "SECRET" not in "".join(file.read_text() for file in capture.iterdir())
    assert all(file.stat().st_mode & 0o777 == 0o600 for file in capture.iterdir())


PAGES = [
    one
    for trace in range(1, 6)
    for one in [
        *(
            query(100 * trace + n, 100 * trace, LOOK_UP, n, trace=trace, at_ms=n + 200.0 * trace)
            for n in range(1, 5)
        ),
        query(
            100 * trace + 9,
            100 * trace + 8,
            "SELECT 1 FROM tug",
            trace=trace,
            at_ms=200.0 * trace + 8,
        ),
        span(
            100 * trace + 8,
            100 * trace,
            kind=INTERNAL,
            trace=trace,
            scope="app",
            at_ms=200.0 * trace,
        ),
        server(100 * trace, trace=trace, at_ms=200.0 * trace),
    ]
]


@given(st.randoms(use_true_random=False), st.integers(1, 12))
def test_any_order_and_any_batches_give_the_same(dice: random.Random, lines: int) -> None:
    from tempfile import TemporaryDirectory

    with TemporaryDirectory() as folder:
        spans = list(PAGES)
        dice.shuffle(spans)
        found = told(captured(Path(folder), *spans, lines=lines))
    assert found == [("GET /calls/{id}", [*[LOOK_UP] * 4, "SELECT 1 FROM tug"])] * 5


def test_files_in_every_form(tmp_path: Path) -> None:
    from opentelemetry.proto.collector.trace.v1.trace_service_pb2 import ExportTraceServiceRequest

    from askless.sources.otlp.decoding import spans_of_json

    text = payload(*PAGES)
    message = ExportTraceServiceRequest()
    for of in spans_of_json(text).spans:
        resource = message.resource_spans.add()
        resource.resource.attributes.add(key="service.name").value.string_value = of.service
        scope = resource.scope_spans.add()
        scope.scope.name = of.scope
        made = scope.spans.add(
            trace_id=of.trace, span_id=of.id, parent_span_id=of.parent, name=of.name, kind=of.kind,
            start_time_unix_nano=of.start_ns, end_time_unix_nano=of.end_ns,
        )  # fmt: skip
        for key, value in of.attributes.items():
            pair = made.attributes.add(key=key)
            if isinstance(value, int):
                pair.value.int_value = value
            else:
                pair.value.string_value = value
    raw = message.SerializeToString()
    forms = {
        "pretty.json": json.dumps(json.loads(text), indent=2).encode(),
        "one.jsonl": text.encode() + b"\n",
        "packed.jsonl.gz": gzip.compress(text.encode()),
        "one.pb": raw,
        "many.pb": len(raw).to_bytes(4, "big") + raw,
    }
    expected = [("GET /calls/{id}", [*[LOOK_UP] * 4, "SELECT 1 FROM tug"])] * 5
    for name, content in forms.items():
        (tmp_path / name).write_bytes(content)
        ran = run("capture", "otlp", tmp_path / name, "-o", tmp_path / f"from-{name}")
        assert ran.code == 0 and told(tmp_path / f"from-{name}") == expected, (name, ran.err)
    torn = tmp_path / "torn.jsonl"
    torn.write_text(text + "\n" + text[:400])
    assert (
        run("capture", "otlp", torn, "-o", tmp_path / "from-torn").code == 0
        and told(tmp_path / "from-torn") == expected
    )


def test_files_that_are_none(tmp_path: Path) -> None:
    good = payload(*PAGES)
    for name, content, word in (
        ("text.jsonl", b"SELECT 1\n", "holds no spans"),
        ("binary.pb", bytes(range(256)) * 4, "holds no spans"),
        ("cut.gz", gzip.compress(good.encode())[:-30], "could not be decompressed completely"),
    ):
        (tmp_path / name).write_bytes(content)
        ran = run("capture", "otlp", tmp_path / name, "-o", tmp_path / f"from-{name}")
        assert ran.code == 2 and word in ran.err and "Traceback" not in ran.err, (name, ran.err)
    assert (
        "can't read" in run("capture", "otlp", tmp_path / "nowhere.json", "-o", tmp_path / "a").err
    )
    assert "can't read" in run("capture", "otlp", tmp_path, "-o", tmp_path / "b").err


ODD = {
    "a line": (b"{]", "line 2"),
    "an id": (b'{"resourceSpans": [{"scopeSpans": [{"spans": [{"traceId": 7}]}]}]}', "TypeError"),
    "a time": (b'{"resourceSpans": [{"scopeSpans": [{"spans": [{"traceId": "aa", "startTimeUnixNano": "%s"}]}]}]}' % (b"9" * 400), "64-bit"),
}  # fmt: skip


@pytest.mark.parametrize("odd", ODD)
def test_what_cant_be_read_costs_itself_and_is_counted(odd: str, tmp_path: Path) -> None:
    good, (line, word) = payload(*PAGES).encode() + b"\n", ODD[odd]
    (tmp_path / "broken.jsonl").write_bytes(good + line + b"\n")
    ran = run("capture", "otlp", tmp_path / "broken.jsonl", "-o", tmp_path / "c")
    assert ran.code == 0 and "1 spans lost" in " ".join(ran.err.split()), ran.err
    assert len(told(tmp_path / "c")) == 5
    checked = run("capture", "check", tmp_path / "c")
    assert checked.code == 1 and "incomplete" in checked.out and word in checked.out
    refused(run("findings", tmp_path / "c", "--fail-on", "urgent"), "incomplete", "--allow-damaged")
    assert run("findings", tmp_path / "c", "--fail-on", "urgent", "--allow-damaged").code in (0, 1)


ATTRIBUTES = [
    ("db.query.parameter.²", "x"), ("db.response.returned_rows", float("inf")), ("db.response.returned_rows", float("nan")),
    ("db.response.returned_rows", 10**18), ("db.operation.batch.size", -5), ("db.query.parameter." + "9" * 5000, "x"),
    ("code.line.number", "9" * 5000), ("http.response.status_code", 2**62), ("code.file.path", "\x00"),
]  # fmt: skip


@pytest.mark.parametrize("name, value", ATTRIBUTES)
def test_attributes_that_nobody_expects(name: str, value: object, tmp_path: Path) -> None:
    from askless.sources.attribution.grouper import GroupingOptions
    from askless.sources.otlp.services import Services
    from askless.sources.otlp.spans import Span
    from askless.sources.otlp.trace_assembly import Traces

    services = Services(tmp_path, GroupingOptions())
    traces = Traces(services.target, 1, 1)
    attributes = {
        "db.query.text": "SELECT 1 FROM vessel WHERE id = ?",
        "db.system.name": "postgresql",
        name: value,
    }
    traces.add([Span(b"t", b"r", b"", "GET /", 2, 1, 9, {name: value}, "", "office"), Span(b"t", b"q", b"r", "q", 3, 2, 3, attributes, "pg", "office")], 0)  # fmt: skip
    traces.close()
    services.close(traces)
    assert traces.broken == 0 and [len(request) for request in read(tmp_path)] == [1]


def test_options_that_make_no_sense(tmp_path: Path) -> None:
    refused(
        run("capture", "otlp", "-o", tmp_path / "x", "--listen", "0.0.0.0:4318"),
        "reachable from other machines",
        "--allow-remote",
    )
    refused(run("capture", "otlp", "-o", tmp_path / "x", "--listen", "nonsense"), "HOST:PORT")
    refused(
        run("capture", "otlp", "-o", tmp_path / "x", "--visit", "http://127.0.0.1:1/"),
        "needs a program",
    )
    refused(
        run("capture", "otlp", "a.json", "-o", tmp_path / "x", "--", "true"),
        "either files or a program",
    )


@pytest.mark.parametrize(
    "pattern, template",
    [
        ("/calls/<int:id>", "/calls/{id}"),
        ("calls/<slug:name>/", "/calls/{name}/"),
        ("/calls/:id", "/calls/{id}"),
        ("/calls/:id(\\d+)/tugs/:tug?", "/calls/{id}/tugs/{tug}"),
        ("/calls/{number:int}", "/calls/{number}"),
        ("^calls/(?P<pk>[0-9]+(?:-x)?)/$", "/calls/{pk}/"),
        ("/calls/{id}", "/calls/{id}"),
        ("", "/"),
        ("*", "*"),
    ],
)
def test_patterns_of_routes(pattern: str, template: str) -> None:
    assert template_of(pattern) == template


def test_a_program_is_not_stopped_while_a_request_may_still_come(tmp_path: Path) -> None:
    """Its queries may arrive in a batch before it."""
    services = Services(tmp_path, GroupingOptions())
    traces = Traces(services.target, 10**9, 10**9)
    first = [server(1), query(2, 1, "SELECT 1 FROM berth")]
    second = [query(4, 3, "SELECT 1 FROM tug", at_ms=210.0, trace=2)]
    for turn, spans in enumerate((first, second, [server(3, at_ms=200.0, trace=2)])):
        traces.add(spans_of_json(payload(*spans)).spans, turn)
        assert traces.has_seen(1) is (turn != 1), turn
    traces.close()
    services.close(traces, 0, "")
