"""Rows that are looked up through a link table, whichever of the two tables is written first."""

from __future__ import annotations

import sys
from pathlib import Path

import pytest

from tests.conftest import HARBOUR, findings, run

PROGRAM = """
import sqlite3, sys
import askless
db = sqlite3.connect(sys.argv[1])
for turn in range(2):
    with askless.request("GET /tugs"):
        for call, in db.execute("SELECT id FROM port_call ORDER BY id LIMIT 12").fetchall():
            print(db.execute(TEXT, (call,)).fetchall())
"""
TEXTS = {
    "the link first": "SELECT tug.id, tug.name FROM tug_job JOIN tug ON tug.id = tug_job.tug_id"
    " WHERE tug_job.port_call_id = ?",
    "the link second": "SELECT tug.id, tug.name FROM tug JOIN tug_job ON tug.id = tug_job.tug_id"
    " WHERE tug_job.port_call_id = ?",
    "a table of its own": "SELECT tug_job.id, tug_job.minutes, tug.name FROM tug_job"
    " JOIN tug ON tug.id = tug_job.tug_id WHERE tug_job.port_call_id = ?",
}


@pytest.mark.parametrize("name", TEXTS)
def test_a_link_table_is_told_whichever_side_is_first(
    harbour: Path, tmp_path: Path, name: str
) -> None:
    script = tmp_path / "tugs.py"
    script.write_text(PROGRAM.replace("TEXT", repr(TEXTS[name])))
    words = ("-o", tmp_path / "c", "--", sys.executable, script, harbour)
    assert run("capture", "app", *words).code == 0
    (loop,) = findings(tmp_path / "c")
    is_link = name != "a table of its own"
    assert loop["variant"] == ("link-table" if is_link else "to-many")
    assert loop["summary"].startswith("tug by " if is_link else "tug_job by ")


RAW = """
import sys
import askless
from models import Clearance, Inspection, PortCall, TugJob
from sqlalchemy import create_engine, select, text
from sqlalchemy.orm import Session
engine = create_engine("sqlite:///" + sys.argv[1])
for turn in range(2):
    with Session(engine) as session, askless.request("GET /log"):
        for model in (Clearance, Inspection, TugJob):
            session.scalars(select(model).limit(1)).all()
        for call in session.scalars(select(PortCall).order_by(PortCall.id).limit(12)).all():
            print(session.execute(text(TEXT), {"key": call.id}).all())
"""


@pytest.mark.parametrize(
    ("table", "has_relation"), [("tug_job", True), ("inspection", False), ("clearance", False)]
)
def test_only_relations_that_a_model_has_are_named(
    harbour: Path, tmp_path: Path, table: str, has_relation: bool
) -> None:
    script = tmp_path / "log.py"
    select = f"SELECT id FROM {table} WHERE port_call_id = :key"
    script.write_text(RAW.replace("TEXT", repr(select)))
    words = ("-o", tmp_path / "c", "--", sys.executable, script, harbour)
    assert run("capture", "app", *words, env={"PYTHONPATH": str(HARBOUR)}).code == 0
    (loop,) = [one for one in findings(tmp_path / "c") if one["pattern"] == "n-plus-one"]
    codes = " ".join(advice["code"] for advice in loop["advice"])
    assert ("eager-loading call for the relation from port_call" in codes) is has_relation


CREW = """
import askless
from sqlalchemy import Column, ForeignKey, Table, create_engine, select
from sqlalchemy.orm import DeclarativeBase, Mapped, Session, mapped_column, relationship, selectinload

class Base(DeclarativeBase):
    pass

crew = Table("crew", Base.metadata, Column("tug_id", ForeignKey("tug.id")),
             Column("clerk_id", ForeignKey("clerk.id")))

class Clerk(Base):
    __tablename__ = "clerk"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]

class Tug(Base):
    __tablename__ = "tug"
    id: Mapped[int] = mapped_column(primary_key=True)
    master_id: Mapped[int] = mapped_column(ForeignKey("clerk.id"))
    crew: Mapped[list[Clerk]] = relationship(secondary=crew)

engine = create_engine("sqlite://")
Base.metadata.create_all(engine)
with Session(engine) as session:
    clerks = [Clerk(id=i, name=f"Clerk {i}") for i in range(1, 13)]
    session.add_all([*clerks, *(Tug(id=i, master_id=i, crew=clerks) for i in range(1, 13))])
    session.commit()
for turn in range(2):
    with Session(engine) as session, askless.request("GET /tugs"):
        for tug in session.scalars(select(Tug).options(selectinload(Tug.crew))).all():
            print(len(tug.crew), session.scalars(select(Clerk).where(Clerk.id == tug.master_id)).one())
"""


def test_rows_of_a_many_to_many_relation_are_not_those_of_another_key(tmp_path: Path) -> None:
    script = tmp_path / "tugs.py"
    script.write_text(CREW)
    assert run("capture", "app", "-o", tmp_path / "c", "--", sys.executable, script).code == 0
    (loop,) = [one for one in findings(tmp_path / "c") if one["pattern"] == "already-loaded"]
    (advice,) = loop["advice"]
    assert advice["code"] == "keep the earlier rows in a map by id, and look there"
