"""What the commands print: on the demo's pages, for people and for programs."""

from __future__ import annotations

import json
import re
import sqlite3
import subprocess
import sys
from collections.abc import Callable
from hashlib import sha256
from pathlib import Path
from typing import Any

import msgspec
import pytest

from askless.capture import events
from askless.capture.reading import read
from askless.cli import demo
from askless.cli.main import COMMANDS
from askless.core.aggregation.summary import RouteStats
from askless.core.analysis.pipeline import findings_of, summarise
from askless.core.comparison.captures import compare_routes, controls_of, drift_of
from askless.core.verdicts import Outcome
from askless.reports import documents
from tests.conftest import PAGES, findings, run

GROWN = {
    ("n-plus-one", "GET /calls/due", "to-one"),
    ("n-plus-one", "GET /calls/due", "to-many"),
    ("n-plus-one", "GET /calls/due", "nested to-one"),
    ("n-plus-one", "GET /berths", "count"),
    ("sibling-filters", "GET /statistics", "count"),
    ("duplicate", "GET /calls/{number}", ""),
    ("over-wide", "GET /inspections", "wide-columns"),
    ("unbounded", "GET /vessels", "whole-table"),
}


def test_the_pages_as_they_grew_show_every_pattern(pages: dict[str, Path]) -> None:
    assert {(f["pattern"], f["route"], f["variant"]) for f in findings(pages["grown"])} == GROWN


def test_the_tuned_pages_have_no_finding_left_and_give_the_same(pages: dict[str, Path]) -> None:
    assert findings(pages["tuned"]) == []
    given = [
        json.loads((pages[kind].parent / f"{kind}.json").read_text()) for kind in ("grown", "tuned")
    ]
    assert (
        given[0] == given[1]
        and set(given[0]) == set(PAGES)
        and all(len(page) > 100 for page in given[0].values())
    )


def test_findings_name_model_relation_option_and_line(pages: dict[str, Path]) -> None:
    nested = next(f for f in findings(pages["grown"]) if f["variant"] == "nested to-one")
    options = {advice["code"] for advice in nested["advice"]}
    assert ".options(selectinload(PortCall.tug_jobs).selectinload(TugJob.tug))" in options
    at = nested["advice"][0]["at"]
    source = Path(at["file"]).read_text().splitlines()
    assert at["file"].endswith("grown.py") and "due = select(PortCall)" in source[at["line"] - 1], (
        "where the statement is built"
    )
    assert nested["lines"][0]["file"].endswith("calls_due.html") and nested["lines"][0]["line"] == 8


def test_requests_by_route(pages: dict[str, Path]) -> None:
    rows = {row["route"]: row for row in run("requests", pages["grown"], "--json").json["routes"]}
    due = rows["GET /calls/due"]
    assert due["requests"] == 5 and due["warm_up"] == 1
    true = [r for r in read(pages["grown"]) if r.route == "GET /calls/due" and not r.warm_up]
    assert due["queries"] == len(true[0]) and due["rows"] == sum(true[0].rows)
    assert 0 < due["share"] < 1 and due["database_ms"] < due["request_ms"]
    text = run("requests", pages["grown"])
    assert "GET /calls/due" in text.out and all(len(line) <= 100 for line in text.out.splitlines())
    narrow = run("requests", pages["grown"], env={"COLUMNS": "80"})
    assert all(len(line) <= 80 for line in narrow.out.splitlines()) and "282" not in narrow.err


def test_requests_one_by_one_lead_to_the_timeline(pages: dict[str, Path]) -> None:
    rows = run("requests", pages["grown"], "--each", "--json").json["requests"]
    chosen = next(row for row in rows if row["route"] == "GET /berths" and not row["warm_up"])
    shown = run("timeline", pages["grown"], chosen["name"], "--json").json
    assert shown["route"] == "GET /berths" and shown["queries"] == chosen["queries"]
    assert sum(row["count"] for row in shown["rows"]) == chosen["queries"]
    folded = [row for row in shown["rows"] if row["count"] > 1]
    assert [row["count"] for row in folded] == [24] and folded[0]["line"]["file"].endswith(
        "grown.py"
    )
    unfolded = run("timeline", pages["grown"], chosen["name"], "--no-fold", "--json").json["rows"]
    assert len(unfolded) == chosen["queries"] and sorted(r["start_ms"] for r in unfolded) == [
        r["start_ms"] for r in unfolded
    ]


