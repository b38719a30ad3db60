"""An eager load is for all rows of a query, and for every page that runs its line: where few of the
rows, or only some of the pages, read what it loads, the advice says so.
"""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import HARBOUR, run

PROGRAMS = Path(__file__).parent / "programs"
SQLALCHEMY = """
import sys
import askless
from models import PortCall
from sqlalchemy import create_engine, select
from sqlalchemy.orm import Session, selectinload
engine = create_engine("sqlite:///" + sys.argv[1])

def calls(db):
    return db.scalars(select(PortCall).order_by(PortCall.id).limit(80)).all()

for turn in range(2):
    with Session(engine) as db, askless.request("GET /calls"):
        [len(call.tug_jobs) for call in calls(db)[:12]]
    with Session(engine) as db, askless.request("GET /vessels"):
        [call.vessel.name for call in calls(db)]
    with Session(engine) as db, askless.request("GET /agents"):
        [call.agent for call in calls(db)]
    with Session(engine) as session, askless.request("GET /advised"):
        those = calls(session)[:12]
        keys = [call.id for call in those]
        {advised}
        [len(call.tug_jobs) for call in those]
"""
DJANGO = """
import office_in_memory
from django.db.models import prefetch_related_objects
from office.models import PortCall, Tug, TugJob, Vessel
import askless
Vessel.objects.bulk_create(Vessel(name="Tern %d" % n, flag="NO", log="") for n in range(80))
Tug.objects.bulk_create(Tug(name="Tug %d" % n) for n in range(3))
PortCall.objects.bulk_create(PortCall(vessel_id=n + 1, state="due", agent="Sund") for n in range(80))
TugJob.objects.bulk_create(TugJob(port_call_id=n % 80 + 1, tug_id=n % 3 + 1) for n in range(160))

def calls():
    return PortCall.objects.order_by("id")

for turn in range(2):
    with askless.request("GET /calls"):
        [len(call.tug_jobs.all()) for call in list(calls())[:12]]
    with askless.request("GET /vessels"):
        [call.vessel.name for call in calls()]
    with askless.request("GET /agents"):
        [call.agent for call in calls()]
    with askless.request("GET /advised"):
        those = list(calls())[:12]
        {advised}
        [len(call.tug_jobs.all()) for call in those]
"""


@pytest.fixture(scope="module", params=["sqlalchemy", "django"])
def edits(
    request: pytest.FixtureRequest, harbour: Path, tmp_path_factory: pytest.TempPathFactory
) -> tuple[dict[str, dict[str, Any]], dict[str, float]]:
    """The edits by route, and the queries of each route: at first without advice, then with it."""
    folder = tmp_path_factory.mktemp(request.param)
    program = SQLALCHEMY if request.param == "sqlalchemy" else DJANGO
    advised = "pass"
    for turn in range(2):
        script = folder / f"{turn}.py"
        script.write_text(program.format(advised=advised))
        words = [sys.executable, script, harbour]
        env = {"PYTHONPATH": f"{PROGRAMS}:{HARBOUR}"}
        ran = run("capture", "app", "-o", folder / f"c{turn}", "--", *words, env=env)
        assert ran.code == 0, ran.err
        if not turn:
            document = run("findings", folder / "c0", "--json").json
            by_route = {route: edit for edit in document["edits"] for route in edit["routes"]}
            code = by_route["GET /calls"]["code"]
            advised = code.partition("before the loop, ")[2].split(" with the keys")[0]
            advised = advised.removesuffix(" of django.db.models")
    routes = run("requests", folder / "c1", "--json").json["routes"]
    return by_route, {row["route"]: row["queries"] for row in routes}


def test_what_few_rows_need_is_loaded_for_those(
    edits: tuple[dict[str, dict[str, Any]], dict[str, float]],
) -> None:
    by_route, queries = edits
    code = by_route["GET /calls"]["code"]
    assert code.startswith("of 80 rows 12 are read: before the loop, "), code
    assert (queries["GET /calls"], queries["GET /advised"]) in ((13, 2), (13, 3))


def test_other_pages_of_a_line_are_named(
    edits: tuple[dict[str, dict[str, Any]], dict[str, float]],
) -> None:
    by_route, _ = edits
    assert by_route["GET /calls"]["other_routes"] == [], "nothing is added to the query itself"
    vessels = by_route["GET /vessels"]
    assert vessels["code"].startswith(".")
    assert vessels["other_routes"] == ["GET /advised", "GET /agents", "GET /calls"]


def test_every_form_names_them(harbour: Path, tmp_path: Path) -> None:
    script = tmp_path / "pages.py"
    script.write_text(SQLALCHEMY.format(advised="pass"))
    words = [sys.executable, script, harbour]
    env = {"PYTHONPATH": str(HARBOUR)}
    assert run("capture", "app", "-o", tmp_path / "c", "--", *words, env=env).code == 0
    for form in ((), ("--format", "markdown")):
        shown = " ".join(run("findings", tmp_path / "c", *form).out.replace("\\\\", "").split())
        assert "the line also serves GET /advised, GET /agents, GET /calls" in shown
    assert run("report", tmp_path / "c", "-o", tmp_path / "r.html").code == 0
    assert "the line also serves GET /advised" in (tmp_path / "r.html").read_text()
