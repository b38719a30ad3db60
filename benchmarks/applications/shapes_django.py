"""Shapes of queries and their traps on Django: see `harness`.

Each page is a small program of its own: a relation to itself, classes in several tables, what is
prefetched and asked for again, querysets that travel, helpers and paginators that several pages
share.
"""

from __future__ import annotations

import re

import django_settings
from harness import URL, edit, evaluated, given, main, page

django_settings.configure(URL, "shapes_office")

from django.core.paginator import Paginator  # noqa: E402
from django.db import connection  # noqa: E402
from django.db.models import Count, Prefetch, Q, prefetch_related_objects  # noqa: E402
from shapes_office.models import (  # noqa: E402
    Barge,
    Berth,
    Craft,
    Line,
    Paper,
    Pilot,
    Tug,
    Visit,
)

__all__ = ["Count", "Prefetch", "Q"]
NAMES = globals()
MODELS = (Berth, Pilot, Craft, Tug, Barge, Paper, Visit, Line)
TABLES = [
    f"shapes_office_{name}"
    for name in (
        "visit_helpers",
        "line",
        "visit",
        "paper",
        "barge",
        "tug",
        "craft",
        "pilot",
        "berth",
    )
]
CRAFT, LEVELS = 24, 3


def fill():
    """The tables and their rows."""
    with connection.cursor() as cursor:
        for table in TABLES:
            cursor.execute(f"DROP TABLE IF EXISTS {table}")
    with connection.schema_editor() as editor:
        for model in MODELS:
            editor.create_model(model)
    berths = []

    def grow(whole, below):
        berth = Berth(id=len(berths) + 1, name=f"B{len(berths) + 1}", whole_id=whole)
        berths.append(berth)
        for _ in range(3 if below else 0):
            grow(berth.id, below - 1)

    grow(None, LEVELS)
    Berth.objects.bulk_create(berths)
    Pilot.objects.bulk_create(Pilot(id=n, name=f"P{n}", notes="n" * 900) for n in range(1, 31))
    for n in range(1, CRAFT + 1):
        same = {"id": n, "name": f"C{n}", "log": "l" * 600, "berth_id": n % 9 + 1}
        if n % 2:
            Tug.objects.create(kind="tug", pull=n, **same)
        else:
            Barge.objects.create(kind="barge", tons=n, **same)
    crafts = range(1, CRAFT + 1)
    Paper.objects.bulk_create(
        Paper(id=10 * n + k, craft_id=n, title=f"T{k}") for n in crafts for k in range(3)
    )
    visits = [10 * craft + n for craft in crafts for n in range(4)]
    Visit.objects.bulk_create(
        Visit(
            id=n,
            craft_id=n // 10,
            inward_id=n % 29 + 1,
            outward_id=n % 23 + 1,
            day=(n * 7) % 5,
        )
        for n in visits
    )
    Line.objects.bulk_create(
        Line(id=10 * n + k, visit_id=n, number=k, text=f"t{k}") for n in visits for k in (1, 2)
    )
    Visit.helpers.through.objects.bulk_create(
        Visit.helpers.through(visit_id=n, pilot_id=(n + k) % 30 + 1) for n in visits for k in (0, 7)
    )


fill()
CRAFTS = "Craft.objects.defer('log').order_by('id')"
VISITS = "Visit.objects.order_by('id')[:40]"


def _sliced(base):
    """A query with a slice takes an edit before the slice."""
    body, _, cut = base.rpartition("[")
    code = edit()
    return evaluated(f"{body}{code if code.startswith('.') else ''}[{cut}", NAMES)


@page("n-plus-one")
def tree_downwards():
    def walk(berth):
        return [berth.name, [walk(part) for part in berth.parts.all()]]

    return [walk(berth) for berth in given("Berth.objects.filter(whole=None)", NAMES)]


@page("n-plus-one")
def tree_upwards():
    def wholes(berth):
        return [berth.name, *(wholes(berth.whole) if berth.whole else [])]

    leaves = given("Berth.objects.filter(parts=None).order_by('-id')", NAMES)
    return [wholes(berth) for berth in leaves]


@page("n-plus-one")
def one_level_of_a_tree():
    top = given("Berth.objects.filter(id__in=(2, 15, 28))", NAMES)
    return [[part.name for part in berth.parts.all()] for berth in top]


@page("n-plus-one")
def columns_of_a_subclass():
    crafts = given("Craft.objects.filter(kind='tug').order_by('id')", NAMES)
    return [(craft.log[:2], craft.tug.pull) for craft in crafts]


@page("n-plus-one")
def of_a_subclass():
    return [tug.berth.name + tug.log[:1] for tug in given("Tug.objects.order_by('pk')", NAMES)]


