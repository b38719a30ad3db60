"""`askless.read`, `askless.record` and the columns: what programs and notebooks use, and the
commands are built on.
"""

from __future__ import annotations

import doctest
import json
import sqlite3
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import msgspec
import pandas
import pyarrow
import pytest
from pyarrow import parquet

import askless
from askless import api
from askless.api import recording
from askless.core.errors import AskLessError
from askless.reports import columns
from tests.conftest import findings, refused, run

TABLES = ("requests", "queries", "shapes", "call_sites")


def test_a_capture_is_what_the_commands_print(pages: dict[str, Path], harbour: Path) -> None:
    capture = askless.read(pages["grown"])
    rows = run("requests", pages["grown"], "--each", "--json").json["requests"]
    assert [one.name for one in capture.requests] == [row["name"] for row in rows]
    assert [one.queries for one in capture.requests] == [row["queries"] for row in rows]
    assert json.loads(msgspec.json.encode(capture.findings()[:])) == findings(pages["grown"])
    assert capture.findings(route="/berths", patterns=["n-plus-one"])[0].route == "GET /berths"
    plans = capture.plans(f"sqlite:///{harbour}", top=3)
    assert len(plans) == 3 and plans[0].plan[0].kind and plans.document.system == "sqlite"
    document = json.loads(msgspec.json.encode(plans.document))
    assert (
        document
        == run("plan", pages["grown"], "--db", f"sqlite:///{harbour}", "--top", 3, "--json").json
    )
    compared = capture.compare(askless.read(str(pages["tuned"])))
    assert (
        json.loads(msgspec.json.encode(compared)) == run("compare", *pages.values(), "--json").json
    )
    assert (
        capture.timeline(route="/calls/due").queries > 90
        and capture.routes("/berths").routes[0].queries == 25
    )
    assert capture.report().timelines and capture.growth().routes and capture.notes == ()
    with pytest.raises(AskLessError, match="no pattern"):
        capture.findings(patterns=["n-plus-two"])


@pytest.mark.parametrize("values", [False, True])
def test_columns_are_the_same_in_frames_arrow_and_parquet(
    values: bool, pages: dict[str, Path], tmp_path: Path
) -> None:
    capture = askless.read(pages["grown"], values=values)
    out = tmp_path / "columns"
    ran = run("export", pages["grown"], "--parquet", out, *(["--values"] if values else []))
    assert ran.code == 0 and "queries" in ran.err and out.stat().st_mode & 0o777 == 0o700, ran.err
    assert sorted(path.name for path in out.iterdir()) == sorted(
        f"{name}.parquet" for name in TABLES
    )
    for name in TABLES:
        table = getattr(capture, name)
        stored = parquet.read_table(out / f"{name}.parquet")
        assert isinstance(stored, pyarrow.Table) and stored.equals(table.to_arrow()), name
        assert stored.to_pylist() == [
            msgspec.to_builtins(row, builtin_types=(tuple,)) | listed(row) for row in table
        ]
        frame = table.to_pandas()
        assert (
            isinstance(frame, pandas.DataFrame)
            and tuple(frame.columns) == table.columns
            and len(frame) == len(table)
        )
        assert (out / f"{name}.parquet").stat().st_mode & 0o777 == 0o600
    shown = "".join(query.statement + query.parameters for query in capture.queries)
    assert ("'H00042'" in shown) == values
    assert all(
        bool(request.path) == values for request in capture.requests if request.kind == "http"
    )


def listed(row: msgspec.Struct) -> dict[str, list[object]]:
    """The fields of a row that are tuples, as the lists that Arrow gives."""
    return {
        name: list(value)
        for name in row.__struct_fields__
        if isinstance(value := getattr(row, name), tuple)
    }


def test_the_tables_add_up_to_what_the_commands_say(pages: dict[str, Path]) -> None:
    capture = askless.read(pages["grown"])
    queries, shapes, call_sites = (
        getattr(capture, name).to_pandas() for name in ("queries", "shapes", "call_sites")
    )
    warm = {request.name for request in capture.requests if request.warm_up}
    own = queries[~queries.noise & ~queries.request.isin(warm)]
    assert len(own) == run("requests", pages["grown"], "--json").json["queries"]
    assert shapes.queries.sum() == len(queries) and shapes.total_ms.sum() == pytest.approx(
        queries.duration_ms.sum()
    )
    counted = queries[queries.call_site != ""].groupby("call_site").size()
    assert dict(zip(call_sites.call_site, call_sites.queries, strict=True)) == counted.to_dict()
    assert (
        set(queries["shape"]) == set(shapes["shape"])
        and shapes.shape[0] == shapes["shape"].nunique()
    )
    assert list(shapes.total_ms) == sorted(shapes.total_ms, reverse=True)
    vessel = next(shape for shape in capture.shapes if "FROM vessel" in shape.statement)
    assert vessel.kind == "select" and "vessel" in vessel.tables
    clock = [request.started_unix_s for request in capture.requests]
    assert all(one is not None and abs(one - clock[0]) < 600 for one in clock)


