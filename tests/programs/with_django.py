"""The pages of `with_sqlalchemy.py` on Django: `with_django.py ADVICE.json PAGES.json`, in a folder
with the app `office`.
"""

import json
import sys

import django
from django.conf import settings

import askless

settings.configure(
    DATABASES={"default": {"ENGINE": "django.db.backends.sqlite3", "NAME": ":memory:"}},
    INSTALLED_APPS=["office"], DEFAULT_AUTO_FIELD="django.db.models.AutoField",
)  # fmt: skip
django.setup()

from django.db import connection
from django.db.models import Count, Prefetch, Q
from office.models import PortCall, Tug, TugJob, Vessel

ADVICE = json.load(open(sys.argv[1]))
__all__ = ["Count", "Prefetch", "Q"]

with connection.schema_editor() as editor:
    for model in (Vessel, Tug, PortCall, TugJob):
        editor.create_model(model)
Vessel.objects.bulk_create(
    Vessel(id=i, name=f"Tern {i}", flag="NO", log="x" * 600) for i in range(1, 41)
)
Tug.objects.bulk_create(Tug(id=i, name=f"Tug {i}") for i in range(1, 6))
PortCall.objects.bulk_create(
    PortCall(id=i, vessel_id=None if i == 12 else i, state="due", agent="Ann") for i in range(1, 31)
)
TugJob.objects.bulk_create(
    TugJob(id=10 * i + n, port_call_id=i, tug_id=(i + n) % 5 + 1)
    for i in range(1, 31)
    if i % 3
    for n in (1, 2)
)

DUE = 'PortCall.objects.order_by("id"){}[:12]'
CHOSEN = 'PortCall.objects.order_by("id"){}[:6]'


def evaluated(text, *names):
    """What code gives, as if it stood in a file of the page's own."""
    code = compile(text, f"/harbour/pages/{page}.py", "eval")
    return eval(code, *(names or (globals(), sys._getframe(1).f_locals)))


def given(base, call=""):
    code = ADVICE.get(page, "")
    return evaluated(base.format(call + (code if code.startswith(".") else "")))


def to_one():
    return [(call.id, call.vessel and call.vessel.name) for call in given(DUE)]


def to_many():
    return [(call.id, [job.id for job in call.tug_jobs.all()]) for call in given(DUE)]


def nested():
    return [(call.id, [job.tug.name for job in call.tug_jobs.all()]) for call in given(DUE)]


def below_an_eager_load():
    code = ADVICE.get(page, "")
    calls = evaluated(CHOSEN.format(code or '.prefetch_related("tug_jobs")'))
    return [(call.id, [job.tug.name for job in call.tug_jobs.all()]) for call in calls]


def link_table():
    return [(call.id, [tug.name for tug in call.tugs.all()]) for call in given(DUE)]


def count():
    if page in ADVICE:
        return [(vessel.name, vessel.calls_count) for vessel in evaluated(ADVICE[page])]
    return [(vessel.name, vessel.calls.count()) for vessel in Vessel.objects.order_by("id")]


def only_counted():
    if ADVICE.get(page, ".").startswith("."):
        return [
            (vessel.name, len(vessel.calls.all()))
            for vessel in given('Vessel.objects.order_by("id"){}')
        ]
    return [(vessel.name, vessel.calls_count) for vessel in evaluated(ADVICE[page])]


def over_wide():
    return [(vessel.id, vessel.name) for vessel in given('Vessel.objects.order_by("id"){}')]


def over_wide_joined():
    calls = given(DUE.replace("12", "30"), '.select_related("vessel")')
    return [(call.id, call.vessel and call.vessel.name) for call in calls]


def left_out_and_read():
    return [
        (vessel.name, vessel.flag)
        for vessel in given('Vessel.objects.order_by("id").only("name"){}[:9]')
    ]


def counted_in_code():
    return evaluated(ADVICE[page]) if page in ADVICE else len(Vessel.objects.all())


def insert_loop():
    rows = [{"id": 1000 + i, "port_call_id": 3, "tug_id": i % 5 + 1} for i in range(8)]
    if page in ADVICE:
        code = ADVICE[page].replace("(...)", "(**row)").replace("for ... in ...", "for row in rows")
        evaluated(code, globals(), {"rows": rows})
    else:
        for row in rows:
            TugJob.objects.create(**row)
    return [job.id for job in TugJob.objects.filter(id__gte=1000).order_by("id")]


def unused_eager():
    return [
        call.agent
        for call in evaluated(
            CHOSEN.format("" if page in ADVICE else '.prefetch_related("tug_jobs")')
        )
    ]


def unused_join():
    return [
        call.agent
        for call in evaluated(CHOSEN.format("" if page in ADVICE else '.select_related("vessel")'))
    ]


def already_loaded():
    found = []
    for portcall in PortCall.objects.order_by("id").prefetch_related("tug_jobs")[:6]:
        jobs = TugJob.objects.filter(port_call=portcall).order_by("id")
        found.append(
            (
                portcall.agent,
                [job.id for job in (evaluated(ADVICE[page]) if page in ADVICE else jobs)],
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
    with askless.request(page):
        pages[page] = function()
json.dump(pages, open(sys.argv[2], "w"))
