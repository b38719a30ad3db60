"""What SQLAlchemy loads again since its objects have expired, and what is not to be advised for it."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import HARBOUR, findings, run

HEAD = """
import sys
import askless
from models import Berth, LogEntry, PortCall, Vessel
from sqlalchemy import create_engine, delete, select, update
from sqlalchemy.orm import Session, selectinload
engine = create_engine("sqlite:///" + sys.argv[1])
"""


@pytest.fixture
def record(harbour: Path, tmp_path: Path) -> Any:
    """Records a program with two requests of the lines given, and gives its capture."""
    database = tmp_path / "harbour.db"
    database.write_bytes(harbour.read_bytes())

    def recorded(lines: str, before: str = "", name: str = "c") -> Path:
        script, capture = tmp_path / f"{name}.py", tmp_path / name
        indented = "".join(f"        {line}\n" for line in lines.strip("\n").splitlines())
        script.write_text(
            f"{HEAD}{before}\nfor turn in range(2):\n"
            '    with Session(engine) as session, askless.request("GET /page"):\n' + indented
        )
        words = ("-o", capture, "--", sys.executable, script, database)
        ran = run("capture", "app", *words, env={"PYTHONPATH": str(HARBOUR)})
        assert ran.code == 0, ran.err
        return capture

    return recorded


def queries_of(capture: Path) -> float:
    (route,) = run("requests", capture, "--json").json["routes"]
    queries: float = route["queries"]
    return queries


LIST = """
calls = session.scalars(select(PortCall).order_by(PortCall.id).limit(15)OPTIONS).all()
for call in calls:
    EXPIRE
    print(call.id, len(call.tug_jobs))
"""


def test_an_eager_load_that_would_expire_is_not_advised(record: Any) -> None:
    lines = LIST.replace("EXPIRE", "session.expire_all()").replace("OPTIONS", "")
    capture = record(lines)
    assert queries_of(capture) == 31
    found = {one["tables"][0]: one for one in findings(capture)}
    again, jobs = found["port_call"], found["tug_job"]
    assert again["pattern"] == jobs["pattern"] == "n-plus-one"
    (advice,) = again["advice"]
    assert "expiring" in advice["title"] and "expire_all()" in advice["code"]
    (advice,) = jobs["advice"]
    assert "selectinload" not in advice["code"] and "have expired" in advice["code"]


def test_an_eager_load_is_advised_where_nothing_expires(record: Any) -> None:
    (jobs,) = findings(record(LIST.replace("EXPIRE", "pass").replace("OPTIONS", "")))
    edit = jobs["advice"][0]["code"]
    assert edit == ".options(selectinload(PortCall.tug_jobs))"
    assert (
        queries_of(record(LIST.replace("EXPIRE", "pass").replace("OPTIONS", edit), name="d")) == 2
    )


WAYS = """
def _one(call):
    return len(call.tug_jobs)

def first_way(call): return _one(call)
def second_way(call): return _one(call)
def third_way(call): return _one(call)
"""


def test_loops_that_reach_one_line_by_several_ways_read_the_whole_list(record: Any) -> None:
    lines = """
calls = session.scalars(select(PortCall).order_by(PortCall.id).limit(30)).all()
for way, some in ((first_way, calls[:10]), (second_way, calls[10:20]), (third_way, calls[20:])):
    for call in some:
        print(way(call))
"""
    loops = findings(record(lines, WAYS))
    assert len(loops) == 3
    assert {loop["advice"][0]["code"] for loop in loops} == {
        ".options(selectinload(PortCall.tug_jobs))"
    }


def test_a_list_of_keys_that_asks_which_are_there_is_not_loaded_already(record: Any) -> None:
    lines = """
calls = session.scalars(select(PortCall).order_by(PortCall.id).limit(40)).all()
for some in (calls[:20], calls[20:]):
    around = sorted({call.id + step for call in some for step in STEPS})
    print(len(session.scalars(select(PortCall.id).where(PortCall.id.in_(around))).all()))
"""
    patterns = []
    for name, steps in (("gaps", "(-1000, 0)"), ("there", "(0,)")):
        capture = record(lines.replace("STEPS", steps), name=name)
        patterns.append([one["pattern"] for one in findings(capture)])
    assert "already-loaded" not in patterns[0] and "already-loaded" in patterns[1]


UPDATES = {
    "of a value": ("PortCall.id == number", "{'status': 'late'}", True),
    "of a sum": ("PortCall.id == number", "{'berth_id': PortCall.berth_id + 1}", False),
    "of some": ("(PortCall.id == number) & (PortCall.status != 'late')", "{'status': 'x'}", False),
}


@pytest.mark.parametrize("name", UPDATES)
def test_updates_that_compute_or_choose_get_no_list_of_values(record: Any, name: str) -> None:
    where, values, is_bulk = UPDATES[name]
    lines = f"""
for number in range(1, 9):
    session.execute(update(PortCall).where({where}).values({values}))
session.rollback()
"""
    loops = [one for one in findings(record(lines)) if one["pattern"] == "write-loop"]
    assert len(loops) == 1
    codes = [advice["code"] for advice in loops[0]["advice"]]
    assert any("update(PortCall), [{" in code for code in codes) is is_bulk


def test_a_delete_with_another_condition_is_not_told_as_one_by_its_keys(record: Any) -> None:
    lines = """
for number in range(1, 9):
    session.execute(delete(LogEntry).where(LogEntry.id == number, LogEntry.text != "kept"))
session.rollback()
"""
    loops = [one for one in findings(record(lines)) if one["pattern"] == "write-loop"]
    assert len(loops) == 1
    assert [(advice["code"], advice["sql"]) for advice in loops[0]["advice"]] == [("", "")]


def test_rows_inserted_in_savepoints_of_their_own_may_fail_alone(record: Any) -> None:
    lines = """
for number in range(8):
    with session.begin_nested():
        session.add(Berth(name=f"pier {number}", length_m=90, depth_m=6))
session.rollback()
"""
    loops = [one for one in findings(record(lines)) if one["pattern"] == "write-loop"]
    assert len(loops) == 1
    assert any("savepoint" in caveat for caveat in loops[0]["caveats"])
