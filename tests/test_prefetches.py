"""Django's prefetched relations that are asked for again all the same, prefetches in a loop, and
querysets of a related manager: each gets the advice that fits it.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from tests.conftest import findings, run
from tests.edited import Recorded, recorder_of

PROGRAM = """
import office_in_memory
from django.db.models import prefetch_related_objects
from office.models import PortCall, Tug, TugJob, Vessel
import askless
Vessel.objects.bulk_create(Vessel(name="Tern %d" % n, flag="NO", log="") for n in range(4))
Tug.objects.bulk_create(Tug(name="Tug %d" % n) for n in range(3))
PortCall.objects.bulk_create(PortCall(vessel_id=n % 4 + 1, state="due", agent="Sund" * 200) for n in range(40))
TugJob.objects.bulk_create(TugJob(port_call_id=n % 40 + 1, tug_id=n % 3 + 1) for n in range(160))

def calls():
    return PortCall.objects.order_by("id")

def bypassed_by_filter():
    return [[job.id for job in call.tug_jobs.filter(tug_id=2)] for call in calls().prefetch_related("tug_jobs")]

def bypassed_by_values():
    return [sorted(call.tug_jobs.values_list("id", flat=True)) for call in calls().prefetch_related("tug_jobs")]

def clean_count():
    return [call.tug_jobs.count() for call in calls().prefetch_related("tug_jobs")]

def clean_by_python():
    return [[job.id for job in call.tug_jobs.all() if job.tug_id == 2] for call in calls().prefetch_related("tug_jobs")]

def prefetch_in_a_loop():
    given = []
    for call in calls()EDIT:
        prefetch_related_objects([call], "tug_jobs")
        given.append([job.id for job in call.tug_jobs.all()])
    return given

def clean_batches():
    for turn in range(4):
        those = list(calls()[turn * 10: turn * 10 + 10])
        prefetch_related_objects(those, "tug_jobs")
        [list(call.tug_jobs.all()) for call in those]

def of_a_related_manager():
    return [call.state for call in Vessel.objects.get(pk=1).calls.all()]

for turn in range(2):
    for name, page in list(globals().items()):
        if name.startswith(("bypassed", "clean", "prefetch_in", "of_a_")):
            with askless.request(name):
                page()
"""


@pytest.fixture(scope="module")
def record(tmp_path_factory: pytest.TempPathFactory) -> Recorded:
    return recorder_of(PROGRAM, ("EDIT",), tmp_path_factory.mktemp("prefetches"), "--track-use")


def loops(capture: Path) -> dict[str, dict[str, Any]]:
    return {one["route"]: one for one in findings(capture) if one["pattern"] == "n-plus-one"}


def test_what_is_prefetched_and_asked_for_again_gets_no_second_prefetch(record: Recorded) -> None:
    found = loops(record()[0])
    assert set(found) == {"bypassed_by_filter", "bypassed_by_values", "prefetch_in_a_loop"}
    for name in ("bypassed_by_filter", "bypassed_by_values"):
        (advice,) = found[name]["advice"]
        assert advice["title"] == "read PortCall.tug_jobs as it was loaded"
        assert advice["code"].startswith("tug_jobs is prefetched already")


def test_a_prefetch_in_a_loop_is_a_loop(record: Recorded) -> None:
    before = record()[0]
    code = loops(before)["prefetch_in_a_loop"]["advice"][0]["code"]
    assert code == '.prefetch_related("tug_jobs")'
    after = record(EDIT=code)[0]
    asked = [
        {row["route"]: row["queries"] for row in run("requests", one, "--json").json["routes"]}
        for one in (before, after)
    ]
    assert [routes["prefetch_in_a_loop"] for routes in asked] == [41, 2]


def test_a_related_managers_queryset_is_no_prefetch(record: Recorded) -> None:
    (wide,) = [one for one in findings(record()[0]) if one["route"] == "of_a_related_manager"]
    assert wide["advice"][0]["code"] == '.defer("agent")'
