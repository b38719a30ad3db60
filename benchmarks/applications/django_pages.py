"""The harbour office on Django: see `harness`."""

from __future__ import annotations

import re

import django_settings
from harness import DUE, URL, data, edit, evaluated, given, main, page

django_settings.configure(URL, "harbour_django")

from django.db import connection, transaction  # noqa: E402
from django.db.models import Count, Max, Prefetch, Q  # noqa: E402
from harbour_django.models import PortCall, Tug, TugJob, Vessel  # noqa: E402

__all__ = ["Count", "Prefetch", "Q"]


NAMES = globals()
MODELS = {"vessel": Vessel, "tug": Tug, "port_call": PortCall, "tug_job": TugJob}
with connection.cursor() as cursor:
    for name in reversed(MODELS):
        cursor.execute(f"DROP TABLE IF EXISTS {name}")
with connection.schema_editor() as editor:
    for model in MODELS.values():
        editor.create_model(model)
for name, rows in data().items():
    MODELS[name].objects.bulk_create([MODELS[name](**row) for row in rows])

LIST = f"PortCall.objects.order_by('id')[:{DUE}]"
ALL_VESSELS = "Vessel.objects.order_by('id')"


def listed(more=""):
    """The calls on a page; the edit comes before the slice, as a person would put it."""
    code = edit()
    call = code if code.startswith(".") else ""
    return evaluated(f"PortCall.objects.order_by('id'){more}{call}[:{DUE}]", NAMES)


@page("n-plus-one")
def to_one():
    return [(call.id, call.vessel and call.vessel.name) for call in listed()]


@page("n-plus-one")
def to_many():
    return [(call.id, [job.id for job in call.tug_jobs.all()]) for call in listed()]


@page("n-plus-one")
def link_table():
    return [(call.id, sorted(tug.name for tug in call.tugs.all())) for call in listed()]


@page("n-plus-one")
def nested():
    return [(call.id, [job.tug.name for job in call.tug_jobs.all()]) for call in listed()]


@page("n-plus-one")
def both():
    return [
        (call.id, call.vessel and call.vessel.name, [job.tug.name for job in call.tug_jobs.all()])
        for call in listed()
    ]


@page("n-plus-one")
def below_an_eager_load():
    return [
        (call.id, [job.tug.name for job in call.tug_jobs.all()])
        for call in listed(".prefetch_related('tug_jobs')")
    ]


@page("n-plus-one")
def behind_a_join():
    code = edit() if edit().startswith(".") else ""
    jobs = evaluated(f"TugJob.objects.select_related('port_call').order_by('id'){code}[:40]", NAMES)
    return [(job.id, job.port_call.vessel and job.port_call.vessel.flag) for job in jobs]


@page("n-plus-one over-wide")
def up_and_down():
    code = edit() if edit().startswith(".") else ""
    vessels = evaluated(f"{ALL_VESSELS}{code}[:20]", NAMES)
    return [
        (v.name, [(c.id, [j.id for j in c.tug_jobs.all()]) for c in v.calls.all()]) for v in vessels
    ]


@page("n-plus-one")
def filtered():
    return [(call.id, [job.id for job in call.tug_jobs.filter(tug_id__gt=2)]) for call in listed()]


@page("n-plus-one")
def first_of_all():
    return [(call.id, getattr(call.tug_jobs.first(), "id", None)) for call in listed()]


@page("n-plus-one over-wide")
def count():
    if edit() and not edit().startswith("."):
        return [
            (vessel.name, vessel.calls_count) for vessel in evaluated(edit(), NAMES).order_by("id")
        ]
    return [(vessel.name, vessel.calls.count()) for vessel in given(ALL_VESSELS, NAMES)]


@page("n-plus-one over-wide")
def only_counted():
    if edit() and not edit().startswith("."):
        return [
            (vessel.name, vessel.calls_count) for vessel in evaluated(edit(), NAMES).order_by("id")
        ]
    return [(vessel.name, len(vessel.calls.all())) for vessel in given(ALL_VESSELS, NAMES)]


@page("n-plus-one")
def whether_any():
    return [(call.id, call.tug_jobs.exists()) for call in evaluated(LIST, NAMES)]


@page("n-plus-one")
def left_out_and_read():
    code = edit() if edit().startswith(".") else ""
    return [
        (vessel.name, vessel.flag)
        for vessel in evaluated(f"{ALL_VESSELS}.only('name'){code}[:12]", NAMES)
    ]


