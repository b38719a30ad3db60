"""What a new source, format, system or pattern costs: each of these is added here as someone else
would add it.
"""

from __future__ import annotations

import argparse
import json
import sys
import types
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import msgspec
import pytest
from hypothesis import given, strategies as st

from askless import sources
from askless.capture.checking import check
from askless.capture.reading import read
from askless.capture.writing import CaptureWriter
from askless.core import patterns, plans, systems
from askless.core.errors import AskLessError
from askless.core.findings.finding import Cost
from askless.core.findings.remedies import Paginate
from askless.core.patterns.base import ByTotals, Diagnosis, FindingDraft, Match, Rule
from askless.core.plans import tree
from askless.core.plans.tree import Node
from askless.core.records.model import CallSite, Load, Model, Relation, Request, Used
from askless.core.records.request_builder import LiveRequestBuilder
from askless.core.records.traffic import QuerySeen, RequestBegan, RequestEnded
from askless.core.sql.structure import Structure
from askless.core.systems import sqlite as sqlite_system
from askless.database import servers
from askless.database.servers.sqlite import Sqlite
from askless.output import delivery, formats, registry
from askless.reports.findings import findings as findings_report
from askless.reports.requests import by_route
from askless.sources.attribution.request_facts import UNCLAIMED, RequestAttribution, RequestHints
from tests.conftest import findings, run


@pytest.fixture
def module(monkeypatch: pytest.MonkeyPatch) -> Any:
    """Makes a module of a name, as a file of it would be one."""

    def made(name: str, **contents: Any) -> str:
        fresh = types.ModuleType(name)
        fresh.__dict__.update(contents)
        monkeypatch.setitem(sys.modules, name, fresh)
        return name

    return made


class TideGauge:
    """A source that reads a made-up log: one JSON object a line, with the request's mark where
    there is one.
    """

    name = "gauge"
    help = "read the log of the tide gauge"
    examples = "  askless capture gauge -o calls --log gauge.log"
    nothing = "the gauge has seen nothing"
    options = (
        sources.Option("--log", "the log", "FILE", Path),
        sources.Option("--least", "leave out shorter queries", "MS", float, 0.0),
        sources.Option("--quiet", "say nothing", bare=True),
    )

    def check(self, values: Any) -> None:
        assert values["log"].is_file()

    def run(self, values: Any, folder: Path, voice: sources.Reporter) -> sources.RecordingResult:
        writer = CaptureWriter(folder / "gauge.jsonl", "gauge", "postgresql")
        grouping = RequestAttribution(writer)
        for line in values["log"].read_text().splitlines():
            entry = json.loads(line)
            if entry["ms"] < values["least"]:
                continue
            event = QuerySeen(
                entry["sql"],
                entry["at"],
                int(entry["ms"] * 1e6),
                1,
                8,
                parameters=tuple(entry["keys"]),
            )
            grouping.query(
                RequestHints(entry["session"], entry.get("page"), entry.get("page", "")), event
            )
        grouping.close()
        writer.note("the gauge was read")
        writer.close()
        if not values["quiet"]:
            voice.note("read the gauge")
        return sources.RecordingResult()


