"""A line whose queries several pages use, or one page in several ways: what one of them does not
read, another may. Each edit word for word makes no page ask more.
"""

from __future__ import annotations

from typing import Any

import pytest

from tests.conftest import findings, run
from tests.edited import Recorded, recorder_of

PROGRAM = """
import office_in_memory
from django.db import connection, models
from office.models import PortCall, Tug, TugJob, Vessel
import askless
Vessel.objects.bulk_create(Vessel(name="Tern %d" % n, flag="NO", log="calm " * 200) for n in range(40))
PortCall.objects.bulk_create(PortCall(vessel_id=n % 40 + 1, state="due", agent="Sund" * 200) for n in range(60))
Tug.objects.bulk_create(Tug(name="Tug %d" % n) for n in range(3))
TugJob.objects.bulk_create(TugJob(port_call_id=n % 60 + 1, tug_id=n % 3 + 1) for n in range(60))

class Pilot(models.Model):
    name = models.TextField()
    badge = models.TextField()

    class Meta:
        app_label = "office"

class Watch(models.Model):
    name = models.TextField()
    pilot = models.ForeignKey(Pilot, models.CASCADE)

    class Meta:
        app_label = "office"

for turn in range(12):
    Watch.add_to_class("note%d" % turn, models.TextField(default="calm " * 20))
with connection.schema_editor() as editor:
    editor.create_model(Pilot)
    editor.create_model(Watch)
Pilot.objects.bulk_create(Pilot(name="Ann %d" % n, badge=str(n)) for n in range(5))
Watch.objects.bulk_create(Watch(name="Watch %d" % n, pilot_id=n % 5 + 1) for n in range(40))

def watches():
    return [(w.name, w.pilot.name) for w in Watch.objects.select_related("pilot").order_by("id")NAMES]

def calls(expand):
    found = PortCall.objects.order_by("id")EDIT
    return found.select_related("vessel") if expand else found

def board(expand):
    return [(c.state, c.agent, c.vessel.name) if expand else c.state for c in calls(expand)]

def listed():
    return Vessel.objects.prefetch_related("calls").order_by("id")

def names():
    return [vessel.name for vessel in listed()]

def with_calls():
    return [(vessel.name, vessel.log, [call.state for call in vessel.calls.all()]) for vessel in listed()]

def flags():
    return [(vessel.name, vessel.flag) for vessel in Vessel.objects.order_by("name")ALONE]

for turn in range(2):
    for expand in (False, True):
        with askless.request("board"):
            print(board(expand))
    for page in (names, with_calls, flags, watches):
        with askless.request(page.__name__):
            print(page())
"""


@pytest.fixture(scope="module")
def record(tmp_path_factory: pytest.TempPathFactory) -> Recorded:
    return recorder_of(
        PROGRAM, ("EDIT", "ALONE", "NAMES"), tmp_path_factory.mktemp("lines"), "--track-use"
    )


@pytest.fixture(scope="module")
def before(record: Recorded) -> tuple[list[dict[str, Any]], str]:
    capture, printed = record()
    return findings(capture), printed


def test_columns_that_the_line_is_read_for_in_another_way_stay(before: Any) -> None:
    codes = [
        advice["code"]
        for one in before[0]
        if one["route"] in ("board", "names")
        for advice in one["advice"]
        if advice["at"]["function"] in ("calls", "listed")
    ]
    assert codes and not [code for code in codes if "agent" in code or '"log"' in code], codes


def test_an_eager_load_that_another_page_reads_is_left_out_for_one_alone(before: Any) -> None:
    (idle,) = [one for one in before[0] if one["pattern"] == "unused-load"]
    assert idle["advice"][0]["at"]["function"] == "listed"
    assert idle["route"] == "names" and idle["advice"][0]["code"] == (
        'with_calls read it: where the line serves this route alone, remove "calls" from '
        ".prefetch_related(...)"
    )


def test_a_line_that_serves_one_page_takes_the_edit(before: Any, record: Recorded) -> None:
    (wide,) = [one for one in before[0] if one["route"] == "flags"]
    code = wide["advice"][0]["code"]
    assert wide["advice"][0]["at"]["function"] == "flags" and code == '.defer("log")'
    after, printed = record(ALONE=code)
    assert printed == before[1]
    assert not [one for one in findings(after) if one["route"] == "flags"]


def test_columns_of_two_tables_that_share_a_name_both_stay(before: Any, record: Recorded) -> None:
    (wide,) = [one for one in before[0] if one["route"] == "watches"]
    code = wide["advice"][0]["code"]
    assert code == '.only("id", "name", "pilot_id", "pilot__id", "pilot__name")'
    after, printed = record(NAMES=code)
    assert printed == before[1]
    routes = run("requests", after, "--json").json["routes"]
    assert {row["route"]: row["queries"] for row in routes}["watches"] == 1
