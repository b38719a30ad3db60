"""Pages of a harbour office on SQLAlchemy, each of which may be given advice: `with_sqlalchemy.py
ADVICE.json PAGES.json`.

ADVICE.json maps a page to code: an addition to its query, or a query or statement of its own.
PAGES.json gets what the pages gave.
"""

import json
import re
import sys

from sqlalchemy import ForeignKey, create_engine, delete, func, insert, select, update
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
)  # fmt: skip

import askless

ADVICE = json.load(open(sys.argv[1]))
__all__ = [
    "defaultload",
    "defer",
    "delete",
    "insert",
    "joinedload",
    "load_only",
    "selectinload",
    "undefer",
    "update",
]


class Base(DeclarativeBase):
    pass


class Vessel(Base):
    __tablename__ = "vessel"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    flag: Mapped[str]
    log: Mapped[str]
    calls: Mapped[list["PortCall"]] = relationship(back_populates="vessel", order_by="PortCall.id")


class Tug(Base):
    __tablename__ = "tug"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]


class PortCall(Base):
    __tablename__ = "port_call"
    id: Mapped[int] = mapped_column(primary_key=True)
    vessel_id: Mapped[int | None] = mapped_column(ForeignKey("vessel.id"))
    state: Mapped[str] = mapped_column("status")
    agent: Mapped[str]
    vessel: Mapped[Vessel | None] = relationship(back_populates="calls")
    tug_jobs: Mapped[list["TugJob"]] = relationship(order_by="TugJob.id")
    tugs: Mapped[list[Tug]] = relationship(secondary="tug_job", viewonly=True, order_by="Tug.id")


class TugJob(Base):
    __tablename__ = "tug_job"
    id: Mapped[int] = mapped_column(primary_key=True)
    port_call_id: Mapped[int] = mapped_column(ForeignKey("port_call.id"))
    tug_id: Mapped[int] = mapped_column(ForeignKey("tug.id"))
    tug: Mapped[Tug] = relationship()


engine = create_engine("sqlite://")
Base.metadata.create_all(engine)
with Session(engine) as session:
    session.add_all(Vessel(id=i, name=f"Tern {i}", flag="NO", log="x" * 600) for i in range(1, 41))
    session.add_all(Tug(id=i, name=f"Tug {i}") for i in range(1, 6))
    # The last of twelve has no vessel, every third no tug: an inner join would lose them.
    session.add_all(
        PortCall(id=i, vessel_id=None if i == 12 else i, state="due", agent="Ann")
        for i in range(1, 31)
    )
    session.flush()
    session.add_all(
        TugJob(id=10 * i + n, port_call_id=i, tug_id=(i + n) % 5 + 1)
        for i in range(1, 31)
        if i % 3
        for n in (1, 2)
    )
    session.commit()

DUE = "select(PortCall).order_by(PortCall.id).limit(12)"
CHOSEN = "select(PortCall).order_by(PortCall.id).limit(6)"


def evaluated(text, *names):
    """What code gives, as if it stood in a file of the page's own."""
    code = compile(text, f"/harbour/pages/{page}.py", "eval")
    return eval(code, *(names or (globals(), sys._getframe(1).f_locals)))


def given(base):
    """The page's query with its advice, which is made of code that begins with a dot."""
    code = ADVICE.get(page, "")
    return evaluated(base + (code if code.startswith(".") else ""))


def own(base):
    """The advice, if it is a query of its own."""
    code = ADVICE.get(page, "")
    return evaluated(code or base)


def to_one(db):
    return [(call.id, call.vessel and call.vessel.name) for call in db.scalars(given(DUE))]


def to_many(db):
    return [
        (call.id, [job.id for job in call.tug_jobs]) for call in db.scalars(given(DUE)).unique()
    ]


def nested(db):
    return [(call.id, [job.tug.name for job in call.tug_jobs]) for call in db.scalars(given(DUE))]


