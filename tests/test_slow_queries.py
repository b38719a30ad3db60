"""Time: the slower the queries, the more is found, and what runs at the same time counts once."""

from __future__ import annotations

import contextlib
import sqlite3
from pathlib import Path

import msgspec
import pytest
from hypothesis import given, strategies as st

from askless.capture.writing import CaptureWriter
from askless.core.records.intervals import at_once, overlap_ns, union_ns
from askless.core.records.model import Wait
from askless.core.records.traffic import RequestBegan, RequestEnded
from tests.conftest import findings, refused, run
from tests.test_traffic import Made

TARIFF = "SELECT id, rate FROM tariff WHERE class = $1"
COUNT = "SELECT count(*) FROM port_call WHERE status = $1"
S = 1_000_000_000


def patterns(request: Made, kind: str) -> list[str]:
    writer = CaptureWriter(request.path, "test", request.system)
    writer.request_began(RequestBegan(1, request.route, 0, kind))
    writer.queries(1, request.rows)
    if request.errands:
        writer.errands(1, request.errands)
    last = request.rows[-1]
    writer.request_ended(RequestEnded(1, last.start_ns + last.duration_ns + 1_000_000))
    writer.close()
    return [finding["pattern"] for finding in findings(request.path)]


def repeated(folder: Path, query_s: float, pause_s: float, times: int = 3) -> Made:
    made = Made(folder, "postgresql")
    for _ in range(times):
        gap_ms = (query_s + pause_s) * 1e3
        made.ask(TARIFF, "A", digest=7, gap_ms=gap_ms, duration_ns=int(query_s * S))
    return made


def counted(folder: Path, query_s: float) -> Made:
    made = Made(folder, "postgresql")
    for status in ("due", "in", "out", "gone"):
        gap_ms = query_s * 1e3 + 1
        made.ask(COUNT, status, gap_ms=gap_ms, duration_ns=int(query_s * S), columns=("count",))
    return made


@pytest.mark.parametrize("query_s", [0.001, 0.16, 0.6, 6.0])
@pytest.mark.parametrize("kind", ["http", "job", "program"])
def test_the_same_read_again_is_found_however_slow(
    tmp_path: Path, kind: str, query_s: float
) -> None:
    assert patterns(repeated(tmp_path, query_s, 0.001), kind) == ["duplicate"]


@pytest.mark.parametrize("query_s", [0.001, 0.16, 4.0])
def test_counts_for_each_constant_are_found_however_slow(tmp_path: Path, query_s: float) -> None:
    assert patterns(counted(tmp_path, query_s), "http") == ["sibling-filters"]


def test_polling_is_a_pause_of_a_program_or_a_sleep(tmp_path: Path) -> None:
    for number, kind in enumerate(("http", "job", "program", "marked")):
        (tmp_path / str(number)).mkdir()
        paused = repeated(tmp_path / str(number), 0.01, 0.8)
        expected = ["duplicate"] if kind in ("http", "job") else []
        assert patterns(paused, kind) == expected, f"a page that works in between: {kind}"
    sleeping = repeated(tmp_path, 0.01, 0.8)
    for row in sleeping.rows:
        end_ns = row.start_ns + row.duration_ns
        sleeping.errands.append(Wait("sleep", "", end_ns + 1_000, 700_000_000))
    assert patterns(sleeping, "http") == [], "it waits for something to change"


def together(folder: Path, query_ms: int, times: int = 10) -> Made:
    """Lookups that all run at the same time, after the query that gives their keys."""
    made = Made(folder, "postgresql")
    sample = tuple((700 + i, 9000 + 3 * i) for i in range(times))
    made.ask(
        "SELECT id, vessel_id FROM port_call",
        rows=times,
        columns=("id", "vessel_id"),
        sample=sample,
    )
    for i in range(times):
        made.ask(
            "SELECT id, name FROM vessel WHERE id = $1",
            9000 + 3 * i,
            gap_ms=1 if i == 0 else 0.1,
            duration_ns=query_ms * 1_000_000,
        )
    return made