@page("over-wide")
def wide():
    return [(vessel.id, vessel.name) for vessel in given(ALL_VESSELS, NAMES)]


@page("over-wide")
def wide_behind_a_join():
    return [
        (call.id, call.vessel and call.vessel.name) for call in listed(".select_related('vessel')")
    ]


@page("over-wide n-plus-one")
def wide_and_row_by_row():
    return [
        (vessel.name, [call.agent for call in vessel.calls.all()])
        for vessel in given(ALL_VESSELS, NAMES)
    ]


def _rate():
    return Tug.objects.filter(name="Tug 3").aggregate(Max("id"))["id__max"]


@page("duplicate over-wide")
def read_again():
    return [_rate(), [call.id for call in given(LIST, NAMES)], _rate(), _rate()]


@page("sibling-filters")
def statistics():
    if edit():
        counts = {row["status"]: row["number"] for row in evaluated(edit(), NAMES)}
        return [counts.get(one, 0) for one in ("due", "berthed", "left")]
    return [PortCall.objects.filter(status=one).count() for one in ("due", "berthed", "left")]


@page("write-loop")
def insert_loop():
    rows = [{"id": 5000 + i, "port_call_id": 3, "tug_id": i % 5 + 1} for i in range(12)]
    with transaction.atomic():
        if edit():
            code = re.sub(r"TugJob\(\.\.\.\)", "TugJob(**row)", edit()).replace(
                "for ... in ...", "for row in rows"
            )
            evaluated(code, NAMES, {"rows": rows})
        else:
            for row in rows:
                TugJob.objects.create(**row)
        found = list(TugJob.objects.filter(id__gte=5000).values_list("id", flat=True))
        TugJob.objects.filter(id__gte=5000).delete()
    return found


def _added():
    return edit() if edit().startswith(".") else ""


@page("unused-load over-wide")
def unused_eager():
    eager = "" if edit().startswith("remove ") else ".prefetch_related('tug_jobs')"
    return [
        call.agent
        for call in evaluated(f"PortCall.objects.order_by('id'){eager}{_added()}[:{DUE}]", NAMES)
    ]


@page("unused-load")
def unused_join():
    eager = "" if edit().startswith("remove ") else ".select_related('vessel')"
    return [
        call.agent
        for call in evaluated(f"PortCall.objects.order_by('id'){eager}{_added()}[:{DUE}]", NAMES)
    ]


@page("already-loaded")
def already_loaded():
    found = []
    for portcall in evaluated(
        f"PortCall.objects.order_by('id').prefetch_related('tug_jobs')[:{DUE}]", NAMES
    ):
        jobs = (
            evaluated(edit(), NAMES, locals())
            if edit()
            else TugJob.objects.filter(port_call_id=portcall.id)
        )
        found.append((portcall.agent, [job.id for job in jobs]))
    return found


@page()
def eager():
    calls = evaluated(
        f"PortCall.objects.order_by('id').select_related('vessel').defer('vessel__log')[:{DUE}]",
        NAMES,
    )
    return [(call.id, call.vessel and call.vessel.name) for call in calls]


@page()
def batches():
    calls = evaluated(
        f"PortCall.objects.order_by('id').prefetch_related('tug_jobs__tug')[:{DUE}]", NAMES
    )
    return [(call.id, [job.tug.name for job in call.tug_jobs.all()]) for call in calls]


@page()
def one_call():
    call = PortCall.objects.get(pk=5)
    return [
        call.vessel.name,
        [job.id for job in call.tug_jobs.all()],
        sorted(tug.name for tug in call.tugs.all()),
    ]


@page()
def pages_by_key():
    found, last = [], 0
    for _ in range(4):
        rows = list(PortCall.objects.filter(id__gt=last).order_by("id")[:9])
        found += [call.id for call in rows]
        last = rows[-1].id
    return found


@page()
def read_after_write():
    names = []
    for turn in range(3):
        Tug.objects.filter(pk=1).update(name=f"Tug {turn}")
        names.append(Tug.objects.values_list("name", flat=True).get(pk=1))
    return names


@page()
def grouped():
    return [
        list(row.values())
        for row in PortCall.objects.order_by("status").values("status").annotate(n=Count("id"))
    ]


main(lambda function: function())
