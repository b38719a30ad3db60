"""The harbour office on SQLAlchemy, or on SQLModel with `HARBOUR_MODELS=sqlmodel`: see `harness`."""

from __future__ import annotations

import os
import re

from harness import DUE, URL, data, edit, evaluated, given, main, page
from sqlalchemy import create_engine, delete, exists, func, insert, select, update
from sqlalchemy.orm import Session, defaultload, defer, joinedload, load_only, selectinload, undefer

if os.environ.get("HARBOUR_MODELS") == "sqlmodel":
    from models_sqlmodel import METADATA, PortCall, Tug, TugJob, Vessel
else:
    from models_sqlalchemy import METADATA, PortCall, Tug, TugJob, Vessel

NAMES = globals()
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
engine = create_engine(URL)
METADATA.drop_all(engine)
METADATA.create_all(engine)
with engine.begin() as connection:
    for name, rows in data().items():
        connection.execute(insert(METADATA.tables[name]), rows)

LIST = f"select(PortCall).order_by(PortCall.id).limit({DUE})"
ALL_VESSELS = "select(Vessel).order_by(Vessel.id)"


@page("n-plus-one")
def to_one(db):
    return [(call.id, call.vessel and call.vessel.name) for call in db.scalars(given(LIST, NAMES))]


@page("n-plus-one")
def to_many(db):
    return [
        (call.id, [job.id for job in call.tug_jobs])
        for call in db.scalars(given(LIST, NAMES)).unique()
    ]


@page("n-plus-one")
def link_table(db):
    return [
        (call.id, [tug.name for tug in call.tugs])
        for call in db.scalars(given(LIST, NAMES)).unique()
    ]


@page("n-plus-one")
def nested(db):
    return [
        (call.id, [job.tug.name for job in call.tug_jobs])
        for call in db.scalars(given(LIST, NAMES)).unique()
    ]


@page("n-plus-one")
def both(db):
    return [
        (call.id, call.vessel and call.vessel.name, [job.tug.name for job in call.tug_jobs])
        for call in db.scalars(given(LIST, NAMES)).unique()
    ]


@page("n-plus-one")
def below_an_eager_load(db):
    calls = db.scalars(given(LIST + ".options(selectinload(PortCall.tug_jobs))", NAMES)).unique()
    return [(call.id, [job.tug.name for job in call.tug_jobs]) for call in calls]


@page("n-plus-one")
def behind_a_join(db):
    jobs = "select(TugJob).options(joinedload(TugJob.call)).order_by(TugJob.id).limit(40)"
    return [
        (job.id, job.call.vessel and job.call.vessel.flag)
        for job in db.scalars(given(jobs, NAMES)).unique()
    ]


@page("n-plus-one over-wide")
def up_and_down(db):
    vessels = db.scalars(given(ALL_VESSELS + ".limit(20)", NAMES)).unique()
    return [(v.name, [(c.id, [j.id for j in c.tug_jobs]) for c in v.calls]) for v in vessels]


@page("n-plus-one over-wide")
def count(db):
    if edit() and not edit().startswith("."):
        return [
            (vessel.name, number)
            for vessel, number in db.execute(given(edit() + ".order_by(Vessel.id)", NAMES))
        ]
    board = []
    for vessel in db.scalars(given(ALL_VESSELS, NAMES)):
        calls = db.scalar(
            select(func.count()).select_from(PortCall).where(PortCall.vessel_id == vessel.id)
        )
        board.append((vessel.name, calls))
    return board


@page("n-plus-one over-wide")
def only_counted(db):
    if edit() and not edit().startswith("."):
        return [
            (vessel.name, number)
            for vessel, number in db.execute(given(edit() + ".order_by(Vessel.id)", NAMES))
        ]
    return [
        (vessel.name, len(vessel.calls))
        for vessel in db.scalars(given(ALL_VESSELS, NAMES)).unique()
    ]


@page("n-plus-one over-wide")
def whether_any(db):
    found = []
    for call in db.scalars(given(LIST, NAMES)):
        found.append(
            (call.id, bool(db.scalar(select(exists().where(TugJob.port_call_id == call.id)))))
        )
    return found


@page("n-plus-one over-wide")
def latest(db):
    found = []
    for vessel in db.scalars(given(ALL_VESSELS + ".limit(12)", NAMES)):
        last = (
            select(PortCall)
            .where(PortCall.vessel_id == vessel.id)
            .order_by(PortCall.id.desc())
            .limit(1)
        )
        found.append((vessel.id, [call.id for call in db.scalars(last)]))
    return found


@page("n-plus-one")
def left_out_and_read(db):
    vessels = db.scalars(given(ALL_VESSELS + ".limit(12).options(load_only(Vessel.name))", NAMES))
    return [(vessel.name, vessel.flag) for vessel in vessels]