def test_queries_at_the_same_time_count_once(tmp_path: Path) -> None:
    """Ten of 190 ms, all within 192 ms: one of them takes as long as all."""
    found = patterns(together(tmp_path, 190), "http")
    assert found == ["n-plus-one"]
    (finding,) = findings(tmp_path / "made.jsonl", "--pattern", "n-plus-one")
    cost = finding["cost"]
    assert (finding["pattern"], cost["avoidable"]) == ("n-plus-one", 9)
    assert 0 <= cost["saving_ms"] < 5 and cost["share"] < 0.05, "nothing to gain but nine queries"
    assert "up to 10 of them run at the same time" in finding["evidence_details"]
    (row,) = run("requests", tmp_path / "made.jsonl", "--json").json["routes"]
    assert 180 < row["database_ms"] < row["request_ms"] and row["share"] <= 1


def test_queries_of_several_kinds_at_the_same_time_count_once(tmp_path: Path) -> None:
    made = Made(tmp_path, "postgresql")
    kinds = ("vessel", "tug", "pilot") * 4
    sample = tuple((kind, 9000 + 3 * i) for i, kind in enumerate(kinds))
    log, columns = "SELECT subject_type, subject_id FROM log", ("subject_type", "subject_id")
    made.ask(log, rows=len(kinds), columns=columns, sample=sample)
    for kind, key in sample:
        text = f"SELECT id, name FROM {kind} WHERE id = $1"
        made.ask(text, key, gap_ms=0.1, duration_ns=190_000_000)
    patterns(made, "http")
    (finding,) = findings(tmp_path / "made.jsonl")
    assert (finding["variant"], finding["cost"]["avoidable"]) == ("polymorphic", 9)
    assert 0 <= finding["cost"]["saving_ms"] < 5, "nothing to gain but nine queries"
    assert "up to 12 of them run at the same time" in finding["evidence_details"]


def test_one_after_the_other_count_all(tmp_path: Path) -> None:
    made = together(tmp_path, 0)
    at_ns = made.rows[0].start_ns
    for i, row in enumerate(made.rows):
        made.rows[i] = msgspec.structs.replace(
            row, start_ns=at_ns + i * 20_000_000, duration_ns=19_000_000
        )
    patterns(made, "http")
    (finding,) = findings(tmp_path / "made.jsonl")
    assert finding["cost"]["database_ms"] == pytest.approx(9 * 19)
    assert not any("same time" in text for text in finding["evidence_details"])


@given(st.lists(st.tuples(st.integers(0, 200), st.integers(0, 60)), max_size=30))
def test_the_union_of_intervals(queries: list[tuple[int, int]]) -> None:
    queries.sort(key=lambda query: query[0])
    starts, durations = [start for start, _ in queries], [length for _, length in queries]
    covered = {moment for start, length in queries for moment in range(start, start + length)}
    assert union_ns(starts, durations) == len(covered)
    assert overlap_ns(starts, durations) == sum(durations) - len(covered)
    depth = max((sum(s <= m < s + d for s, d in queries) for m in covered), default=0)
    assert at_once(starts, durations) == depth


@pytest.mark.parametrize(("kind", "severity"), [("http", "urgent"), ("paused", "worthwhile")])
def test_an_edit_is_no_more_urgent_than_its_finding(
    tmp_path: Path, kind: str, severity: str
) -> None:
    """What only pauses tell apart may be several requests, so that nothing in it is urgent."""
    made = together(tmp_path, 0)
    for i, row in enumerate(made.rows):
        made.rows[i] = msgspec.structs.replace(
            row, start_ns=i * 20_000_000, duration_ns=19_000_000, in_transaction=True
        )
    patterns(made, kind)
    document = run("findings", tmp_path / "made.jsonl", "--json").json
    assert {one["severity"] for one in document["findings"]} == {severity}
    assert {one["severity"] for one in document["edits"]} == {severity}