def test_the_timeline_shows_values_only_when_asked(pages: dict[str, Path]) -> None:
    words = ("timeline", pages["grown"], "--route", "/vessels/")
    assert "H00042" not in run(*words).out
    shown = run(*words, "--values")
    assert "with 'H00042'" in shown.out and "/vessels/H00042" in shown.out
    assert "H00042" not in run("requests", pages["grown"], "--each").out
    assert "H00042" in run("requests", pages["grown"], "--each", "--values").out


def test_the_whole_story_of_a_finding(pages: dict[str, Path]) -> None:
    story = run(
        "findings", pages["grown"], "--pattern", "n-plus-one", "--route", "/berths", "--show", 1
    ).out
    for part in (
        "Where",
        "Evidence: traced",
        "Cost",
        "The query",
        "Advice 1 of 3",
        "GROUP BY",
        "verify:",
        "trade-offs",
    ):
        assert part in story
    key = findings(pages["grown"])[2]["key"]
    assert key in run("findings", pages["grown"], "--show", key).out.splitlines()[0]


def test_judging(pages: dict[str, Path]) -> None:
    assert run("findings", pages["grown"], "--fail-on", "worthwhile").code == 1
    assert run("findings", pages["tuned"], "--fail-on", "minor").code == 0
    assert "No findings in 35 requests" in run("findings", pages["tuned"]).out
    assert run("compare", pages["tuned"], pages["grown"], "--fail-on-new").code == 1
    assert run("compare", pages["grown"], pages["tuned"], "--fail-on-new").code == 0


def test_before_and_after(pages: dict[str, Path]) -> None:
    compared = run("compare", pages["grown"], pages["tuned"], "--json").json
    assert len(compared["fixed"]) == 8 and compared["new"] == compared["remaining"] == []
    due = next(row for row in compared["routes"] if row["route"] == "GET /calls/due")
    grown = next(r for r in read(pages["grown"]) if r.route == due["route"] and not r.warm_up)
    assert due["queries"] == {"before": len(grown), "after": 3}
    assert due["ratio"]["low"] <= due["ratio"]["value"] <= due["ratio"]["high"]
    assert due["time"]["before"]["requests"] == 5
    control = next(row for row in compared["routes"] if row["route"] == "GET /vessels/{call_sign}")
    assert control["verdict"]["outcome"] == "same-work" and compared["variation"] == max(
        control["ratio"]["value"], 1 / control["ratio"]["value"]
    )
    swapped = run("compare", pages["tuned"], pages["grown"], "--json").json
    assert len(swapped["new"]) == 8 and swapped["fixed"] == []
    same = run("compare", pages["grown"], pages["grown"], "--json").json
    assert len(same["remaining"]) == 8 and {
        row["verdict"]["outcome"] for row in same["routes"]
    } == {"same-work"}
    assert same["variation"] == 1.0
    assert "8 findings fixed:" in run("compare", pages["grown"], pages["tuned"]).out


def test_plans_of_what_costs_most(pages: dict[str, Path], harbour: Path) -> None:
    rows = run("plan", pages["grown"], "--db", f"sqlite:///{harbour}", "--top", 20, "--json").json[
        "statements"
    ]
    assert rows == sorted(rows, key=lambda row: -row["total_ms"])
    assert not any(row["error"] for row in rows)
    by_status = next(
        row for row in rows if "port_call.status = ? ORDER BY" in " ".join(row["sql"].split())
    )
    assert [index["ddl"] for index in by_status["indexes"]] == [
        "CREATE INDEX port_call_status_eta ON port_call (status, eta)"
    ]
    assert "reads all 6,000 rows of port_call to keep 40: no index answers status" in str(
        by_status["plan"]
    )
    assert any(
        "sorts its rows" in text for node in by_status["plan"] for text in node["observations"]
    )
    by_sign = next(row for row in rows if "call_sign = ?" in row["sql"])
    assert by_sign["indexes"] == [], "800 rows are too few for an index"
    latest = next(row for row in rows if "port_call.vessel_id = ?" in row["sql"])
    assert latest["indexes"][0]["columns"] == ["vessel_id", "eta"]
    by_key = next(row for row in rows if row["sql"].endswith("vessel.id = ?"))
    assert by_key["plan"][0]["kind"] == "key search" and by_key["indexes"] == []


