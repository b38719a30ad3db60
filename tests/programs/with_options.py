"""Pages whose queries have loader options already, on SQLAlchemy: `with_options.py EDITS.json
PAGES.json`. EDITS.json maps a page to what is put to its query, or to what is taken out of it.
"""

import json
import re
import sys

from sqlalchemy import ForeignKey, create_engine, select
from sqlalchemy.orm import (
    DeclarativeBase,
    Mapped,
    Session,
    defaultload,
    defer,
    joinedload,
    load_only,
    mapped_column,
    relationship,
    selectinload,
    undefer,
)

import askless

# what the texts of queries name
__all__ = ["defaultload", "defer", "joinedload", "load_only", "select", "selectinload", "undefer"]


class Base(DeclarativeBase):
    pass


class Vessel(Base):
    __tablename__ = "vessel"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    flag: Mapped[str]
    log: Mapped[str] = mapped_column(deferred=True)


class Call(Base):
    __tablename__ = "port_call"
    id: Mapped[int] = mapped_column(primary_key=True)
    vessel_id: Mapped[int] = mapped_column(ForeignKey("vessel.id"))
    agent: Mapped[str]
    remarks: Mapped[str]
    vessel: Mapped[Vessel] = relationship()
    jobs: Mapped[list["Job"]] = relationship()


class Job(Base):
    __tablename__ = "tug_job"
    id: Mapped[int] = mapped_column(primary_key=True)
    call_id: Mapped[int] = mapped_column(ForeignKey("port_call.id"))
    tug_id: Mapped[int] = mapped_column(ForeignKey("tug.id"))
    state: Mapped[str]
    manual: Mapped[str]
    tug: Mapped["Tug"] = relationship()


class Craft(Base):
    __tablename__ = "craft"
    id: Mapped[int] = mapped_column(primary_key=True)
    kind: Mapped[str]
    version: Mapped[int] = mapped_column()
    name: Mapped[str]
    notes: Mapped[str]
    __mapper_args__ = {
        "polymorphic_on": "kind",
        "polymorphic_identity": "craft",
        "version_id_col": version,
    }


class Tug(Base):
    __tablename__ = "tug"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    papers: Mapped[str]


class Launch(Craft):
    __mapper_args__ = {"polymorphic_identity": "launch"}


engine = create_engine("sqlite://")
Base.metadata.create_all(engine)
with Session(engine) as db:
    for n in range(1, 41):
        db.add(Vessel(id=n, name=f"Tern {n}", flag="NO", log="l" * 300))
        db.add(Call(id=n, vessel_id=n, agent="Sund", remarks="r" * 600))
        db.add(Tug(id=n, name=f"Tug {n}", papers="p" * 700))
        db.add(Launch(name=f"Launch {n}", notes="n" * 700))
        db.add_all(
            Job(call_id=n, tug_id=(n + k) % 40 + 1, state="done", manual="m" * 900) for k in (1, 2)
        )
    db.commit()

vessels = "select(Vessel)"
calls = "select(Call).order_by(Call.id)"
PAGES = {
    "deferred joined": (
        f"{calls}.options(joinedload(Call.vessel).defer(Vessel.flag))",
        lambda call: call.vessel.flag,
    ),
    "deferred batch": (
        f"{calls}.options(selectinload(Call.vessel).defer(Vessel.flag))",
        lambda call: call.vessel.flag,
    ),
    "deferred itself": (f"{vessels}.options(defer(Vessel.flag))", lambda vessel: vessel.flag),
    "deferred by the model": (vessels, lambda vessel: vessel.log),
    "deferred by the model, joined": (
        f"{calls}.options(joinedload(Call.vessel))",
        lambda call: call.vessel.log,
    ),
    "deferred by the model, batch": (
        f"{calls}.options(selectinload(Call.vessel))",
        lambda call: call.vessel.log,
    ),
    "left out by load_only": (
        f"{vessels}.options(load_only(Vessel.name))",
        lambda vessel: (vessel.name, vessel.flag),
    ),
    "left out below a batch": (
        f"{calls}.options(selectinload(Call.vessel).load_only(Vessel.name))",
        lambda call: (call.vessel.name, call.vessel.flag),
    ),
    "named and unread": (
        f"{calls}.options(load_only(Call.agent, Call.remarks))",
        lambda call: call.agent,
    ),
    "named below a batch and unread": (
        f"{calls}.options(load_only(Call.agent), selectinload(Call.jobs).load_only(Job.state, Job.manual))",
        lambda call: (call.agent, [job.state for job in call.jobs]),
    ),
    "unread below a batch": (
        f"{calls}.options(load_only(Call.agent), selectinload(Call.jobs))",
        lambda call: (call.agent, [(job.id, job.state) for job in call.jobs]),
    ),
    "unread two relations below": (
        f"{calls}.options(load_only(Call.agent), selectinload(Call.jobs).load_only(Job.state).selectinload(Job.tug))",
        lambda call: (call.agent, [(job.state, job.tug.name) for job in call.jobs]),
    ),
    "undeferred and unread": (
        f"{vessels}.options(undefer(Vessel.log))",
        lambda vessel: (vessel.name, vessel.flag),
    ),
    "of a class and a version": ("select(Craft)", lambda craft: craft.name),
}


def edited(page, query):
    """A query with its edit: an addition, or what is taken out of it."""
    code = EDITS.get(page, "")
    if code.startswith("."):
        return query + code
    for name in re.findall(r"[A-Z]\w+\.\w+", code) if code.startswith("take ") else ():
        query = re.sub(rf"\.defer\({name}\)|, {name}\b|{name}, ", "", query)
        query = re.sub(rf"\.options\((?:un)?defer\({name}\)\)", "", query)
    return query


def made(page, query):
    """The query, built at a line of the page's own."""
    return eval(compile(edited(page, query), f"/harbour/pages/{page}.py", "eval"))


EDITS = json.load(open(sys.argv[1]))
given = {}
for _turn in range(2):
    for page, (query, read) in PAGES.items():
        with Session(engine) as db, askless.request(page):
            try:
                given[page] = repr([read(one) for one in db.scalars(made(page, query)).unique()])
            except Exception as error:  # noqa: BLE001  (it is what the page gives)
                given[page] = f"{type(error).__name__}: {error}"
json.dump(given, open(sys.argv[2], "w"))