def searched(folder: Path, query_ms: float, others: int = 6) -> Made:
    """A page that asks one slow thing, and some quick ones."""
    made = Made(folder, "postgresql")
    slow_ns, text = int(query_ms * 1e6 / 2), "SELECT id FROM port_call WHERE agent = $1"
    made.ask(text, "Sund", rows=3, duration_ns=slow_ns)
    made.ask(text, "Belt", rows=3, duration_ns=slow_ns, gap_ms=query_ms / 2)
    for i in range(others):
        made.ask(
            f"SELECT name FROM table_{i} WHERE id = $1", i, gap_ms=query_ms / 2 if not i else 1
        )
    return made


@pytest.mark.parametrize(
    ("query_ms", "severity"),
    [(150, None), (250, "worthwhile"), (900, "urgent"), (20_000, "urgent")],
)
def test_a_statement_that_takes_most_is_shown(
    tmp_path: Path, query_ms: float, severity: str | None
) -> None:
    found = patterns(searched(tmp_path, query_ms), "http")
    assert found == (["slow-query"] if severity else [])
    if severity:
        (finding,) = findings(tmp_path / "made.jsonl")
        assert finding["severity"] == severity and finding["title"].endswith("SELECT of port_call")
        assert finding["advice"][0]["code"].startswith(
            f"askless plan CAPTURE --shape {finding['shape']}"
        )


def test_a_missing_index_is_named_where_the_schema_is_known(tmp_path: Path) -> None:
    path = searched(tmp_path, 250).write()
    for index, said in ((None, True), ("agent, id", False), ("id, agent", True)):
        database = tmp_path / f"{index}.db"
        with contextlib.closing(sqlite3.connect(database)) as db:
            db.execute("CREATE TABLE port_call (id INTEGER PRIMARY KEY, agent TEXT)")
            if index:
                db.execute(f"CREATE INDEX by_agent ON port_call ({index})")
        (finding,) = findings(path, "--db", f"sqlite:///{database}")
        assert ("no index of port_call begins with" in str(finding["evidence_details"])) is said


def test_plans_of_a_route_say_how_much_they_cover(tmp_path: Path) -> None:
    database = tmp_path / "harbour.db"
    with contextlib.closing(sqlite3.connect(database)) as db:
        db.execute("CREATE TABLE port_call (id INTEGER PRIMARY KEY, agent TEXT)")
        for i in range(6):
            db.execute(f"CREATE TABLE table_{i} (id INTEGER PRIMARY KEY, name TEXT)")
    path = searched(tmp_path, 250).write()
    words = ("plan", path, "--db", f"sqlite:///{database}", "--route", "/calls", "--top", "1")
    document = run(*words, "--json").json
    assert (len(document["statements"]), document["shapes"]) == (1, 7)
    assert 0.9 < document["time_share"] < 1
    assert (
        "1 of 7 statements, which take 99 % of the time; indexes for all of them" in run(*words).out
    )
    refused(
        run("plan", path, "--db", f"sqlite:///{database}", "--route", "/cals"),
        "/cals",
        "GET /calls",
    )


def test_a_request_takes_no_longer_in_the_database_than_it_takes(tmp_path: Path) -> None:
    path = together(tmp_path, 190).write()
    document = run("timeline", path, "--json").json
    assert 180 < document["database_ms"] < document["request_ms"]


def test_a_very_long_statement_is_shown_by_its_ends(tmp_path: Path) -> None:
    columns = ", ".join(f"CAST(c{i} AS TEXT) AS x{i}" for i in range(300))
    made = Made(tmp_path, "postgresql")
    path = made.ask(f"SELECT {columns} FROM survey WHERE id = $1", 7, duration_ns=S).write()
    for form in ((), ("--format", "markdown")):
        shown = " ".join(run("findings", path, "--show", "1", *form).out.split())
        assert "AS x0" in shown and "FROM survey" in shown and "characters omitted" in shown
        assert len(shown) < 4_000
    assert "AS x150" in run("findings", path, "--json").json["findings"][0]["sql"]