def below_an_eager_load(db):
    calls = db.scalars(given(CHOSEN + ".options(selectinload(PortCall.tug_jobs))"))
    return [(call.id, [job.tug.name for job in call.tug_jobs]) for call in calls]


def link_table(db):
    return [(call.id, [tug.name for tug in call.tugs]) for call in db.scalars(given(DUE)).unique()]


def count(db):
    if page in ADVICE:
        return [(vessel.name, number) for vessel, number in db.execute(own(""))]
    board = []
    for vessel in db.scalars(select(Vessel).order_by(Vessel.id)):
        calls = db.scalar(
            select(func.count()).select_from(PortCall).where(PortCall.vessel_id == vessel.id)
        )
        board.append((vessel.name, calls))
    return board


def only_counted(db):
    if ADVICE.get(page, ".").startswith("."):
        return [
            (vessel.name, len(vessel.calls))
            for vessel in db.scalars(given("select(Vessel).order_by(Vessel.id)"))
        ]
    return [(vessel.name, number) for vessel, number in db.execute(own(""))]


def over_wide(db):
    return [
        (vessel.id, vessel.name)
        for vessel in db.scalars(given("select(Vessel).order_by(Vessel.id)"))
    ]


def over_wide_joined(db):
    calls = db.scalars(
        given(DUE.replace("limit(12)", "limit(30)") + ".options(joinedload(PortCall.vessel))")
    )
    return [(call.id, call.vessel and call.vessel.name) for call in calls]


def left_out_and_read(db):
    vessels = db.scalars(
        given("select(Vessel).order_by(Vessel.id).limit(9).options(load_only(Vessel.name))")
    )
    return [(vessel.name, vessel.flag) for vessel in vessels]


def counted_in_code(db):
    if page in ADVICE:
        return db.scalar(own(""))
    return len(db.scalars(select(Vessel)).all())


def insert_loop(db):
    rows = [{"id": 1000 + i, "port_call_id": 3, "tug_id": i % 5 + 1} for i in range(8)]
    if page in ADVICE:
        session = db
        code = re.sub(r'"(\w+)": \.\.\.', r'"\1": row["\1"]', ADVICE[page]).replace(
            "for ... in ...", "for row in rows"
        )
        evaluated(code, globals(), {"session": session, "rows": rows})
    else:
        for row in rows:
            db.execute(insert(TugJob).values(**row))
    db.commit()
    return [
        job.id for job in db.scalars(select(TugJob).where(TugJob.id >= 1000).order_by(TugJob.id))
    ]


def unused_eager(db):
    calls = db.scalars(
        evaluated(CHOSEN + ("" if page in ADVICE else ".options(selectinload(PortCall.tug_jobs))"))
    )
    return [call.agent for call in calls]


def unused_join(db):
    calls = db.scalars(
        evaluated(CHOSEN + ("" if page in ADVICE else ".options(joinedload(PortCall.vessel))"))
    )
    return [call.agent for call in calls]


def already_loaded(db):
    found = []
    for portcall in db.scalars(evaluated(CHOSEN + ".options(selectinload(PortCall.tug_jobs))")):
        jobs = select(TugJob).where(TugJob.port_call_id == portcall.id).order_by(TugJob.id)
        found.append(
            (
                portcall.agent,
                [
                    job.id
                    for job in (evaluated(ADVICE[page]) if page in ADVICE else db.scalars(jobs))
                ],
            )
        )
    return found


PAGES = [
    to_one, to_many, nested, below_an_eager_load, link_table, count, only_counted, over_wide, over_wide_joined,
    left_out_and_read, counted_in_code, insert_loop, unused_eager, unused_join, already_loaded,
]  # fmt: skip
pages = {}
for function in PAGES:
    page = function.__name__
    with Session(engine) as session, askless.request(page):
        pages[page] = function(session)
json.dump(pages, open(sys.argv[2], "w"))
