"""Pages of the harbour office on Django, each as it grew and as it was fixed, in a folder with the
app `office`: `fixed_django.py before|after`.
"""

import sys

import django
from django.conf import settings

import askless

settings.configure(
    DATABASES={"default": {"ENGINE": "django.db.backends.sqlite3", "NAME": ":memory:"}},
    INSTALLED_APPS=["office"], DEFAULT_AUTO_FIELD="django.db.models.AutoField",
)  # fmt: skip
django.setup()

from django.db import connection, transaction
from django.db.models import Count
from office.models import PortCall, Tug, TugJob, Vessel

SIDE = sys.argv[1]
with connection.schema_editor() as editor:
    for model in (Vessel, Tug, PortCall, TugJob):
        editor.create_model(model)
Vessel.objects.bulk_create(Vessel(name=f"Tern {i}", flag="NO", log="x" * 900) for i in range(60))
Tug.objects.bulk_create(Tug(name=f"Tug {i}") for i in range(5))
PortCall.objects.bulk_create(
    PortCall(vessel_id=i % 60 + 1, state="due", agent="Ann") for i in range(40)
)
TugJob.objects.bulk_create(TugJob(port_call_id=i % 40 + 1, tug_id=i % 5 + 1) for i in range(80))


def calls():
    return PortCall.objects.order_by("id")


def vessels():
    return Vessel.objects.order_by("id")


def joined_before():
    return [call.vessel.name for call in calls()]


def joined_after():
    return [call.vessel.name for call in calls().select_related("vessel")]


# a fix that fetches wide columns which the lookups had left out
def wider_before():
    named = Vessel.objects.only("name")
    return [named.get(pk=call.vessel_id).name for call in calls()]


def wider_after():
    return [call.vessel.name for call in calls().select_related("vessel")]


def batched_before():
    return [[job.id for job in call.tug_jobs.all()] for call in calls()]


def batched_after():
    return [
        [job.id for job in call.tug_jobs.all()] for call in calls().prefetch_related("tug_jobs")
    ]


def link_before():
    return [[tug.name for tug in call.tugs.all()] for call in calls()]


def link_after():
    return [[tug.name for tug in call.tugs.all()] for call in calls().prefetch_related("tugs")]


def only_before():
    return [(vessel.id, vessel.name) for vessel in vessels()]


def only_after():
    return [(vessel.id, vessel.name) for vessel in vessels().only("id", "name")]


def deferred_before():
    return [(vessel.name, vessel.flag) for vessel in vessels()]


def deferred_after():
    return [(vessel.name, vessel.flag) for vessel in vessels().defer("log")]


def counted_before():
    return [call.tug_jobs.count() for call in calls()]


def counted_after():
    return [call.jobs for call in calls().annotate(jobs=Count("tug_jobs"))]


def by_hand_before():
    return [Vessel.objects.get(pk=key).name for key in calls().values_list("vessel_id", flat=True)]


def by_hand_after():
    keys = list(calls().values_list("vessel_id", flat=True))
    by_key = Vessel.objects.in_bulk(keys)
    return [by_key[key].name for key in keys]


def written_before():
    for n in range(20):
        TugJob.objects.create(port_call_id=n + 1, tug_id=1)
    return 20


def written_after():
    TugJob.objects.bulk_create(TugJob(port_call_id=n + 1, tug_id=1) for n in range(20))
    return 20


given = {}
for _turn in range(3):
    for name, page in list(globals().items()):
        if name.endswith("_" + SIDE):
            route = "GET /" + name.removesuffix("_" + SIDE)
            with askless.request(route), transaction.atomic():
                given[route] = page()
                transaction.set_rollback(True)
print(repr(given))