@page("over-wide")
def wide(db):
    return [(vessel.id, vessel.name) for vessel in db.scalars(given(ALL_VESSELS, NAMES))]


@page("over-wide")
def wide_behind_a_join(db):
    calls = db.scalars(given(LIST + ".options(joinedload(PortCall.vessel))", NAMES)).unique()
    return [(call.id, call.vessel and call.vessel.name) for call in calls]


@page("over-wide n-plus-one")
def wide_and_row_by_row(db):
    vessels = db.scalars(given(ALL_VESSELS + ".limit(30)", NAMES)).unique()
    return [(vessel.name, [call.agent for call in vessel.calls]) for vessel in vessels]


def _rate(db):
    return db.scalar(select(func.max(Tug.id)).where(Tug.name == "Tug 3"))


@page("duplicate over-wide")
def read_again(db):
    return [_rate(db), [call.id for call in db.scalars(given(LIST, NAMES))], _rate(db), _rate(db)]


@page("sibling-filters")
def statistics(db):
    if edit():
        counts = dict(db.execute(evaluated(edit(), NAMES)).all())
        return [counts.get(one, 0) for one in ("due", "berthed", "left")]
    return [
        db.scalar(select(func.count()).select_from(PortCall).where(PortCall.status == one))
        for one in ("due", "berthed", "left")
    ]


@page("write-loop")
def insert_loop(db):
    db.execute(delete(TugJob).where(TugJob.id >= 5000))
    rows = [{"id": 5000 + i, "port_call_id": 3, "tug_id": i % 5 + 1} for i in range(12)]
    if edit():
        code = re.sub(r'"(\w+)": \.\.\.', r'"\1": row["\1"]', edit()).replace(
            "for ... in ...", "for row in rows"
        )
        evaluated(code, NAMES, {"session": db, "rows": rows})
    else:
        for row in rows:
            db.execute(insert(TugJob).values(**row))
    found = [
        job.id for job in db.scalars(select(TugJob).where(TugJob.id >= 5000).order_by(TugJob.id))
    ]
    db.execute(delete(TugJob).where(TugJob.id >= 5000))
    db.commit()
    return found


@page("unused-load over-wide")
def unused_eager(db):
    eager = "" if edit().startswith("remove ") else ".options(selectinload(PortCall.tug_jobs))"
    return [call.agent for call in db.scalars(given(LIST + eager, NAMES))]


@page("unused-load")
def unused_join(db):
    eager = "" if edit().startswith("remove ") else ".options(joinedload(PortCall.vessel))"
    return [call.agent for call in db.scalars(given(LIST + eager, NAMES)).unique()]


@page("already-loaded")
def already_loaded(db):
    found = []
    for portcall in db.scalars(eval(LIST + ".options(selectinload(PortCall.tug_jobs))")):
        jobs = select(TugJob).where(TugJob.port_call_id == portcall.id).order_by(TugJob.id)
        found.append(
            (
                portcall.agent,
                [
                    job.id
                    for job in (evaluated(edit(), NAMES, locals()) if edit() else db.scalars(jobs))
                ],
            )
        )
    return found


@page()
def eager(db):
    calls = db.scalars(
        eval(LIST + ".options(joinedload(PortCall.vessel).load_only(Vessel.name))")
    ).unique()
    return [(call.id, call.vessel and call.vessel.name) for call in calls]


@page()
def batches(db):
    calls = db.scalars(
        eval(LIST + ".options(selectinload(PortCall.tug_jobs).joinedload(TugJob.tug))")
    )
    return [(call.id, [job.tug.name for job in call.tug_jobs]) for call in calls]


@page()
def one_call(db):
    call = db.get(PortCall, 5)
    return [call.vessel.name, [job.id for job in call.tug_jobs], [tug.name for tug in call.tugs]]


@page()
def pages_by_key(db):
    found, last = [], 0
    for _ in range(4):
        rows = db.scalars(
            select(PortCall).where(PortCall.id > last).order_by(PortCall.id).limit(9)
        ).all()
        found += [call.id for call in rows]
        last = rows[-1].id
    return found


@page()
def read_after_write(db):
    names = []
    for turn in range(3):
        db.execute(update(Tug).where(Tug.id == 1).values(name=f"Tug {turn}"))
        names.append(db.scalar(select(Tug.name).where(Tug.id == 1)))
    db.rollback()
    return names


@page()
def grouped(db):
    return [
        tuple(row)
        for row in db.execute(
            select(PortCall.status, func.count())
            .group_by(PortCall.status)
            .order_by(PortCall.status)
        )
    ]


def in_session(function):
    with Session(engine) as session:
        return function(session)


main(in_session)
