"""A call belongs to the query that gives the objects, at the line where it is built: not to another
query of the page, nor to a line that builds queries for other models, nor to a relation's own query
that a page has loaded before.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from tests.conftest import findings, run
from tests.edited import Recorded, recorder_of

DJANGO = """
import sys
import office_in_memory
from office.models import PortCall, Tug, TugJob, Vessel
import askless
Vessel.objects.bulk_create(Vessel(name="Tern %d" % n, flag="NO", log="calm " * 80) for n in range(12))
Tug.objects.bulk_create(Tug(name="Tug %d" % n) for n in range(3))
PortCall.objects.bulk_create(PortCall(vessel_id=n % 12 + 1, state="due", agent="Sund") for n in range(48))
TugJob.objects.bulk_create(TugJob(port_call_id=n % 8 + 1, tug_id=n % 3 + 1) for n in range(48))

class Board:
    def __init__(self, call):
        self.call, self.kept = call, None

    def jobs(self):
        if self.kept is None:
            self.kept = (
                self.call.tug_jobs.filter(tug_id__gt=0)JOBS
            )
        return self.kept

def of_a_relation():
    board = Board(PortCall.objects.get(pk=1))
    [job.id for job in TugJob.objects.filter(pk__lt=4)]
    board.jobs()
    return [job.tug.name for job in board.jobs()]

def of_a_relation_on_another_page():
    board = Board(PortCall.objects.get(pk=2))
    jobs = board.jobs()
    return [job.tug.name for job in jobs]

def calls_of(vessel):
    return vessel.calls.all()CALLS

def loaded_before():
    return [len(calls_of(v)) for v in Vessel.objects.prefetch_related("calls")]

def not_loaded_before():
    return [[len(c.tug_jobs.all()) for c in calls_of(v)] for v in [Vessel.objectsONE.get(pk=1)]]

def one_list_with_and_one_without():
    list(Vessel.objects.prefetch_related("calls").order_by("name"))
    return [v.calls.all()[0].state for v in Vessel.objects.order_by("id")FIRST]

def rows_of(model):
    return list(model.objects.order_by("id")[:10])

def calls_by_a_helper():
    return [call.vessel.name for call in rows_of(PortCall)]

def tugs_by_a_helper():
    return [tug.name for tug in rows_of(Tug)]

def two_on_one_line():
    return [(n, c.vessel.name) for n in [len(Tug.objects.all())] for c in PortCall.objects.all()TWO]

def values_of_each():
    return [list(v.calls.values_list("state", flat=True)) for v in Vessel.objects.defer("log")VALUES]

def again_by_key():
    first = [call.vessel.name for call in PortCall.objects.order_by("id")[:10]]
    calls = [PortCall.objects.get(pk=n) for n in range(1, 11)]
    for call in calls:
        first.append(call.vessel.name)
    return first

def read_or_not():
    return [vessel.log for vessel in Vessel.objects.order_by("id")]

for turn in range(2):
    for name, page in list(globals().items()):
        if getattr(page, "__module__", "") == "__main__" and name not in ("Board", "calls_of", "rows_of"):
            with askless.request(name):
                page()