@page("n-plus-one")
def last_three():
    return [
        [visit.id for visit in craft.visits.order_by("-day", "id")[:3]]
        for craft in given(CRAFTS, NAMES)
    ]


@page("n-plus-one")
def the_first_of_a_relation():
    return [craft.papers.all()[0].title for craft in given(CRAFTS, NAMES)]


@page("n-plus-one")
def whether_any():
    return [craft.papers.filter(title="T1").exists() for craft in given(CRAFTS, NAMES)]


@page("n-plus-one")
def prefetched_and_filtered():
    crafts = evaluated(CRAFTS + ".prefetch_related('visits')", NAMES)
    if edit():
        return [[v.id for v in craft.visits.all() if v.day == 2] for craft in crafts]
    return [[v.id for v in craft.visits.filter(day=2)] for craft in crafts]


@page()
def prefetched_and_counted():
    crafts = Craft.objects.defer("log").order_by("id").prefetch_related("visits")
    return [(craft.visits.count(), [v.day for v in craft.visits.all()]) for craft in crafts]


@page("n-plus-one")
def below_a_relations_own_list():
    craft = Craft.objects.get(pk=3)
    lines = given("craft.visits.filter(day__lt=5)", NAMES | {"craft": craft})
    return [craft.log[:2], [[line.text for line in visit.lines.all()] for visit in lines]]


@page("n-plus-one")
def below_a_prefetch():
    crafts = given(CRAFTS + ".prefetch_related('visits')", NAMES)
    return [[v.inward.name for v in craft.visits.all()] for craft in crafts]


@page("n-plus-one")
def below_a_prefetch_object():
    visits = "Prefetch('visits', queryset=Visit.objects.filter(day__gt=0).order_by('day', 'id'))"
    crafts = given(CRAFTS + f".prefetch_related({visits})", NAMES)
    return [[v.inward.name for v in craft.visits.all()] for craft in crafts]


@page("n-plus-one")
def below_a_join():
    visits = _sliced(
        "Visit.objects.order_by('id').select_related('craft').defer('craft__log')[:40]"
    )
    return [visit.craft.berth.name for visit in visits]


@page("n-plus-one")
def through_a_link_table():
    return [sorted(pilot.name for pilot in visit.helpers.all()) for visit in _sliced(VISITS)]


@page("n-plus-one")
def both_relations_to_one_table():
    return [(visit.inward.name, visit.outward.name) for visit in _sliced(VISITS)]


@page("n-plus-one")
def by_a_scoped_manager():
    return [
        [line.text for line in v.lines.all()] for v in given("Visit.open.order_by('id')", NAMES)
    ]


@page("n-plus-one")
def by_a_paginator():
    one = Paginator(given("Visit.objects.order_by('id')", NAMES), 20).page(2)
    return [visit.craft.name + visit.craft.log[:1] for visit in one]


@page("n-plus-one")
def one_prefetch_for_each():
    found = []
    for visit in _sliced(VISITS):
        if not edit():
            prefetch_related_objects([visit], "lines")
        found.append([line.text for line in visit.lines.all()])
    return found


@page("n-plus-one")
def only_and_read():
    crafts = given("Craft.objects.only('name').order_by('id')", NAMES)
    return [craft.log[:2] for craft in crafts]


@page("over-wide")
def only_and_unread():
    return [craft.name for craft in given("Craft.objects.order_by('id')", NAMES)]


@page("over-wide")
def wide_below_a_prefetch():
    visits = VISITS[:-5] + ".prefetch_related('inward')"
    there = re.search(r"Prefetch\(.*\)", edit())
    if there:
        visits = visits.replace("'inward'", there[0].partition(" instead")[0])
    return [visit.inward.name for visit in evaluated(visits + "[:40]", NAMES)]


@page("n-plus-one")
def counts():
    if edit() and not edit().startswith("."):
        crafts = evaluated(edit() + ".defer('log').order_by('id')", NAMES)
        return [(craft.name, craft.visits_count) for craft in crafts]
    return [(craft.name, craft.visits.count()) for craft in given(CRAFTS, NAMES)]


@page()
def values_and_annotations():
    rows = Visit.objects.values("craft__name").annotate(n=Count("id")).order_by("craft__name")
    return [list(row.values()) for row in rows]


@page()
def one_craft():
    craft = Craft.objects.get(pk=7)
    return [craft.log[:1], craft.berth.name, [visit.day for visit in craft.visits.all()]]


@page()
def tree_loaded():
    def walk(berth):
        return [berth.name, [walk(part) for part in berth.parts.all()]]

    top = Berth.objects.filter(whole=None).prefetch_related("parts__parts__parts__parts")
    return [walk(berth) for berth in top]


main(lambda function: function())