def test_questions_of_the_documents_are_answered(pages: dict[str, Path], tmp_path: Path) -> None:
    """Each question of docs/questions.md, asked of the files that an export writes."""
    import duckdb

    run("export", pages["grown"], "--parquet", tmp_path / "columns")
    text = (Path(__file__).parents[1] / "docs" / "questions.md").read_text()
    asked = [part.split("```")[0] for part in text.split("```sql\n")[1:]]
    assert len(asked) >= 8
    for question in asked:
        rows = duckdb.sql(question.replace("'calls-columns/", f"'{tmp_path}/columns/")).fetchall()
        assert rows, question
        if question.startswith("SELECT table_name"):
            routes_by_table = {name: routes for name, routes, _ in rows}
    queries = askless.read(pages["grown"], values=False).queries
    shapes = {shape.shape: shape.tables for shape in askless.read(pages["grown"]).shapes}
    expected: dict[str, set[str]] = {}
    for query in queries:
        for table_name in shapes[query.shape] if not query.noise else ():
            expected.setdefault(table_name, set()).add(query.route)
    assert routes_by_table == {name: len(routes) for name, routes in expected.items()}
    for table in (
        columns.RequestRecord,
        columns.QueryRecord,
        columns.ShapeRecord,
        columns.CallSiteRecord,
    ):
        missing = [name for name in table.__struct_fields__ if f"`{name}`" not in text]
        assert missing == [], table.__name__


def test_this_process_is_recorded(tmp_path: Path) -> None:
    with askless.record("first", values=True) as run_:
        db = sqlite3.connect(":memory:")
        db.execute("CREATE TABLE vessel (id INTEGER PRIMARY KEY, name TEXT)")
        assert len(run_.requests) == 0
        with askless.request("inside"):
            for number in range(5):
                db.execute("SELECT name FROM vessel WHERE id = ?", [number]).fetchone()
    assert [(one.route, one.queries) for one in run_.requests] == [("inside", 5), ("first", 1)]
    assert [query.parameters for query in run_.queries if query.route == "inside"] == [
        "0",
        "1",
        "2",
        "3",
        "4",
    ]
    assert run_.requests[0].started_unix_s is not None and "2 requests" in repr(run_)
    db.execute("SELECT 1 FROM vessel").fetchall()
    with askless.record("second", to=tmp_path / "calls") as other, askless.record("inner") as inner:
        db.execute("SELECT name FROM vessel WHERE id = ?", [7]).fetchone()
    assert [one.route for one in inner.requests] == ["inner"] and len(inner.queries) == 1
    assert other.path == tmp_path / "calls" and len(run_.queries) == 6, (
        "what comes later is not kept"
    )
    checked = run("capture", "check", other.path, "--json").json
    assert checked["sound"], checked
    assert {file.stat().st_mode & 0o777 for file in other.path.iterdir()} == {0o600}
    stored = [
        row["route"] for row in run("requests", other.path, "--each", "--json").json["requests"]
    ]
    assert stored == [one.route for one in other.requests] == ["inner", "second"]


def test_a_block_inside_of_another_mixes_nothing_up(tmp_path: Path) -> None:
    """Everything is reported again for the inner one: numbers mean something else from there on."""
    with askless.record("outer", to=tmp_path / "calls") as outer:
        db = sqlite3.connect(":memory:")
        db.execute("SELECT 1 AS first").fetchone()
        with askless.record("inner") as inner:
            db.execute("SELECT 2 AS second").fetchone()
        db.execute("SELECT 3 AS third").fetchone()
    told = [(query.route, query.statement.split()[-1]) for query in outer.queries]
    assert told == [("outer", "first"), ("inner", "second"), ("outer", "third")]
    assert [query.statement.split()[-1] for query in inner.queries] == ["second"]
    assert run("capture", "check", tmp_path / "calls", "--json").json["sound"]
    stored = [
        (query.route, query.statement.split()[-1])
        for query in askless.read(tmp_path / "calls").queries
    ]
    assert sorted(stored) == sorted(told)


def test_findings_of_this_process_are_those_of_a_capture(harbour: Path, tmp_path: Path) -> None:
    with askless.record("due calls", to=tmp_path / "calls") as run_:
        db = sqlite3.connect(f"file:{harbour}?mode=ro", uri=True)
        for (vessel,) in db.execute(
            "SELECT vessel_id FROM port_call WHERE status = 'due' ORDER BY id LIMIT 8"
        ).fetchall():
            db.execute("SELECT name FROM vessel WHERE id = ?", [vessel]).fetchone()
    (found,) = run_.findings()
    assert (found.pattern, found.variant, found.route) == ("n-plus-one", "to-one", "due calls")
    assert [one["key"] for one in findings(tmp_path / "calls")] == [found.key]
    assert run_.findings(db=f"sqlite:///{harbour}")[0].evidence == "traced"
    assert run_.findings().to_pandas().loc[0, "pattern"] == "n-plus-one"


