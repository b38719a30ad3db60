"""A route that serves pages of different kinds: what an edit saves is of those that it changes."""

from __future__ import annotations

import sys
from pathlib import Path

import pytest

from tests.conftest import HARBOUR, run
from tests.possible import impossible
from tests.test_traffic import Made, written

LISTED = "SELECT id, vessel_id FROM port_call WHERE status = 'due'"
VESSEL = "SELECT id, name FROM vessel WHERE id = $1"
MOORED = "SELECT id FROM mooring WHERE berth_id = $1"


def page(folder: Path, calls: int, others: int = 0) -> Made:
    """A page that lists calls and reads the vessel of each, and asks other things, too."""
    made = Made(folder, "postgresql")
    sample = tuple((700 + i, 9000 + 3 * i) for i in range(calls))
    made.ask(LISTED, rows=calls, columns=("id", "vessel_id"), sample=sample)
    for i in range(calls):
        made.ask(VESSEL, 9000 + 3 * i, columns=("id", "name"))
    for i in range(others):
        made.ask(f"SELECT count(*) FROM table_{i} WHERE due = $1", i)
    return made


def test_pages_that_an_edit_does_not_change_are_not_counted(tmp_path: Path) -> None:
    heavy = [page(tmp_path, 40, 60) for _ in range(3)]
    light = [page(tmp_path, 0, 8) for _ in range(3)]
    path = written([one for pair in zip(heavy, light, strict=True) for one in pair], 1)
    (edit,) = [one for one in run("findings", path, "--json").json["edits"] if one["saving_ms"]]
    assert (edit["requests"], edit["requests_in_route"]) == (3, 6)
    assert (edit["queries"], edit["queries_after"]) == (101, 62), "1 + 60, and one for all vessels"
    assert "101 queries per request → 62 in 3 of 6 requests" in run("findings", path).out
    (finding,) = [
        one
        for one in run("findings", path, "--json").json["findings"]
        if one["pattern"] == "n-plus-one"
    ]
    assert finding["cost"]["share"] < 0.5, "of the requests that have it, not of the quick ones"


def test_pages_of_different_sizes_are_a_range(tmp_path: Path) -> None:
    path = written([page(tmp_path, calls) for calls in (4, 10, 90)], 1)
    (edit,) = [one for one in run("findings", path, "--json").json["edits"] if one["saving_ms"]]
    before = [edit[name] for name in ("queries_least", "queries", "queries_most")]
    after = [edit[name] for name in ("queries_least_after", "queries_after", "queries_most_after")]
    assert (before, after) == ([5, 11, 91], [2, 2, 2])
    assert "5 to 91 queries per request → 2, saves" in run("findings", path).out


SOMETIMES_MORE = """
import sys
import askless
from models import PortCall
from sqlalchemy import create_engine, select
from sqlalchemy.orm import Session
engine = create_engine("sqlite:///" + sys.argv[1])
for more in (True, False, True, True):
    with Session(engine) as db, askless.request("GET /calls"):
        for call in db.scalars(select(PortCall).order_by(PortCall.id).limit(8)):
            call.tug_jobs
            if more:
                call.manifest_lines
"""


def test_an_edit_of_two_loads_counts_what_a_request_has_of_them(
    harbour: Path, tmp_path: Path
) -> None:
    script = tmp_path / "calls.py"
    script.write_text(SOMETIMES_MORE)
    program = [sys.executable, script, harbour]
    env = {"PYTHONPATH": str(HARBOUR)}
    assert run("capture", "app", "-o", tmp_path / "c", "--", *program, env=env).code == 0
    (edit,) = run("findings", tmp_path / "c", "--json").json["edits"]
    assert "tug_jobs" in edit["code"] and "manifest_lines" in edit["code"]
    assert (edit["queries_least"], edit["queries_least_after"]) == (9, 2)
    assert (edit["queries_most"], edit["queries_most_after"]) == (17, 3)
    assert (edit["queries"], edit["queries_after"]) == (17, 3)


@pytest.mark.parametrize(
    ("change", "fault"),
    [
        (("findings", "cost", {"avoidable": 90.0}), "90.0 of"),
        (("findings", "cost", {"share": 1.2}), "120%"),
        (("findings", "cost", {"saving_ms": 1e9}), "of a loop of"),
        (("findings", "title", "0 rows are never read"), "counts nothing"),
        (("edits", "queries_after", 400.0), "400.0 after"),
        (("edits", "saving_ms", 1e9), "it saves"),
        (("edits", "title", "leave out t0_r4"), "made up"),
        (("edits", "requests", 700), "700 of 3"),
    ],
)
def test_what_can_not_be_is_noticed(
    tmp_path: Path, change: tuple[str, str, object], fault: str
) -> None:
    document = run("findings", written([page(tmp_path, 10) for _ in range(3)], 1), "--json").json
    assert impossible(document) == []
    part, name, value = change
    entry = document[part][0]
    entry[name] = {**entry[name], **value} if isinstance(value, dict) else value
    assert any(fault in one for one in impossible(document))


def test_one_line_on_many_routes_is_one_entry(tmp_path: Path) -> None:
    """A middleware's, say: its findings differ in nothing but the route."""
    pages = [page(tmp_path, 10) for _ in range(5)]
    for number, one in enumerate(pages):
        one.route = f"GET /page/{number}"
    path = written(pages, 1)
    document = run("findings", path, "--json").json
    assert len(document["findings"]) == 5 and len(document["edits"]) == 1
    for form in ((), ("--format", "markdown")):
        shown = " ".join(run("findings", path, *form).out.replace("\\", "").split())
        assert "and 4 alike on other routes" in shown and "and 4 more routes" in shown
        assert sum(one["key"] in shown.split("Show one")[0] for one in document["findings"]) == 1
