"""A call is walked over the models before it is given: from the query's model, through what it
joins, to the very class.
"""

from __future__ import annotations

import pytest

from askless.core.advice.orm import Query, Step
from askless.core.advice.orm.django import WORDS as DJANGO
from askless.core.advice.orm.sqlalchemy import WORDS as SQLALCHEMY
from askless.core.findings.finding import SourceLine
from askless.core.inference.lineage import origin_of
from askless.core.inference.relation_paths import from_query, joined_already
from askless.core.records.model import Load, Model, Relation
from askless.core.sql.structure import Structure
from askless.core.sql.structure_store import structure_of


def relation(name: str, target: str, many: bool, local: str, remote: str) -> tuple[str, Relation]:
    return name, Relation(name, target, many, (local,), (remote,))


MODELS_OF = {
    "PortCall": Model(
        "django", "PortCall", "port_call", ("id",), {"id": "id", "vessel_id": "vessel_id"},
        dict([relation("vessel", "Vessel", False, "vessel_id", "id"), relation("pilot", "Pilot", False, "pilot_id", "id"),
              relation("jobs", "Job", True, "id", "call_id")]),
    ),
    "Vessel": Model("django", "Vessel", "vessel", ("id",), {}, dict([relation("owner", "Owner", False, "owner_id", "id")])),
    "Tanker": Model("django", "Tanker", "vessel", ("id",), {}, dict([relation("owner", "Owner", False, "owner_id", "id")])),
    "Pilot": Model("django", "Pilot", "pilot", ("id",), {}, dict([relation("owner", "Owner", False, "owner_id", "id")])),
    "Owner": Model("django", "Owner", "owner", ("id",)),
    "Job": Model("django", "Job", "job", ("id",), {}, dict([relation("tug", "Tug", False, "tug_id", "id")])),
    "Tug": Model("django", "Tug", "tug", ("id",)),
}  # fmt: skip


def models(orm: str) -> dict[tuple[str, str], Model]:
    return {
        (orm, name): Model(orm, m.name, m.table, m.keys, m.attributes, m.relations)
        for name, m in MODELS_OF.items()
    }


def load(model: str, name: str, orm: str = "django", kind: str = "lazy") -> Load:
    found = MODELS_OF[model].relations[name]
    return Load(orm, kind, model, name, found.target, found.many)


def structure(text: str) -> Structure:
    found = structure_of(text, "sqlite")
    assert found is not None
    return found


PLAIN = structure("SELECT id, vessel_id FROM port_call ORDER BY id")
JOINED = structure(
    "SELECT c.id, v.id, v.owner_id FROM port_call c LEFT JOIN vessel v ON v.id = c.vessel_id"
)
BOTH = structure(
    "SELECT c.id, v.owner_id, p.owner_id FROM port_call c JOIN vessel v ON v.id = c.vessel_id JOIN pilot p ON p.id = c.pilot_id"
)


def names(query: str, shape: Structure, *path: Load) -> list[str] | None:
    found = from_query(
        path, Load(path[0].orm, "query", query, "", query, True), shape, models(path[0].orm)
    )
    return [f"{one.model}.{one.relation}" for one in found] if found is not None else None


def test_a_path_walks_from_the_query_to_what_is_read() -> None:
    assert names("PortCall", PLAIN, load("PortCall", "jobs"), load("Job", "tug")) == [
        "PortCall.jobs",
        "Job.tug",
    ]
    assert names("PortCall", PLAIN, load("Job", "tug")) is None, "nothing leads there"
    assert names("Vessel", PLAIN, load("PortCall", "jobs")) is None, "another model's relation"


def test_what_the_query_joins_is_walked_through() -> None:
    assert names("PortCall", JOINED, load("Vessel", "owner")) == ["PortCall.vessel", "Vessel.owner"]
    assert names("PortCall", PLAIN, load("Vessel", "owner")) is None, (
        "not joined: these vessels came from elsewhere"
    )
    assert names("PortCall", BOTH, load("Pilot", "owner")) == ["PortCall.pilot", "Pilot.owner"], (
        "by the class that asked"
    )


def test_two_ways_are_no_way() -> None:
    """Two relations lead to the class that asked: which of them these objects came by can't be
    said.
    """
    known = models("django")
    call = known["django", "PortCall"]
    second = dict([*call.relations.items(), relation("escort", "Vessel", False, "escort_id", "id")])
    known["django", "PortCall"] = Model("django", "PortCall", "port_call", ("id",), {}, second)
    query = Load("django", "query", "PortCall", "", "PortCall", True)
    wanted = (load("Vessel", "owner"),)
    way = from_query(wanted, query, JOINED, known)
    assert way is not None and [one.relation for one in way] == ["vessel", "owner"]
    both = structure(
        "SELECT c.id, v.id, v.owner_id, e.id FROM port_call c LEFT JOIN vessel v ON "
        "v.id = c.vessel_id LEFT JOIN vessel e ON e.id = c.escort_id"
    )
    assert from_query(wanted, query, both, known) is None


