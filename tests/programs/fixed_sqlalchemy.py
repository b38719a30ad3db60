"""Pages of the harbour office on SQLAlchemy, each as it grew and as it was fixed, and pages that
stay as they are but for a regression: `fixed_sqlalchemy.py DATABASE before|after [REGRESSION]`.
"""

import sys

from models import Berth, Inspection, LogEntry, PortCall, TugJob, Vessel
from sqlalchemy import create_engine, func, insert, select, text
from sqlalchemy.orm import Session, defer, joinedload, load_only, selectinload

import askless

DATABASE, SIDE, REGRESSION = sys.argv[1], sys.argv[2], sys.argv[3:]
engine = create_engine(DATABASE)
CALLS = select(PortCall).order_by(PortCall.id).limit(30)
REPORTS = select(Inspection).order_by(Inspection.id).limit(30)
STATES = ("due", "berthed", "departed", "waiting")


def shown(calls):
    return [(call.id, call.vessel.name) for call in calls]


# a joined eager load
def joined_before(db):
    return shown(db.scalars(CALLS))


def joined_after(db):
    return shown(db.scalars(CALLS.options(joinedload(PortCall.vessel))))


# a batch
def batched_before(db):
    return [len(call.tug_jobs) for call in db.scalars(CALLS)]


def batched_after(db):
    return [
        len(call.tug_jobs) for call in db.scalars(CALLS.options(selectinload(PortCall.tug_jobs)))
    ]


# two levels at once
def nested_before(db):
    return [[job.tug.name for job in call.tug_jobs] for call in db.scalars(CALLS)]


def nested_after(db):
    loads = selectinload(PortCall.tug_jobs).joinedload(TugJob.tug)
    return [[job.tug.name for job in call.tug_jobs] for call in db.scalars(CALLS.options(loads))]


# a column that is left out
def deferred_before(db):
    return [report.verdict for report in db.scalars(REPORTS)]


def deferred_after(db):
    return [report.verdict for report in db.scalars(REPORTS.options(defer(Inspection.report)))]


# columns that are named
def named_before(db):
    return [(report.id, report.verdict) for report in db.scalars(REPORTS)]


def named_after(db):
    return [
        (r.id, r.verdict)
        for r in db.scalars(REPORTS.options(load_only(Inspection.id, Inspection.verdict)))
    ]


# one grouped count
def counted_before(db):
    count = select(func.count()).select_from(PortCall)
    return [
        db.scalar(count.where(PortCall.berth_id == berth.id)) for berth in db.scalars(select(Berth))
    ]


def counted_after(db):
    counts = dict(
        db.execute(select(PortCall.berth_id, func.count()).group_by(PortCall.berth_id)).all()
    )
    return [counts.get(berth.id, 0) for berth in db.scalars(select(Berth))]


# one count for each of some constants
def statistics_before(db):
    count = select(func.count()).select_from(PortCall)
    return [db.scalar(count.where(PortCall.status == state)) for state in STATES]


def statistics_after(db):
    counts = dict(db.execute(select(PortCall.status, func.count()).group_by(PortCall.status)).all())
    return [counts.get(state, 0) for state in STATES]


# a batch that is written by hand
def by_hand_before(db):
    calls = db.execute(
        select(PortCall.id, PortCall.vessel_id).order_by(PortCall.id).limit(30)
    ).all()
    return [
        db.execute(select(Vessel.name).where(Vessel.id == key)).scalar_one() for _, key in calls
    ]


def by_hand_after(db):
    calls = db.execute(
        select(PortCall.id, PortCall.vessel_id).order_by(PortCall.id).limit(30)
    ).all()
    keys = {key for _, key in calls}
    names = dict(db.execute(select(Vessel.id, Vessel.name).where(Vessel.id.in_(keys))).all())
    return [names[key] for _, key in calls]


# a dict that is kept
def cached_before(db):
    return [db.execute(text("SELECT name FROM vessel WHERE id = 7")).scalar_one() for _ in range(9)]


def cached_after(db):
    name = db.execute(text("SELECT name FROM vessel WHERE id = 7")).scalar_one()
    return [name for _ in range(9)]


# rows that are written together
def written_before(db):
    for number in range(20):
        db.execute(
            insert(LogEntry).values(
                subject_type="tug", subject_id=number, written_at=func.now(), text="x"
            )
        )
    return 20


def written_after(db):
    rows = [{"subject_type": "tug", "subject_id": n, "text": "x"} for n in range(20)]
    db.execute(insert(LogEntry).values(written_at=func.now()), rows)
    return 20


# two findings at one line, of which the larger is fixed: what stays is no new finding
def half_before(db):
    return [(call.vessel.name, call.berth and call.berth.name) for call in db.scalars(CALLS)]


def half_after(db):
    calls = db.scalars(CALLS.options(joinedload(PortCall.vessel)))
    return [(call.vessel.name, call.berth and call.berth.name) for call in calls]


# a join that multiplies rows, split
def large(db):
    last = db.scalar(select(func.max(PortCall.id)))
    return select(PortCall).where(PortCall.id.between(last - 139, last - 99)).order_by(PortCall.id)


def split_before(db):
    loads = joinedload(PortCall.tug_jobs), joinedload(PortCall.manifest_lines)
    calls = db.scalars(large(db).options(*loads)).unique()
    return [(len(call.tug_jobs), len(call.manifest_lines)) for call in calls]


def split_after(db):
    loads = selectinload(PortCall.tug_jobs), selectinload(PortCall.manifest_lines)
    calls = db.scalars(large(db).options(*loads))
    return [(len(call.tug_jobs), len(call.manifest_lines)) for call in calls]


# code that moves to another module and function, as a page beside it is fixed
def moved_before(db):
    return [call.berth and call.berth.name for call in db.scalars(CALLS)]


MOVED = "\n\n\ndef names_of_berths(db, calls):\n    return [call.berth and call.berth.name for call in db.scalars(calls)]\n"


def moved_after(db):
    names = {}
    exec(compile(MOVED, "berths/views.py", "exec"), names)
    return names["names_of_berths"](db, CALLS)


# Pages that no one touched, but for what was planted.
def untouched(db):
    found = shown(db.scalars(CALLS.options(joinedload(PortCall.vessel))))
    if REGRESSION == ["query"]:
        db.scalar(select(func.count()).select_from(TugJob))
    if REGRESSION == ["loop"]:
        for number, _ in found[:5]:
            db.execute(select(TugJob.minutes).where(TugJob.port_call_id == number)).all()
    return found


def untouched_list(db):
    columns = select(Inspection.id, Inspection.verdict, Inspection.inspector)
    if REGRESSION == ["bytes"]:
        columns = columns.add_columns(Inspection.report)
    return [tuple(row)[:3] for row in db.execute(columns.order_by(Inspection.id).limit(60))]


given = {}
for _turn in range(3):
    for name, page in list(globals().items()):
        if name.endswith("_" + SIDE) or name.startswith("untouched"):
            route = "GET /" + name.removesuffix("_" + SIDE)
            with Session(engine) as db, askless.request(route):
                given[route] = page(db)
                db.rollback()
print(repr(given))