"""
PLACES = ("JOBS", "CALLS", "FIRST", "TWO", "ONE", "VALUES")


@pytest.fixture(scope="module")
def record(tmp_path_factory: pytest.TempPathFactory) -> Recorded:
    return recorder_of(DJANGO, PLACES, tmp_path_factory.mktemp("built"))


@pytest.fixture(scope="module")
def before(record: Recorded) -> Path:
    return record()[0]


def loops(capture: Path) -> dict[str, dict[str, Any]]:
    return {one["route"]: one for one in findings(capture) if one["pattern"] == "n-plus-one"}


def asked(capture: Path) -> dict[str, float]:
    rows = run("requests", capture, "--json").json["routes"]
    return {row["route"]: row["queries"] for row in rows}


def function_at(advice: dict[str, Any]) -> str:
    return str(advice["at"]["function"])


def test_a_relations_own_query_takes_the_call_where_it_is_built(
    before: Path, record: Recorded
) -> None:
    first, second = (
        loops(before)[name]["advice"][0]
        for name in ("of_a_relation", "of_a_relation_on_another_page")
    )
    assert first["code"] == second["code"] == '.select_related("tug")'
    assert function_at(first) == function_at(second) == "jobs"
    assert first["at"]["line"] == second["at"]["line"]
    edits = run("findings", before, "--json").json["edits"]
    (one,) = [edit for edit in edits if edit["code"] == first["code"]]
    assert sorted(one["routes"]) == ["of_a_relation", "of_a_relation_on_another_page"]
    was, now = asked(before), asked(record(JOBS=first["code"])[0])
    for name in ("of_a_relation", "of_a_relation_on_another_page"):
        assert now[name] == was[name] - 6


def test_what_another_page_loads_eagerly_takes_no_call(before: Path, record: Recorded) -> None:
    advice = loops(before)["not_loaded_before"]["advice"][0]
    assert function_at(advice).endswith("not_loaded_before") or "<listcomp>" in function_at(advice)
    assert advice["code"] == '.prefetch_related("calls__tug_jobs")'
    was, right = asked(before), asked(record(ONE=advice["code"])[0])
    assert right["not_loaded_before"] == 3 and was["not_loaded_before"] == 6
    wrong = asked(record(CALLS='.prefetch_related("tug_jobs")')[0])
    assert wrong["loaded_before"] == was["loaded_before"] + 2 * 12, "what the advice avoids"


def test_the_same_relation_of_other_objects_was_not_loaded(before: Path, record: Recorded) -> None:
    advice = loops(before)["one_list_with_and_one_without"]["advice"][0]
    assert advice["code"] == '.prefetch_related("calls")'
    now = asked(record(FIRST=advice["code"])[0])
    assert now["one_list_with_and_one_without"] == 4


def test_a_helper_for_several_models_is_not_the_place(before: Path) -> None:
    advice = loops(before)["calls_by_a_helper"]["advice"][0]
    assert advice["code"] == (
        "not at that line, which reads Tug as well: to the PortCall query that it is given, add "
        + '.prefetch_related("vessel")'
    )


def test_a_line_with_two_queries_is(before: Path, record: Recorded) -> None:
    advice = loops(before)["two_on_one_line"]["advice"][0]
    assert advice["code"] == '.prefetch_related("vessel")'
    was, now = asked(before), asked(record(TWO=advice["code"])[0])
    assert now["two_on_one_line"] < was["two_on_one_line"]


def test_columns_that_may_be_read_are_offered(before: Path) -> None:
    (wide,) = [one for one in findings(before) if one["route"] == "read_or_not"]
    assert wide["advice"][0]["code"] == (
        'only if nothing on the page reads log (--track-use tells): .defer("log")'
    )
    for edit in run("findings", before, "--json").json["edits"]:
        assert "defer" not in edit["code"] or edit["code"].startswith("only if")


def test_an_eager_load_spares_no_query_of_values(before: Path, record: Recorded) -> None:
    advice = loops(before)["values_of_each"]["advice"][0]
    assert advice["code"].startswith(
        "with the conditions of the lookup, .prefetch_related(Prefetch("
    )
    was, wrong = asked(before), asked(record(VALUES='.prefetch_related("calls")')[0])
    assert wrong["values_of_each"] == was["values_of_each"] + 1, "what the advice avoids"


def test_each_object_loads_a_relation_once(before: Path) -> None:
    """The rows of a list, got again by their keys, are other objects: the list's query is not the
    place of their eager load.
    """
    twice = [
        one
        for one in findings(before)
        if one["route"] == "again_by_key" and one["relation"] == "PortCall.vessel"
    ]
    codes = sorted(one["advice"][0]["code"] for one in twice)
    assert codes == [
        '.prefetch_related("vessel")',
        "load vessel with the query that loads the PortCall objects (which one is unknown)",
    ]