def test_a_trial_measures_on_a_copy_and_leaves_the_file_alone(harbour: Path) -> None:
    before = sha256(harbour.read_bytes()).hexdigest(), sorted(harbour.parent.iterdir())
    words = ["trial", "--db", f"sqlite:///{harbour}", "--index", "CREATE INDEX by_vessel ON port_call (vessel_id)",
             "--sql", "SELECT * FROM port_call WHERE vessel_id = ?", "--parameters", "[42]"]  # fmt: skip
    tried = run(*words, "--json").json
    (row,) = tried["statements"]
    assert (
        row["uses_index"]
        and row["same_result"]
        and row["repetitions"] >= 7
        and tried["size_bytes"] > 0
    )
    assert 0 < row["ratio_low"] <= row["ratio"] <= row["ratio_high"]
    assert row["verdict"]["outcome"] in ("faster", "slower", "undecided")
    assert (
        row["plan_before"][0]["kind"] == "full scan"
        and row["plan_after"][0]["index"] == "by_vessel"
    )
    shown = run(*words)
    assert "the same result" in shown.out and "99 % interval" in shown.out
    assert (sha256(harbour.read_bytes()).hexdigest(), sorted(harbour.parent.iterdir())) == before


def test_an_index_that_is_not_used_is_said(harbour: Path) -> None:
    ran = run("trial", "--db", f"sqlite:///{harbour}", "--index", "CREATE INDEX agents ON port_call (agent)",
              "--sql", "SELECT COUNT(*) FROM vessel")  # fmt: skip
    assert ran.code == 0 and "not used: the planner does not choose agents" in ran.out


SUBJECTS = {
    "requests": (documents.RequestsDocument, []),
    "requests-each": (documents.EachDocument, ["--each"]),
    "timeline": (documents.TimelineDocument, []),
    "findings": (documents.FindingsDocument, []),
}


@pytest.mark.parametrize("name", SUBJECTS)
def test_json_has_the_form_that_its_schema_says(name: str, pages: dict[str, Path]) -> None:
    kind, words = SUBJECTS[name]
    ran = run(name.split("-")[0], pages["grown"], *words, "--json")
    document = msgspec.json.decode(ran.out, type=kind, strict=True)
    assert document.format == f"askless {name}" and document.version == documents.version_of(name)
    assert ran.err == "", "stdout is machine-clean and nothing was odd"
    schema = run("schema", name).json
    definition = schema["$defs"][kind.__name__]
    assert set(ran.json) == set(definition["properties"])


def test_json_of_the_commands_with_two_subjects(
    pages: dict[str, Path], harbour: Path, tmp_path: Path
) -> None:
    db = f"sqlite:///{harbour}"
    statement = tmp_path / "vessels.sql"
    statement.write_text("SELECT id, name FROM vessel ORDER BY id LIMIT 9")
    commands = {
        "check": (documents.CheckDocument, ["capture", "check", pages["grown"]]),
        "plan": (documents.PlanDocument, ["plan", pages["grown"], "--db", db]),
        "trial": (
            documents.TrialDocument,
            [
                "trial",
                "--db",
                db,
                "--index",
                "CREATE INDEX f ON vessel (flag)",
                "--sql",
                "SELECT 1",
            ],
        ),
        "compare": (documents.CompareDocument, ["compare", pages["grown"], pages["tuned"]]),
        "patch": (documents.PatchDocument, ["findings", pages["grown"], "--patch"]),
        "growth": (documents.GrowthDocument, ["growth", pages["grown"]]),
        "growth-over-time": (documents.TrendDocument, ["growth", pages["grown"], "--over-time"]),
        "report": (
            documents.ReportDocument,
            ["report", pages["grown"], "--compare", pages["tuned"], "--db", db],
        ),
        "patterns": (documents.PatternsDocument, ["patterns", "n-plus-one"]),
        "gate": (documents.GateDocument, ["gate", pages["tuned"], "--baseline", pages["tuned"]]),
        "tables": (documents.TablesDocument, ["tables", "--db", db]),
        "indexes": (documents.IndexesDocument, ["indexes", pages["grown"], "--db", db]),
        "weigh": (
            documents.WeighDocument,
            ["weigh", "--db", db, "--sql", "SELECT id FROM vessel WHERE flag = 'NO'"],
        ),
        "trial-finding": (
            documents.FindingTrialDocument,
            ["trial", pages["grown"], "--db", db, "--finding", "1"],
        ),
        "trial-rewrite": (
            documents.RewriteDocument,
            ["trial", "--db", db, "--before", statement, "--after", statement],
        ),
    }
    # what runs a program has a test of its own
    assert {*commands, *SUBJECTS, "trial-edits"} == set(documents.DOCUMENTS)
    for name, (kind, words) in commands.items():
        ran = run(*words, "--json")
        document = msgspec.json.decode(ran.out, type=kind, strict=True)
        assert document.format == f"askless {name}" and ran.err == ""
        assert set(ran.json) == set(run("schema", name).json["$defs"][kind.__name__]["properties"])