def test_a_source_is_a_file_and_a_line(
    module: Any, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    monkeypatch.setitem(sources.REGISTRY, "gauge", module("gauge_source", SOURCE=TideGauge()))
    log = tmp_path / "gauge.log"
    entries = [{"session": 1, "sql": "SELECT name FROM berth WHERE id = $1", "at": n * 1000, "ms": 1.5, "keys": [n], "page": "GET /b"}
               for n in range(9)]  # fmt: skip
    entries.append({"session": 2, "sql": "SELECT 2 + 2 FROM berth", "at": 9, "ms": 0.1, "keys": []})
    log.write_text("\n".join(map(json.dumps, entries)))
    words = ["capture", "gauge", "-o", tmp_path / "calls", "--log", log]
    ran = run(*words)
    assert (
        ran.code == 0
        and "read the gauge" in ran.err
        and "Recorded 10 queries of 2 requests" in ran.err
    )
    assert [(f["pattern"], f["route"]) for f in findings(tmp_path / "calls")] == [
        ("n-plus-one", "GET /b")
    ]
    assert [request.route for request in read(tmp_path / "calls")] == ["GET /b", UNCLAIMED]
    words[3] = tmp_path / "longer"
    ran = run(*words, "--least", "1", "--quiet")
    assert "read the gauge\n" not in ran.err and "Recorded 9 queries of 1 request" in ran.err
    assert (
        "--least MS" in run("capture", "gauge", "--help").out
        and "gauge" in run("capture", "--help").out
    )


class Tide:
    """A format that no one else reads."""

    def check(self) -> None:
        return None

    def render(self, document: Any, view: formats.View) -> bytes:
        return "".join(f"~ {one.route} ~ {one.pattern}\n" for one in document.findings).encode()


def test_a_format_is_a_file_and_a_line(
    module: Any, monkeypatch: pytest.MonkeyPatch, pages: Any, tmp_path: Path
) -> None:
    """Through the command line: its help, its output, and what it does not show."""
    entry = registry.Entry(
        module("tide_format", FORMATS={"tide": Tide()}), ("findings",), ("findings",)
    )
    monkeypatch.setitem(registry.REGISTRY, "tide", entry)
    assert "tide" in run("findings", "--help").out and "tide" not in run("gate", "--help").out
    ran = run("findings", pages["grown"], "--format", "tide")
    expected = [f"~ {one['route']} ~ {one['pattern']}" for one in findings(pages["grown"])]
    assert ran.code == 0 and ran.out.splitlines() == expected and len(expected) >= 8
    assert run("gate", pages["grown"], "--format", "tide").code == 2
    target = tmp_path / "findings.tide"
    delivery.to_file(findings_report(pages["grown"]), target)
    assert target.read_text() == ran.out
    with pytest.raises(AskLessError, match="requests can't be written"):
        delivery.to_file(by_route(pages["grown"]), target)
    with pytest.raises(AskLessError, match="no format 'jso'") as caught:
        formats.format_of("jso")
    assert caught.value.remedy == "did you mean json?"
    with pytest.raises(AskLessError, match="tide does not show requests"):
        delivery.to_stdout(by_route(pages["tuned"]), "tide")


def test_a_file_is_whole_or_as_it_was(
    tmp_path: Path, pages: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    document, target = by_route(pages["tuned"]), tmp_path / "routes.json"
    delivery.to_file(document, target)
    assert (
        json.loads(target.read_text())["format"] == "askless requests"
        and target.stat().st_mode & 0o777 == 0o600
    )

    def full(self: Path, other: Path) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(Path, "replace", full)
    target.write_text("as it was")
    with pytest.raises(AskLessError, match="No space left"):
        delivery.to_file(document, target)
    assert target.read_text() == "as it was" and list(tmp_path.iterdir()) == [target], (
        "nothing half done stays"
    )


QUAY = msgspec.structs.replace(
    sqlite_system.SYSTEM,
    name="quay",
    title="Quay",
    quote="'",
    noise=r"tide\b",
    partial_indexes=False,
)


class Quay(Sqlite):
    """A system that no one has: SQLite under another name, with a plan format of its own."""

    def engine(self, url: Any, limits: Any) -> Any:
        engine = super().engine(url.set(drivername="sqlite"), limits)
        engine.dialect.name = "quay"  # as a dialect of its own would call itself
        return engine

    def system(self, connection: Any) -> str:
        return "quay"


def is_quay(text: str) -> bool:
    return text.startswith("QUAY ")


def read_quay(text: str) -> tuple[Node, ...]:
    return (Node(tree.FULL_SCAN, text, table=text.split()[1]),)


@pytest.fixture
def quay(module: Any, monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """The made-up system, registered: its data, what it does, and its plans."""
    monkeypatch.setitem(systems.REGISTRY, "quay", module("quay_system", SYSTEM=QUAY))
    monkeypatch.setitem(servers.SERVERS, "quay", module("quay_server", SERVER=Quay()))
    monkeypatch.setitem(plans.SAVED, "Quay's plan", ("quay", module("quay_plans", is_quay=is_quay, read_quay=read_quay), "is_quay", "read_quay"))  # fmt: skip
    systems.system_of.cache_clear()
    systems.noise_of.cache_clear()
    yield
    systems.system_of.cache_clear()
    systems.noise_of.cache_clear()


@pytest.mark.usefixtures("quay")
def test_a_system_is_its_data_and_what_it_does(harbour: Path, tmp_path: Path) -> None:
    from askless.core.records.index_ddl import create_index
    from askless.core.sql.shape import shape_of

    assert (
        shape_of("TIDE now", "quay").noise
        and create_index("n", "order", ["a"], "quay") == "CREATE INDEX n ON 'order' (a)"
    )
    url = f"quay:///{harbour}"
    assert run("tables", "--db", url, "--json").json["system"] == "quay"
    planned = run(
        "plan", "--db", url, "--sql", "SELECT * FROM port_call WHERE status = 'due'", "--json"
    )
    assert (
        planned.json["system"] == "quay"
        and planned.json["statements"][0]["plan"][0]["table"] == "port_call"
    )
    saved = tmp_path / "plan.txt"
    saved.write_text("QUAY vessel")
    read_back = run("plan", "--file", saved, "--json").json
    assert (
        read_back["system"] == "quay" and read_back["statements"][0]["plan"][0]["table"] == "vessel"
    )
    assert (
        run(
            "weigh",
            "--db",
            url,
            "--sql",
            "SELECT id FROM vessel WHERE flag = 'NO' ORDER BY name",
            "--json",
        ).json["system"]
        == "quay"
    )


class Sixes(ByTotals):
    """A pattern that no one needs: lists of six rows."""

    rule = Rule("sixes", "lists of six", "six rows", "five and seven", "minor")

    def worth_parsing(self, stats: Any, context: Any) -> bool:
        return bool(stats.rows_most == 6)

    def judge_shape(self, met: Match, structure: Structure) -> Diagnosis | None:
        claim = FindingDraft(
            title="six", severity="minor", evidence="repeated", evidence_details=(), cost=Cost()
        )
        return Diagnosis(
            met.finding(self.rule, claim), Paginate(stats=met.stats, line=met.line, saving="none")
        )


def test_a_pattern_is_a_file_and_a_line(
    module: Any, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    monkeypatch.setitem(patterns.REGISTRY, "sixes", module("sixes", PATTERN=Sixes()))
    path = tmp_path / "made.jsonl"
    writer = CaptureWriter(path, "test", "sqlite")
    writer.request_began(RequestBegan(1, "GET /six", 0))
    writer.queries(1, [QuerySeen("SELECT id FROM vessel", 1, 5, rows=6, bytes=48)])
    writer.request_ended(RequestEnded(1, 9))
    writer.close()
    assert [f["pattern"] for f in findings(path)] == ["sixes"]
    assert [f["pattern"] for f in findings(path, "--pattern", "sixes")] == ["sixes"]


# One query with everything that a capture can hold, in any mixture.
LOADS = st.builds(Load, st.just("django"), st.sampled_from(["lazy", "query"]), st.text(max_size=4), st.text(max_size=4), st.text(max_size=4), st.booleans())  # fmt: skip
PLACES = st.recursive(
    st.builds(CallSite, st.text(max_size=6), st.integers(1, 99), st.text(max_size=6)),
    lambda caller: st.builds(
        CallSite, st.text(max_size=6), st.integers(1, 99), st.text(max_size=6), caller
    ),
    max_leaves=3,
)
TEXTS = st.sampled_from(
    [
        "SELECT 1",
        "SELECT a FROM t WHERE id = 7",
        "SELECT a FROM t WHERE id = 8",
        "SELECT a FROM t WHERE id = ?",
    ]
)
QUERIES = st.builds(
    QuerySeen, TEXTS, st.integers(0, 10**12), st.integers(0, 10**9), rows=st.integers(-1, 99), bytes=st.integers(0, 9999),
    digest=st.integers(0, 2**32), place=st.none() | PLACES, load=st.none() | LOADS, connection=st.integers(0, 3),
    in_transaction=st.booleans(), thread=st.integers(0, 3), parameters=st.tuples(st.integers(), st.text(max_size=3)),
    columns=st.just(("a", "b")), sampled=st.just((0,)), sample=st.none() | st.just(((1,), (None,))),
    widths=st.just(()) | st.just((3, 4)), error=st.sampled_from(["", "gone"]), batch=st.integers(0, 3),
    uses=st.just(()) | st.just((Used("Vessel", 3, 1, {"vessel.id": 1}, {}),)),
)  # fmt: skip
MODEL = Model(
    "django",
    "Vessel",
    "vessel",
    ("id",),
    {"id": "pk"},
    {"calls": Relation("calls", "PortCall", True, ("id",), ("vessel_id",))},
)


def whole(request: Request) -> list[Any]:
    """All that a request knows of each of its queries."""
    cold = zip(
        request.starts_ns, request.digests, request.connections, request.in_transaction, request.threads,
        map(tuple, request.parameters), request.samples, strict=True,
    )  # fmt: skip
    return [
        (request.text(i), request.durations_ns[i], request.rows[i], request.bytes[i], request.place(i), request.load(i),
         list(request.widths.get(i, ())), request.errors.get(i, ""), request.batches.get(i, 0), request.uses.get(i, []),
         request.statement(i).columns, request.statement(i).sampled, *rest)
        for i, rest in enumerate(cold)
    ]  # fmt: skip


@given(st.lists(st.lists(QUERIES, min_size=1, max_size=4), max_size=3))
def test_live_traffic_and_a_capture_of_it_are_one(pieces: list[list[QuerySeen]]) -> None:
    """What is reported comes out whole, put together in memory as well as by way of a file."""
    import tempfile

    # as a receiver may expect
    pieces = [sorted(piece, key=lambda event: event.start_ns) for piece in pieces]
    with tempfile.TemporaryDirectory() as folder:
        live: list[Request] = []
        path = Path(folder) / "traffic.jsonl"
        writer, assembler = (
            CaptureWriter(path, "test", "sqlite"),
            LiveRequestBuilder("sqlite", live.append),
        )
        for receiver in (writer, assembler):
            receiver.model(MODEL)
            receiver.note("a note")
            receiver.request_began(RequestBegan(5, "GET /a", 3, "command", 2, "/a?b", True))
            for piece in pieces:
                receiver.queries(5, piece)
            receiver.request_ended(RequestEnded(5, 10**13, "GET /b", 404))
        writer.close()
        (report,) = check(path)
        assert report.bad_lines == [] and report.notes == assembler.notes == ["a note"]
        (saved,) = read(path)
        (held,) = live
        told = sorted(
            (event for piece in pieces for event in piece), key=lambda event: event.start_ns
        )
        assert whole(saved) == whole(held) and [saved.text(i) for i in range(len(saved))] == [
            event.text for event in told
        ]
        for request in (saved, held):
            assert [request.place(i) for i in range(len(request))] == [
                event.place for event in told
            ]
            assert [request.load(i) for i in range(len(request))] == [event.load for event in told]
            assert request.starts_ns == [event.start_ns for event in told]
            assert (request.kind, request.route, request.path, request.status, request.warm_up, request.end_ns) == (
                "command", "GET /b", "/a?b", 404, True, 10**13,
            )  # fmt: skip
            assert request.tables.models == {("django", "Vessel"): MODEL}


def test_which_request_a_query_belongs_to() -> None:
    live: list[Request] = []
    grouping = RequestAttribution(LiveRequestBuilder("sqlite", live.append))

    def ask(number: int, told: RequestHints) -> None:
        grouping.query(told, QuerySeen(f"SELECT {number}", number * 10, 5))

    ask(1, RequestHints("a"))  # no one's
    grouping.begin("one", "GET /one", 15, session="a")
    ask(2, RequestHints("a"))  # the request holds the session
    ask(3, RequestHints("b", "two", "GET /two"))  # names its own request, which no one announced
    ask(4, RequestHints("b"))  # its COMMIT does not
    ask(5, RequestHints("c", "one"))  # over another connection
    grouping.end("one", 60, 200)
    ask(6, RequestHints("a"))  # the session is free again: no one's, as before
    grouping.end("never", 70)
    grouping.session_ended("a", 80)
    grouping.close()
    assert {request.route: [request.text(i) for i in range(len(request))] for request in live} == {
        "GET /one": ["SELECT 2", "SELECT 5"], "GET /two": ["SELECT 3", "SELECT 4"], UNCLAIMED: ["SELECT 1", "SELECT 6"],
    }  # fmt: skip
    assert [(r.route, r.status, r.end_ns) for r in live] == [
        ("GET /one", 200, 60),
        (UNCLAIMED, 0, 80),
        ("GET /two", 0, 45),
    ]


def test_options_become_plain_values() -> None:
    """What an argument parser gives never leaves the command line."""
    for name in ("reports", "output", "sources", "core", "capture", "database", "project"):
        for path in (Path(__file__).parents[1] / "src" / "askless" / name).rglob("*.py"):
            assert argparse.Namespace.__name__ not in path.read_text(), path
