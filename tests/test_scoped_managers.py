"""Django's managers that choose their rows, and querysets that are made of what was prefetched: each
edit word for word, on the line that it names.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from tests.conftest import findings, run
from tests.edited import Recorded, recorder_of

PROGRAM = """
import office_in_memory
from django.db import connection, models
from office.models import PortCall, Tug, TugJob, Vessel
import askless

class Open(models.Manager):
    def get_queryset(self):
        return super().get_queryset().filter(done=False)

class Check(models.Model):
    objects = Open()
    call = models.ForeignKey(PortCall, models.CASCADE, related_name="checks")
    done = models.BooleanField(default=False)

    class Meta:
        app_label = "office"

with connection.schema_editor() as editor:
    editor.create_model(Check)
Vessel.objects.bulk_create(Vessel(name="Tern %d" % n, flag="NO", log="") for n in range(4))
Tug.objects.bulk_create(Tug(name="Tug %d" % n) for n in range(3))
PortCall.objects.bulk_create(PortCall(vessel_id=n % 4 + 1, state="due", agent="") for n in range(40))
TugJob.objects.bulk_create(TugJob(port_call_id=n % 40 + 1, tug_id=n % 3 + 1) for n in range(160))
Check.objects.bulk_create(Check(call_id=n % 40 + 1, done=n % 3 == 0) for n in range(120))

def by_key():
    return [TugJob.objectsKEYED.get(pk=n).tug.name for n in range(1, 21)]

def one_by_key():
    return [[job.id for job in PortCall.objects.get(pk=n).tug_jobs.all()] for n in range(1, 21)]

def calls_of():
    return PortCall.objects.order_by("id")

def first_jobs():
    return jobs_of(calls_of()[:12])

def only_one():
    return jobs_of(calls_of()[:1])

def jobs_of(calls):
    return [[job.id for job in call.tug_jobs.all()] for call in calls]

def whole():
    return [[check.id for check in call.checks.all()] for call in PortCall.objects.order_by("id")WHOLE]

def narrowed():
    return [[c.id for c in call.checks.filter(pk__gt=9)] for call in PortCall.objects.order_by("id")]

def made_of_what_is_there():
    vessel = Vessel.objects.prefetch_related("calls").get(pk=1)
    calls = vessel.calls.filter(state="due")MADE
    return jobs_of(calls)

def nested():
    vessels = Vessel.objects.order_by("id")
    return [jobs_of(vessel.calls.filter(state="due")NESTED) for vessel in vessels]

for turn in range(2):
    for page in (whole, narrowed, made_of_what_is_there, nested, by_key, one_by_key, first_jobs, only_one):
        with askless.request(page.__name__):
            print(page())
"""


@pytest.fixture(scope="module")
def record(tmp_path_factory: pytest.TempPathFactory) -> Recorded:
    return recorder_of(
        PROGRAM, ("WHOLE", "MADE", "NESTED", "KEYED"), tmp_path_factory.mktemp("managers")
    )


def advice(capture: Path) -> dict[tuple[str, str], dict[str, Any]]:
    """The first advice on each loop, by its route and relation."""
    return {
        (one["route"], one["relation"]): one["advice"][0]
        for one in findings(capture)
        if one["pattern"] == "n-plus-one"
    }


def line_with(words: str) -> int:
    lines = PROGRAM.splitlines()
    return next(number for number, line in enumerate(lines, 1) if words in line)


def test_edits_hang_on_the_querysets_that_the_application_builds(record: Recorded) -> None:
    before, printed = record()
    given = advice(before)
    whole = given["whole", "PortCall.checks"]
    assert whole["code"] == '.prefetch_related("checks")', "its manager chooses the rows again"
    made = given["made_of_what_is_there", "PortCall.tug_jobs"]
    nested = given["nested", "PortCall.tug_jobs"]
    places = {"WHOLE": whole, "MADE": made, "NESTED": nested}
    assert {place: one["at"]["line"] for place, one in places.items()} == {
        place: line_with(place) for place in places
    }
    after, same = record(**{place: one["code"] for place, one in places.items()})
    assert same == printed
    rows = [run("requests", one, "--json").json["routes"] for one in (before, after)]
    counts = [{row["route"]: row["queries"] for row in some} for some in rows]
    assert [counts[0][name] for name in ("whole", "made_of_what_is_there", "nested")] == [
        41,
        13,
        45,
    ]
    assert [counts[1][name] for name in ("whole", "made_of_what_is_there", "nested")] == [2, 4, 9]


def test_what_the_application_adds_asks_again(record: Recorded) -> None:
    code = advice(record()[0])["narrowed", "PortCall.checks"]["code"]
    assert code.startswith("with the conditions of the lookup") and "to_attr" in code


def test_a_nested_loop_says_what_remains(record: Recorded) -> None:
    (one,) = [
        one
        for one in findings(record()[0])
        if one["route"] == "nested" and one["relation"] == "PortCall.tug_jobs"
    ]
    assert one["title"].startswith("40 queries where 4 would do"), one["title"]
    assert one["advice"][0]["saving"].startswith("about 36 queries")


def test_what_a_query_in_the_loop_can_bring_along_is_joined(record: Recorded) -> None:
    """A batch would ask as often as the look-ups do, where each query gives one object."""
    before, printed = record()
    loops = [one for one in findings(before) if one["pattern"] == "n-plus-one"]
    (tug,) = [one for one in loops if one["relation"] == "TugJob.tug"]
    assert tug["title"].startswith("20 queries where none is needed"), tug["title"]
    assert tug["advice"][0]["code"] == '.select_related("tug")'
    after, same = record(KEYED=tug["advice"][0]["code"])
    rows = [run("requests", one, "--json").json["routes"] for one in (before, after)]
    counts = [{row["route"]: row["queries"] for row in some}["by_key"] for some in rows]
    assert same == printed and counts == [40, 20]
    (jobs,) = [one for one in loops if one["route"] == "one_by_key" and one["relation"]]
    assert "prefetch_related" not in jobs["advice"][0]["code"], "of one object it spares nothing"


def test_a_route_that_asks_for_one_object_reads_what_is_loaded_for_it(record: Recorded) -> None:
    edits = run("findings", record()[0], "--json").json["edits"]
    (edit,) = [one for one in edits if "first_jobs" in one["routes"]]
    assert edit["other_routes"] == []