def test_the_schema_of_captures_fits_every_line(pages: dict[str, Path]) -> None:
    schema = run("schema", "capture").json
    types = {ref["properties"]["event"]["const"] if "const" in ref["properties"]["event"] else ref["properties"]["event"]["enum"][0]: ref
             for ref in schema["$defs"].values() if "event" in ref.get("properties", {})}  # fmt: skip
    (file,) = pages["grown"].iterdir()
    seen = set()
    for line in file.read_bytes().splitlines():
        event = json.loads(line)
        seen.add(event["event"])
        described = types[event["event"]]
        assert set(event) <= set(described["properties"]), event["event"]
        assert set(described["required"]) <= set(event), event["event"]
        msgspec.json.decode(line, type=events.AnyEvent)
    every = {
        "capture",
        "statement",
        "columns",
        "place",
        "model",
        "load",
        "request",
        "queries",
        "end",
        "modules",
        "close",
    }
    assert seen == every


def test_a_sound_capture_checks_as_sound(pages: dict[str, Path]) -> None:
    ran = run("capture", "check", pages["grown"], "--json")
    (file,) = ran.json["files"]
    assert ran.code == 0 and ran.json["sound"] and file["closed"] and file["version"] == 1
    requests = list(read(pages["grown"]))
    assert file["requests"] == len(requests) and file["queries"] == sum(map(len, requests))
    assert "finished normally" in run("capture", "check", pages["grown"]).out


def test_hostile_sql_stays_text(record: Callable[..., Path]) -> None:
    folder = record(
        r"""
        import sqlite3
        db = sqlite3.connect(":memory:")
        db.execute('CREATE TABLE "[red]\x1b[2J\u202e" (a, "b\x07" TEXT)')
        for n in range(4):
            db.execute('SELECT * FROM "[red]\x1b[2J\u202e" WHERE a = ?', (n,)).fetchall()
        """
    )
    for words in (
        ["findings", folder],
        ["findings", folder, "--show", "1"],
        ["timeline", folder, "--values"],
        ["requests", folder],
    ):
        ran = run(*words)
        assert ran.code == 0 and not re.search(r"[\x00-\x09\x0b-\x1f\x7f-\x9f\u202e]", ran.out), (
            words
        )
    assert "[red]" in run("timeline", folder).out


def test_no_colour_where_none_is_wanted(pages: dict[str, Path]) -> None:
    assert "\x1b" not in run("findings", pages["grown"]).out
    assert "\x1b" not in run(
        "findings", pages["grown"], env={"NO_COLOR": "1", "FORCE_COLOR": "1"}
    ).out.replace("\x1b[1m", "").replace("\x1b[0m", "").replace("\x1b[2m", "")


@pytest.mark.parametrize("command", COMMANDS)
def test_every_command_has_help_with_examples(command: str) -> None:
    ran = run(command, "--help")
    assert ran.code == 0 and "examples:" in ran.out
    for example in re.findall(r"^  askless (\S+)", ran.out, re.M):
        assert example in COMMANDS
    assert re.fullmatch(r"askless \d+\.\d+\.\d+\n", run("--version").out)


BOTH_WAYS = """
import sys, app
grown, tuned = (app.make_app(sys.argv[1], kind).test_client() for kind in ("grown", "tuned"))
for page in sys.argv[2:]:
    first, second = grown.get(page), tuned.get(page)
    assert first.status_code == 200 and first.text == second.text and len(first.text) > 60, page
"""