@pytest.mark.parametrize(
    "orm, expected", [("django", None), ("sqlalchemy", ["PortCall.vessel", "Tanker.owner"])]
)
def test_an_object_of_another_class_was_made_by_other_means(
    orm: str, expected: list[str] | None
) -> None:
    """Django names the object's own class: a proxy that the query does not give was built from its
    row.
    """
    assert names("PortCall", JOINED, load("Tanker", "owner", orm)) == expected


def test_what_is_joined_already_is_told() -> None:
    query = Load("django", "query", "PortCall", "", "PortCall", True)
    assert [
        [one.relation for one in way] for way in joined_already(query, BOTH, models("django"))
    ] == [
        ["vessel"],
        ["pilot"],
    ]
    assert joined_already(query, PLAIN, models("django")) == []


def test_keys_of_a_relation_come_from_its_own_column() -> None:
    origin = origin_of(load("PortCall", "vessel"), models("django"))
    assert (
        origin is not None
        and origin.fits("port_call", "vessel_id")
        and origin.fits("PORT_CALL", "Vessel_ID")
    )
    assert not origin.fits("port_call", "id") and not origin.fits("tariff", "vessel_id")
    assert (
        origin_of(Load("django", "query", "PortCall", "", "PortCall", True), models("django"))
        is None
    )


JOBS, TUGS = (load("PortCall", "jobs"),), (load("PortCall", "jobs"), load("Job", "tug"))
VESSEL, OWNER = (load("PortCall", "vessel"),), (load("PortCall", "vessel"), load("Vessel", "owner"))
OPTIONS = "/x/site-packages/django/contrib/admin/options.py"
ADMIN = Query(
    SourceLine(OPTIONS, 437, "get_queryset"),
    "office.PortCall",
    ((load("PortCall", "pilot"),),),
)
TOGETHER = [
    (
        [Step(VESSEL, True), Step(JOBS, False), Step(TUGS, True)],
        '.select_related("vessel").prefetch_related("jobs__tug")',
    ),
    ([Step(VESSEL, True), Step(OWNER, True)], '.select_related("vessel__owner")'),
    (
        [Step(TUGS, True)],
        '.prefetch_related(Prefetch("jobs", queryset=Job.objects.select_related("tug")))',
    ),
    ([Step(JOBS, False), Step(JOBS, False)], '.prefetch_related("jobs")'),
    ([Step(VESSEL, False), Step(OWNER, True)], '.select_related("vessel__owner")'),
]


def test_what_a_join_passes_through_takes_no_query_of_its_own() -> None:
    steps = [Step(VESSEL, False), Step(OWNER, True), Step(JOBS, False), Step(TUGS, True)]
    batched = [DJANGO.is_batched(one, steps) for one in steps]
    assert batched == [False, False, True, True]
    assert not DJANGO.is_batched(Step(TUGS, True), [Step(TUGS, True)]), "inside of a Prefetch"
    assert [SQLALCHEMY.is_batched(one, steps) for one in steps] == [False, False, True, False]


def test_choices_of_a_field_of_the_admin_are_read_past_get_queryset() -> None:
    at = SourceLine(OPTIONS, 301, "formfield_for_foreignkey")
    call = DJANGO.together([Step(VESSEL, True)], Query(at, "office.PortCall"))
    assert call == (
        "in the ModelAdmin with the field, formfield_for_foreignkey: "
        'kwargs["queryset"] = PortCall.objects.select_related("vessel")'
    )


def test_a_reverse_relation_is_counted_by_its_name_in_queries() -> None:
    parent = MODELS_OF["PortCall"]
    jobs = Relation("job_set", "Job", True, ("id",), ("call_id",), "", "job")
    call = 'PortCall.objects.annotate(job_count=Count("job", distinct=True))'
    assert DJANGO.counted(parent, jobs, False) == call


@pytest.mark.parametrize("steps, call", TOGETHER)
def test_all_paths_stand_in_one_call(steps: list[Step], call: str) -> None:
    assert (
        DJANGO.together(steps, Query(SourceLine("/harbour/pages.py", 1, "page"), "PortCall"))
        == call
    )


def test_the_admin_keeps_what_it_joins() -> None:
    call = DJANGO.together([Step(VESSEL, True), Step(JOBS, False)], ADMIN)
    assert call == (
        'in the ModelAdmin of PortCall: list_select_related = ["pilot", "vessel"], '
        'and end get_queryset with .prefetch_related("jobs")'
    )


def test_a_relation_that_is_prefetched_takes_no_second_prefetch() -> None:
    eager = (load("PortCall", "jobs", kind="eager"), load("Job", "tug"))
    assert DJANGO.joined(eager) == "" and DJANGO.batched(eager) == '.prefetch_related("jobs__tug")'


def test_loader_options_stand_in_one_call() -> None:
    steps = [Step(VESSEL, True), Step(JOBS, False), Step(TUGS, True)]
    call = SQLALCHEMY.together(steps, Query(SourceLine("/harbour/pages.py", 1, "page"), "PortCall"))
    assert (
        call
        == ".options(joinedload(PortCall.vessel), selectinload(PortCall.jobs).joinedload(Job.tug))"
    )
