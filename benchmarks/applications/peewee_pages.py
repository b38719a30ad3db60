"""The harbour office on Peewee, an ORM that the recorder does not know: see `harness`."""

from __future__ import annotations

from harness import DUE, URL, data, main, page
from peewee import CharField, ForeignKeyField, IntegerField, Model, TextField, fn, prefetch
from playhouse.db_url import connect

db = connect(URL.replace("+psycopg", "").replace("+pymysql", ""))


class Base(Model):
    class Meta:
        database = db


class Vessel(Base):
    name, flag, log = CharField(50), CharField(5), TextField()

    class Meta:
        table_name = "vessel"


class Tug(Base):
    name = CharField(50)

    class Meta:
        table_name = "tug"


class PortCall(Base):
    vessel = ForeignKeyField(Vessel, null=True, backref="calls")
    status, agent = CharField(20), CharField(50)

    class Meta:
        table_name = "port_call"


class TugJob(Base):
    port_call = ForeignKeyField(PortCall, backref="tug_jobs")
    tug = ForeignKeyField(Tug)
    place = IntegerField(null=True)

    class Meta:
        table_name = "tug_job"


MODELS = {"vessel": Vessel, "tug": Tug, "port_call": PortCall, "tug_job": TugJob}
db.drop_tables(list(reversed(MODELS.values())), safe=True)
db.create_tables(list(MODELS.values()))
for name, rows in data().items():
    MODELS[name].insert_many(rows).execute()


def listed():
    return PortCall.select().order_by(PortCall.id).limit(DUE)


@page("n-plus-one")
def to_one():
    return [(call.id, call.vessel and call.vessel.name) for call in listed()]


@page("n-plus-one")
def to_many():
    return [(call.id, [job.id for job in call.tug_jobs]) for call in listed()]


@page("n-plus-one")
def nested():
    return [(call.id, [job.tug.name for job in call.tug_jobs]) for call in listed()]


@page("n-plus-one")
def both():
    return [
        (call.id, call.vessel and call.vessel.name, [job.id for job in call.tug_jobs])
        for call in listed()
    ]


@page("n-plus-one")
def link_table():
    found = []
    for call in listed():
        tugs = Tug.select().join(TugJob).where(TugJob.port_call == call.id).order_by(Tug.id)
        found.append((call.id, [tug.name for tug in tugs]))
    return found


@page("n-plus-one")
def count():
    return [(vessel.name, vessel.calls.count()) for vessel in Vessel.select(Vessel.id, Vessel.name)]


@page("n-plus-one")
def total():
    found = []
    for call in listed():
        found.append(
            (
                call.id,
                TugJob.select(fn.SUM(TugJob.tug_id)).where(TugJob.port_call == call.id).scalar(),
            )
        )
    return [(number, int(value or 0)) for number, value in found]


@page("n-plus-one")
def whether_any():
    return [
        (call.id, TugJob.select().where(TugJob.port_call == call.id).exists()) for call in listed()
    ]


@page("n-plus-one")
def latest():
    found = []
    for vessel in Vessel.select(Vessel.id).order_by(Vessel.id).limit(12):
        last = (
            PortCall.select()
            .where(PortCall.vessel == vessel.id)
            .order_by(PortCall.id.desc())
            .limit(1)
        )
        found.append((vessel.id, [call.id for call in last]))
    return found


@page("n-plus-one")
def get_by_id():
    return [Vessel.get_by_id(call.vessel_id).flag for call in listed() if call.vessel_id]


@page("over-wide")
def wide():
    return [(vessel.id, vessel.name) for vessel in Vessel.select().order_by(Vessel.id)]


@page("over-wide")
def wide_behind_a_join():
    calls = PortCall.select(PortCall, Vessel).join(Vessel).order_by(PortCall.id).limit(DUE)
    return [(call.id, call.vessel.name) for call in calls]


@page("duplicate")
def read_again():
    return [Tug.select(fn.MAX(Tug.id)).where(Tug.name == "Tug 3").scalar() for _ in range(3)]


@page("sibling-filters")
def statistics():
    return [
        PortCall.select().where(PortCall.status == one).count()
        for one in ("due", "berthed", "left")
    ]


@page("write-loop")
def insert_loop():
    with db.atomic():
        for i in range(12):
            TugJob.insert(id=5000 + i, port_call=3, tug=i % 5 + 1, place=1).execute()
        found = TugJob.select().where(TugJob.place == 1).count()
        TugJob.delete().where(TugJob.place == 1).execute()
    return found


@page("write-loop")
def save_loop():
    tugs = list(Tug.select().order_by(Tug.id))
    with db.atomic():
        for tug in tugs:
            tug.name = tug.name.strip()
            tug.save()
    return len(tugs)


@page("already-loaded")
def already_loaded():
    vessels = list(Vessel.select(Vessel.id, Vessel.name).order_by(Vessel.id).limit(10))
    return [
        Vessel.select(Vessel.id, Vessel.name).where(Vessel.id == vessel.id).get().name
        for vessel in vessels
    ]


@page()
def joined():
    calls = PortCall.select(PortCall, Vessel.name).join(Vessel).order_by(PortCall.id).limit(DUE)
    return [(call.id, call.vessel.name) for call in calls]


@page()
def batches():
    return [
        (call.id, [job.id for job in call.tug_jobs]) for call in prefetch(listed(), TugJob.select())
    ]


@page()
def one_call():
    call = PortCall.get_by_id(5)
    return [call.vessel.name, [job.id for job in call.tug_jobs]]


@page()
def pages_by_key():
    found, last = [], 0
    for _ in range(4):
        rows = list(PortCall.select().where(PortCall.id > last).order_by(PortCall.id).limit(9))
        found += [call.id for call in rows]
        last = rows[-1].id
    return found


@page()
def grouped():
    rows = (
        PortCall.select(PortCall.status, fn.COUNT(PortCall.id))
        .group_by(PortCall.status)
        .order_by(PortCall.status)
    )
    return [tuple(row) for row in rows.tuples()]


def in_connection(function):
    with db.connection_context() if db.is_closed() else db.atomic():
        return function()


main(in_connection)