def test_the_demo_tells_the_whole_story(tmp_path: Path) -> None:
    ran = run("demo", "--out", tmp_path / "harbour", "--repeat", 5)
    assert ran.code == 0, ran.err
    for part in (
        "n-plus-one",
        "over-wide",
        "unbounded",
        "duplicate",
        "CREATE INDEX",
        "the same result",
        "14 findings fixed:",
        "0 findings new",
        "0 findings remaining",
    ):
        assert part in ran.out, part
    found = {one["pattern"] for one in findings(tmp_path / "harbour" / "grown")}
    assert found == {
        "n-plus-one", "sibling-filters", "duplicate", "over-wide", "unbounded", "row-multiplication", "subquery-per-row",
        "deep-offset", "held-transaction", "find-or-create",
    }  # fmt: skip
    same = subprocess.run(
        [sys.executable, "-c", BOTH_WAYS, f"sqlite:///{tmp_path / 'harbour' / 'harbour.db'}", *demo.PAGES],
        cwd=tmp_path / "harbour" / "harbour", capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert same.returncode == 0, same.stderr
    assert (tmp_path / "harbour" / "harbour" / "grown.py").exists()
    with sqlite3.connect(tmp_path / "harbour" / "harbour.db") as db:
        assert db.execute("SELECT COUNT(*) FROM port_call").fetchone() == (30000,)
        assert db.execute(
            "SELECT COUNT(*) FROM sqlite_schema WHERE name = 'vessel_call_sign'"
        ).fetchone() == (0,)
    db.close()


def test_summaries_merge_in_any_order(pages: dict[str, Path]) -> None:
    """A capture summed in pieces gives what it gives in one."""
    requests = list(read(pages["grown"]))
    whole = summarise(iter(requests))
    edges = (0, len(requests) // 3, 2 * len(requests) // 3, len(requests))
    for order in ((0, 1, 2), (2, 0, 1)):
        merged = summarise(iter(()))
        for turn in order:
            merged.merge(summarise(iter(requests[edges[turn] : edges[turn + 1]])))
        assert totals(merged) == totals(whole)
        assert told(merged) == told(whole)


def totals(summary: Any) -> dict[str, Any]:
    return {
        r.route: (
            r.requests,
            r.warm_up,
            r.repeated,
            r.elapsed_ns,
            {d: (x.count, x.requests, x.rows, x.bytes, x.duration_ns) for d, x in r.shapes.items()},
        )
        for r in summary.routes.values()
    }


def told(summary: Any) -> dict[str, Any]:
    return {
        f.key: (f.title, f.variant, f.evidence, f.cost.avoidable, f.requests)
        for f in findings_of(summary)
    }


def test_drift_is_told_from_a_change() -> None:
    """Routes that ask the same on both sides are the control for those that do not."""

    def summary(times_ms: dict[str, float], queries: dict[str, int]) -> Any:
        made = summarise(iter(()))
        for route, time_ms in times_ms.items():
            stats = made.routes[route] = RouteStats(route, "http")
            stats.requests = 20
            stats.durations.extend(int((time_ms + i % 5 * 0.01) * 1e6) for i in range(20))
            stats.queries.extend([queries[route]] * 20)
        return made

    before = summary({"same": 10, "much": 40, "little": 12}, {"same": 5, "much": 90, "little": 8})
    after = summary({"same": 8, "much": 9, "little": 10}, {"same": 5, "much": 3, "little": 6})
    rows = {row.route: row for row in compare_routes(before, after)}
    assert drift_of(controls_of(list(rows.values()))) == pytest.approx(1.25, rel=0.01)
    assert rows["same"].verdict.outcome is Outcome.SAME_WORK
    assert rows["much"].verdict.outcome is Outcome.FASTER and rows["much"].verdict.text.startswith(
        "×4.4"
    )
    assert rows["little"].verdict.outcome is Outcome.WITHIN_DRIFT
    assert compare_routes(after, before)[1].verdict.text.startswith("slower: ×0.2")
    before = summary({"a": 10, "b": 10, "index": 69}, {"a": 5, "b": 5, "index": 2})
    after = summary({"a": 10.4, "b": 9.8, "index": 5.6}, {"a": 5, "b": 5, "index": 2})
    rows = {row.route: row for row in compare_routes(before, after)}
    assert rows["index"].verdict.outcome is Outcome.FASTER
    assert "with the same queries" in rows["index"].verdict.text
    assert {rows[name].verdict.outcome for name in "ab"} == {Outcome.SAME_WORK}


def test_one_edit_is_one_entry(pages: dict[str, Path]) -> None:
    """What one line's change fixes is together, with the whole call and what the page asks
    afterwards.
    """
    document = run("findings", pages["grown"], "--json").json
    due = next(edit for edit in document["edits"] if edit["routes"] == ["GET /calls/due"])
    assert due["code"] == (
        ".options(joinedload(PortCall.vessel), selectinload(PortCall.tug_jobs).joinedload(TugJob.tug))"
    )
    (route,) = [
        row
        for row in run("requests", pages["grown"], "--json").json["routes"]
        if row["route"] == "GET /calls/due"
    ]
    assert (
        due["queries"] == route["queries"] > 90
        and due["queries_after"] == 2
        and len(due["findings"]) == 3
    )
    assert (
        due["severity"] in ("urgent", "worthwhile")
        and 0 < due["saving_ms"] < due["request_ms"]
        and due["at"]["file"].endswith("grown.py")
    )
    assert [f["key"] for f in document["findings"]] == [
        key for edit in document["edits"] for key in edit["findings"]
    ]
    shown = run("findings", pages["grown"]).out
    assert due["code"] in shown and f"{due['queries']:.0f} queries per request → 2" in shown
    each = run("findings", pages["grown"], "--each").out
    assert "40 queries where 1 would do" in each and "queries per request →" not in each


def test_a_way_to_the_database_is_counted(pages: dict[str, Path]) -> None:
    near = run("findings", pages["grown"], "--json").json["edits"]
    far = run("findings", pages["grown"], "--network-latency", "2ms", "--json").json
    due = (
        {edit["routes"][0]: edit for edit in near}["GET /calls/due"],
        {e["routes"][0]: e for e in far["edits"]}["GET /calls/due"],
    )
    assert (
        due[1]["saving_ms"] > due[0]["saving_ms"] + 150
        and due[1]["request_ms"] > due[0]["request_ms"] + 190
    )
    assert (
        far["network_latency_ms"] == 2
        and "2.00 ms of network latency added"
        in run("findings", pages["grown"], "--network-latency", "2ms").out
    )
    assert run("findings", pages["grown"], "--network-latency", "soon").code == 2


def test_indexes_of_tables_that_nobody_asked_are_not_judged(record: Any, tmp_path: Path) -> None:
    """What a table that the capture does not ask needs its indexes for, it can't tell."""
    database = tmp_path / "office.db"
    capture = record(
        f"""
        import sqlite3, askless
        db = sqlite3.connect({str(database)!r})
        db.executescript('''
            CREATE TABLE tug (id INTEGER PRIMARY KEY, name TEXT, berth TEXT);
            CREATE TABLE pilot (id INTEGER PRIMARY KEY, name TEXT, licence TEXT);
            CREATE INDEX tug_short ON tug (name); CREATE INDEX tug_long ON tug (name, berth);
            CREATE INDEX pilot_short ON pilot (name); CREATE INDEX pilot_long ON pilot (name, licence);
        ''')
        with askless.request("board"):
            db.execute("SELECT id FROM tug WHERE name = ?", ("Tern",)).fetchall()
        """
    )
    document = run("indexes", capture, "--db", f"sqlite:///{database}", "--json").json
    assert [row["index"] for row in document["redundant"]] == ["tug_short"] and document[
        "unjudged_indexes"
    ] == 1
    shown = run("indexes", capture, "--db", f"sqlite:///{database}").out
    assert (
        "1 index on tables that the capture never uses: not checked" in shown
        and "pilot" not in shown
    )


def test_a_route_without_findings_says_where_its_time_goes(pages: dict[str, Path]) -> None:
    ran = run("findings", pages["grown"], "--route", "{call_sign}")
    assert ran.code == 0 and "No findings match the filters." in ran.out
    said = " ".join((ran.out + ran.err).split())
    assert "GET /vessels/{call_sign}: " in said and "queries take" in said
    assert "askless plan" in said and "--shape" in said
    unknown = run("findings", pages["grown"], "--route", "/vesels/bussiest")
    assert unknown.code == 2 and "the nearest are GET /vessels" in unknown.err


def test_foreign_keys_that_nothing_looks_up_by_are_one_line(
    pages: dict[str, Path], harbour: Path, tmp_path: Path
) -> None:
    url = f"sqlite:///{harbour}"
    out = run("indexes", pages["grown"], "--db", url).out
    said = " ".join(out.split())
    assert "foreign keys without an index that nothing in the capture looks up by" in said
    assert "tug_job.tug_id" in said and "CREATE INDEX tug_job_tug_id" not in said
    assert run("report", pages["grown"], "--db", url, "-o", tmp_path / "r.html").code == 0
    assert "that nothing in the capture looks up by" in (tmp_path / "r.html").read_text()