def test_an_error_in_the_block_is_the_callers_own(tmp_path: Path) -> None:
    with (
        pytest.raises(sqlite3.OperationalError),
        askless.record("fails", to=tmp_path / "calls") as run_,
    ):
        sqlite3.connect(":memory:").execute("SELECT * FROM nothing")
    assert [query.error != "" for query in run_.queries] == [True] and (tmp_path / "calls").is_dir()
    (tmp_path / "file").write_text("")
    with (
        pytest.raises(AskLessError, match="can't write"),
        askless.record(to=tmp_path / "file" / "calls"),
    ):
        pass


def test_the_examples_of_the_documents_run(
    pages: dict[str, Path], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    (tmp_path / "calls").symlink_to(pages["grown"])
    tried = 0
    runner = doctest.DocTestRunner(optionflags=doctest.ELLIPSIS | doctest.NORMALIZE_WHITESPACE)
    finder = doctest.DocTestFinder(recurse=False)
    tests = [*finder.find(api, "api"), *finder.find(recording.record, "record", globs={})]
    page = (Path(__file__).parents[1] / "docs" / "python.md").read_text()
    tests.append(doctest.DocTestParser().get_doctest(page, {}, "docs/python.md", None, 0))
    for test in tests:
        test.globs["example"] = pages["grown"]
        tried += runner.run(test).attempted
    assert tried >= 15 and runner.summarize(verbose=False).failed == 0


def test_a_recording_is_told_in_the_projects_terms(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "askless.toml").write_text(
        "[[routes]]\nmatches = 'calls .*'\nname = 'the calls'\n[noise]\nstatements = ['pier']\n"
    )
    monkeypatch.chdir(tmp_path)
    with askless.record("calls of today") as recorded:
        base = sqlite3.connect(":memory:")
        for table in ("pier", "vessel"):
            base.execute(f"CREATE TABLE {table} (id INTEGER)")
        for table in ("vessel", "vessel", "pier"):
            base.execute(f"SELECT id FROM {table} WHERE id = 7").fetchall()
    (request,) = recorded.requests
    assert (request.route, request.queries, request.noise) == ("the calls", 3, 2)
    assert {query.route for query in recorded.queries} == {"the calls"}
    (found,) = recorded.findings()
    assert found.route == "the calls"


def test_importing_costs_a_recorded_program_next_to_nothing() -> None:
    code = "import sys, askless; askless.request('x'); print(sorted(m for m in sys.modules if m.startswith(('askless', 'msgspec'))))"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "['askless']"
    with pytest.raises(AttributeError, match="no attribute"):
        askless.nothing  # noqa: B018


def test_what_export_gets_of_bad_input(
    pages: dict[str, Path], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    refused(run("export", pages["grown"]), "needs a target")
    (tmp_path / "file").write_text("")
    refused(run("export", pages["grown"], "--parquet", tmp_path / "file"), "can't write")
    refused(run("export", tmp_path / "nowhere", "--parquet", tmp_path / "out"), "no capture at")
    foreign = tmp_path / "foreign.jsonl"
    foreign.write_text("[1]\n")
    refused(run("export", foreign, "--parquet", tmp_path / "out"), "is not an Ask Less capture")
    assert sorted(path.name for path in tmp_path.iterdir()) == ["file", "foreign.jsonl"], (
        "nothing half-written is left"
    )
    monkeypatch.setattr("askless.output.columnar.find_spec", lambda name: None)
    refused(run("export", pages["grown"], "--parquet", tmp_path / "out"), "ask-less[columns]")


def test_tables_are_streams(calls_of: Callable[[int], Path]) -> None:
    table = askless.read(calls_of(3)).requests
    first, again = iter(table), iter(table)
    assert next(first) == next(again) and len(table) == 3 and "RequestRecord" in repr(table)
    assert [one.name for one in table[1:]] == [one.name for one in table][1:]


@pytest.fixture
def calls_of(tmp_path: Path) -> Callable[[int], Path]:
    from tests.test_traffic import Made, written

    return lambda count: written([Made(tmp_path, "postgresql").parents() for _ in range(count)])


def test_the_interface_is_typed_for_whoever_checks_types(tmp_path: Path) -> None:
    program = tmp_path / "program.py"
    program.write_text(
        "import askless\n"
        "capture = askless.read('calls')\n"
        "reveal_type(capture.findings()[0].pattern)\n"
        "reveal_type(next(iter(capture.queries)).rows)\n"
        "reveal_type(capture.plans('sqlite://')[0].plan)\n"
        "with askless.record() as run:\n    reveal_type(run.requests[0].duration_ms)\n"
        "reveal_type(capture.compare(capture).routes)\n"
    )
    words = [sys.executable, "-m", "mypy", "--strict", "--cache-dir", tmp_path / "cache", program]
    done = subprocess.run(words, capture_output=True, text=True, check=False, cwd=tmp_path)
    told = [
        line.split("is ")[1].strip('"')
        for line in done.stdout.splitlines()
        if "Revealed type" in line
    ]
    assert done.returncode == 0 and len(told) == 5, done.stdout
    names = [name.rpartition(".")[2] if "[" not in name else name for name in told]
    assert (
        names[0].startswith("str")
        and "int" in names[1]
        and "PlanNode" in names[2]
        and "float" in names[3]
    )
    assert "CompareRow" in names[4]
