"""Rows that SQLAlchemy writes one by one since a read in the loop flushes its session."""

from __future__ import annotations

import sys
from pathlib import Path

from tests.conftest import HARBOUR, findings, run

PROGRAM = """
import sys
import askless
from models import LogEntry, Vessel
from datetime import datetime
from sqlalchemy import create_engine, select
from sqlalchemy.orm import Session
engine = create_engine("sqlite:///" + sys.argv[1])

def entry(number):
    return LogEntry(subject_type="tug", subject_id=number, written_at=datetime(2026, 5, 1), text="x")

for turn in range(2):
    with Session(engine) as session, askless.request("POST /log"):
        for number in range(12):
            session.add(entry(number))
            session.scalar(select(Vessel.name).where(Vessel.id == number + 1))
        session.rollback()
    with Session(engine) as session, askless.request("POST /plain"):
        for number in range(12):
            session.add(entry(number))
            session.flush()
            session.scalar(select(Vessel.name).where(Vessel.id == number + 1))
        session.rollback()
"""


def test_a_read_that_flushes_is_named(harbour: Path, tmp_path: Path) -> None:
    database, script = tmp_path / "harbour.db", tmp_path / "log.py"
    database.write_bytes(harbour.read_bytes())
    script.write_text(PROGRAM)
    words = [sys.executable, script, database]
    env = {"PYTHONPATH": str(HARBOUR)}
    assert run("capture", "app", "-o", tmp_path / "c", "--", *words, env=env).code == 0
    loops = {f["route"]: f for f in findings(tmp_path / "c") if f["pattern"] == "write-loop"}
    assert set(loops) == {"POST /log", "POST /plain"}
    said = {
        route: (
            any("(autoflush)" in one for one in loop["evidence_details"]),
            any("no_autoflush" in advice["code"] for advice in loop["advice"]),
        )
        for route, loop in loops.items()
    }
    assert said == {"POST /log": (True, True), "POST /plain": (False, False)}


EXPIRED = """
import sys
import askless
from models import LogEntry
from datetime import datetime
from sqlalchemy import create_engine
from sqlalchemy.orm import Session
engine = create_engine("sqlite:///" + sys.argv[1])

for turn in range(2):
    with Session(engineKEEP) as session, askless.request("POST /log"):
        for number in range(12):
            entry = LogEntry(subject_type="tug", subject_id=number, written_at=datetime(2026, 5, 1), text="x")
            session.add(entry)
            session.commit()
            print(entry.text)
"""


def test_what_a_commit_expires_is_no_missing_column(harbour: Path, tmp_path: Path) -> None:
    asked = []
    for keep in ("", ", expire_on_commit=False"):
        script, capture = tmp_path / f"{len(asked)}.py", tmp_path / f"c{len(asked)}"
        script.write_text(EXPIRED.replace("KEEP", keep))
        env = {"PYTHONPATH": str(HARBOUR)}
        words = ("-o", capture, "--", sys.executable, script, harbour)
        ran = run("capture", "app", *words, env=env)
        assert ran.code == 0, ran.err
        asked.append(run("requests", capture, "--json").json["routes"][0]["queries"])
    assert asked == [24, 12]
    (again,) = [one for one in findings(tmp_path / "c0") if one["pattern"] == "n-plus-one"]
    (advice,) = again["advice"]
    assert advice["code"].startswith(
        "Session(..., expire_on_commit=False)"
    ) and "undefer" not in str(advice)
