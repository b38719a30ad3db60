"""`--track-use`: what the application read of its objects, and what is (and is not) concluded from
it.
"""

from __future__ import annotations

import subprocess
import sys
import textwrap
from pathlib import Path
from typing import Any

import pytest

from askless.capture.reading import read
from tests.conftest import HARBOUR, findings, run

PROGRAM = """
import copy, json, pickle, sys
sys.path.insert(0, {harbour!r})
import askless
from models import Berth, Inspection, PortCall, TugJob, Vessel
from sqlalchemy import create_engine, func, select
from sqlalchemy.orm import Session, joinedload, load_only, selectinload
engine = create_engine("sqlite:///{db}")
CALLS = select(PortCall).order_by(PortCall.id).limit(30)
VESSELS = select(Vessel).order_by(Vessel.id).limit(100)

def filtered(db):
    return [vessel.name for vessel in db.scalars(VESSELS) if vessel.flag == "NO"][:5]

def counted(db):
    return len(db.scalars(VESSELS).all())

def one_column(db):
    return [vessel.name for vessel in db.scalars(VESSELS)]

def one_column_as_advised(db):
    assert [vessel.name for vessel in db.scalars(VESSELS.options(load_only(Vessel.id, Vessel.name)))] == one_column(db)

def one_value(db):
    return [db.scalars(select(Inspection).where(Inspection.id == n + 1).limit(1)).one().verdict for n in range(1)]

def clean_one_column_of_what_is_changed(db):
    for vessel in db.scalars(VESSELS):
        vessel.owner = vessel.owner.strip() + " "
    db.flush()
    db.rollback()

def clean_all_shown(db):
    return [(vessel.name, vessel.flag) for vessel in db.scalars(VESSELS)]

def clean_half_shown(db):
    return [(vessel.flag, vessel.flag, vessel.name if vessel.id % 2 else "") for vessel in db.scalars(VESSELS)]

def clean_most_read(db):
    return [vessel.name for vessel in db.scalars(VESSELS).all()[:80]]

def clean_few(db):
    return len(db.scalars(VESSELS.limit(10)).all())

def clean_read_in_one_request_of_two(db):
    calls = db.scalars(CALLS.options(selectinload(PortCall.tug_jobs), joinedload(PortCall.vessel))).unique().all()
    if turn:
        return [(call.vessel.name, [job.minutes for job in call.tug_jobs]) for call in calls]

def clean_as_a_dict(db):
    return [{{column: getattr(vessel, column) for column in ("id", "name", "flag", "owner", "call_sign", "length_m", "gross_tonnage")}}
            for vessel in db.scalars(VESSELS)]

EMPTY = CALLS.options(selectinload(PortCall.tug_jobs.and_(TugJob.minutes < 0)))

def found_nothing(db):
    return [call.agent for call in db.scalars(EMPTY)]

def clean_asked_for_what_was_not_there(db):
    return [(call.agent, len(call.tug_jobs)) for call in db.scalars(EMPTY)]

def clean_only_counted(db):
    return [(call.agent, len(call.tug_jobs)) for call in db.scalars(CALLS.options(selectinload(PortCall.tug_jobs)))]

def untouched_objects_go_through_pickle_and_copy(db):
    vessel = db.scalars(VESSELS).first()
    again = pickle.loads(pickle.dumps(vessel))
    assert again.name == vessel.name and "_askless" not in repr(vars(again))
    assert not [name for name in vars(vessel) if "askless" in name]

def clean_members_of_a_set(db):
    return len(set(db.scalars(VESSELS)))

def clean_keys_of_a_dict(db):
    return len({{vessel: 0 for vessel in db.scalars(VESSELS)}})

def clean_compared(db):
    return [db.scalar(select(func.count()).select_from(PortCall).where(PortCall.vessel == vessel)) for vessel in db.scalars(VESSELS)]

def clean_by_vars(db):
    return [{{name: value for name, value in vars(vessel).items() if name[0] != "_"}} for vessel in db.scalars(VESSELS)]

def clean_pickled(db):
    return pickle.dumps(db.scalars(VESSELS).all())

def clean_copied(db):
    return [copy.copy(vessel) for vessel in db.scalars(VESSELS)]

def clean_set_as_a_relation(db):
    call = PortCall()
    for vessel in db.scalars(VESSELS):
        call.vessel = vessel
    db.expunge_all()

def clean_deleted(db):
    for job in db.scalars(select(TugJob).limit(30)):
        db.delete(job)
    db.flush()
    db.rollback()

for turn in range(20):
    with Session(engine) as session, askless.request("one_value"):
        one_value(session)
for turn in range(2):
    for function in (filtered, counted, one_column, one_column_as_advised, clean_one_column_of_what_is_changed, clean_all_shown, clean_half_shown, clean_most_read, clean_few, clean_read_in_one_request_of_two,
                     clean_as_a_dict, found_nothing, clean_asked_for_what_was_not_there, clean_only_counted, clean_members_of_a_set, clean_keys_of_a_dict,
                     clean_compared, clean_by_vars, clean_pickled, clean_copied, clean_set_as_a_relation, clean_deleted, untouched_objects_go_through_pickle_and_copy):
        with Session(engine) as session, askless.request(function.__name__):
            function(session)
"""


@pytest.fixture(scope="module")
def capture(harbour: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("use")
    script = folder / "pages.py"
    script.write_text(PROGRAM.format(harbour=str(HARBOUR), db=harbour))
    ran = run("capture", "app", "--track-use", "-o", folder / "c", "--", sys.executable, script)
    assert ran.code == 0, ran.err
    return folder / "c"


@pytest.fixture(scope="module")
def found(capture: Path) -> dict[str, list[dict[str, Any]]]:
    by_route: dict[str, list[dict[str, Any]]] = {}
    for finding in findings(capture):
        by_route.setdefault(finding["route"], []).append(finding)
    return by_route


def test_what_was_read_is_counted(capture: Path) -> None:
    used = {request.route: request.uses[0] for request in read(capture) if 0 in request.uses}
    (shown,) = used["clean_all_shown"]
    assert (shown.model, shown.objects, shown.touched) == ("Vessel", 100, 100)
    assert shown.columns == {"vessel.name": 100, "vessel.flag": 100}
    (half,) = used["clean_half_shown"]
    assert half.columns == {"vessel.flag": 100, "vessel.id": 100, "vessel.name": 50}
    (counted,) = used["counted"]
    assert (counted.objects, counted.touched, counted.columns) == (100, 0, {})
    joined = {one.model: one for one in used["clean_read_in_one_request_of_two"]}
    assert joined["PortCall"].relations == {"vessel": 30, "tug_jobs": 30}
    assert joined["Vessel"].columns == {"vessel.name": joined["Vessel"].objects}


def test_rows_that_are_thrown_away(found: dict[str, list[dict[str, Any]]]) -> None:
    filtered, counted = found["filtered"][0], found["counted"][0]
    assert (filtered["pattern"], filtered["variant"]) == ("discarded-rows", "filtered")
    assert "of the others only flag was read" in filtered["title"]
    assert filtered["advice"][0]["code"] == ".where(Vessel.flag ...)"
    assert (counted["pattern"], counted["variant"]) == ("discarded-rows", "counted")
    number = "select(func.count()).select_from(query.order_by(None).subquery())"
    assert counted["advice"][0]["code"] == number, "of a hundred vessels, not of all"
    assert {f["evidence"] for f in (filtered, counted)} == {"traced"}


def test_objects_that_are_built_for_one_column(found: dict[str, list[dict[str, Any]]]) -> None:
    (listed,) = found["one_column"]
    assert (listed["pattern"], listed["variant"]) == ("over-wide", "one-column")
    assert listed["title"] == "100 objects of Vessel (7 columns) are built for their name alone"
    assert listed["advice"][0]["code"] == ".options(load_only(Vessel.id, Vessel.name))"
    assert listed["advice"][0]["at"]["function"] == "one_column", "others read more of VESSELS"
    assert all(one["variant"] == "one-column" for one in found["one_column_as_advised"]), (
        "what it is compared with"
    )
    (single,) = found["one_value"]
    assert (
        single["variant"] == "one-value"
        and "(6 columns) is read for its verdict only" in single["title"]
    )
    sql = " ".join(single["advice"][0]["sql"].split())
    assert sql.startswith("SELECT inspection.verdict FROM inspection WHERE")


def test_an_eager_load_that_found_nothing_and_that_nobody_asked_for(
    found: dict[str, list[dict[str, Any]]],
) -> None:
    (load,) = [one for one in found["found_nothing"] if one["pattern"] == "unused-load"]
    assert (
        load["title"]
        == "PortCall.tug_jobs is loaded eagerly but never read: 1 query, 0 rows per request"
    )
    assert load["evidence_details"] == [
        "it found nothing, and none of 60 PortCall objects was asked for it"
    ]
    assert load["advice"]


def test_what_is_read_somewhere_is_not_flagged(found: dict[str, list[dict[str, Any]]]) -> None:
    flagged = {
        route: [
            (f["pattern"], f["title"])
            for f in by
            if f["pattern"] in ("discarded-rows", "unused-load") or f["variant"].startswith("one-")
        ]
        for route, by in found.items()
        if route.startswith("clean")
    }
    assert not any(flagged.values()), flagged
    assert "clean_as_a_dict" not in found, "every column is read"


def test_without_it_nothing_is_tracked(pages: dict[str, Path]) -> None:
    assert not any(request.uses for request in read(pages["grown"]))


INHERITED = """
import sys
import askless
from sqlalchemy import create_engine, select
from sqlalchemy.orm import DeclarativeBase, Mapped, Session, mapped_column
class Base(DeclarativeBase):
    pass
class Craft(Base):
    __tablename__ = "craft"
    id: Mapped[int] = mapped_column(primary_key=True)
    kind: Mapped[str]
    name: Mapped[str]
    flag: Mapped[str]
    owner: Mapped[str]
    __mapper_args__ = {"polymorphic_on": "kind", "polymorphic_identity": "craft"}
class Tug(Craft):
    __mapper_args__ = {"polymorphic_identity": "tug"}
engine = create_engine("sqlite://")
Base.metadata.create_all(engine)
with Session(engine) as session:
    for model in (Craft, Tug):
        session.add_all(model(name=f"Tern {n}", flag="NO", owner="Sund") for n in range(100))
    session.commit()
for turn in range(2):
    for model in (Craft, Tug) if sys.argv[1] == "base" else (Tug, Craft):
        with Session(engine) as session, askless.request(model.__name__):
            [craft.name for craft in session.scalars(select(model))]
        with Session(engine) as session, askless.request("clean_" + model.__name__):
            [dict(vars(craft)) for craft in session.scalars(select(model))]
"""


@pytest.mark.parametrize("first", ["base", "subclass"])
def test_an_inherited_model_is_tracked_as_its_base_is(first: str, tmp_path: Path) -> None:
    """Whichever of the two is loaded first: what SQLAlchemy reads of either is no use."""
    script = tmp_path / "craft.py"
    script.write_text(INHERITED)
    ran = run(
        "capture", "app", "--track-use", "-o", tmp_path / "c", "--", sys.executable, script, first
    )
    assert ran.code == 0, ran.err
    flagged = {(one["route"], one["variant"]) for one in findings(tmp_path / "c")}
    assert {("Craft", "wide-columns"), ("Tug", "one-column")} <= flagged, flagged
    assert not [route for route, _ in flagged if route.startswith("clean")], flagged


DJANGO = """
import copy, pickle
import office_in_memory
from office.models import PortCall, Tug, TugJob, Vessel
Vessel.objects.bulk_create(Vessel(name="Tern %d" % n, flag="NO", log="") for n in range(300))
for loaded in (Vessel.objects.first(), Vessel.objects.only("name").first()):
    for again in (pickle.loads(pickle.dumps(loaded)), copy.copy(loaded), copy.deepcopy(loaded)):
        assert again == loaded and again.name == loaded.name == "Tern 0"
        assert set(vars(again)) - {"_django_version"} == set(vars(loaded))
assert not [name for name in vars(loaded) if "askless" in name]
class Own(Vessel):
    class Meta:
        proxy, app_label = True, "office"
    def __getattribute__(self, name):
        return "own" if name == "nickname" else super().__getattribute__(name)
assert Own.objects.first().nickname == "own"
import askless
with askless.request("in portions, with other queries in between"):
    for vessel in Vessel.objects.order_by("id").iterator(chunk_size=50):
        vessel.name
        if vessel.id % 50 == 25:
            Tug.objects.count()
from django.db.models import Prefetch
with askless.request("found nothing"):
    [vessel.name for vessel in Vessel.objects.prefetch_related("calls")[:30]]
with askless.request("clean: asked"):
    [(vessel.name, len(vessel.calls.all())) for vessel in Vessel.objects.prefetch_related("calls")[:30]]
with askless.request("clean: asked under another name"):
    due = Prefetch("calls", queryset=PortCall.objects.all(), to_attr="due")
    [(vessel.name, len(vessel.due)) for vessel in Vessel.objects.prefetch_related(due)[:30]]
print(pickle.dumps(loaded).count(b"askless"))
"""


def test_djangos_objects_stay_what_they_are(tmp_path: Path) -> None:
    script = tmp_path / "objects.py"
    script.write_text(textwrap.dedent(DJANGO))
    programs = str(Path(__file__).parent / "programs")
    env = {"PYTHONPATH": programs}
    ran = run(
        "capture", "app", "--track-use", "-o", tmp_path / "c", "--", sys.executable, script, env=env
    )
    assert ran.code == 0 and ran.out == "0\n", ran.err
    portions = next(
        request for request in read(tmp_path / "c") if request.route.startswith("in portions")
    )
    (used,) = portions.uses[0]
    assert (used.objects, used.touched, used.columns) == (
        300,
        300,
        {"vessel.name": 300, "vessel.id": 300},
    )
    unread = [
        finding["route"]
        for finding in findings(tmp_path / "c")
        if finding["pattern"] == "unused-load"
    ]
    assert unread == ["found nothing"]
    bare = subprocess.run(
        [sys.executable, script], env={**ENV, **env}, capture_output=True, text=True, check=False
    )
    assert bare.returncode == 0, bare.stderr


DJANGO_READS = """
import copy, json, pickle
import office_in_memory
from django.core import serializers
from django.db.models import Count, Prefetch
from django.forms.models import model_to_dict
from office.models import PortCall, Tug, TugJob, Vessel
Vessel.objects.bulk_create(Vessel(name="Tern %d" % n, flag="NO", log="") for n in range(60))
Tug.objects.bulk_create(Tug(name="Tug %d" % n) for n in range(3))
PortCall.objects.bulk_create(PortCall(vessel_id=n % 40 + 1, state="due", agent="Sund") for n in range(50))
TugJob.objects.bulk_create(TugJob(port_call_id=n % 50 + 1, tug_id=n % 3 + 1) for n in range(100))
import askless

def counted():
    return len(list(Vessel.objects.order_by("id")))

def clean_keys_of_a_dict():
    return {vessel: 0 for vessel in Vessel.objects.order_by("id")}

def clean_members_of_a_list():
    vessels = list(Vessel.objects.order_by("id"))
    return Vessel(pk=77) in vessels

def clean_values_of_a_lookup():
    return PortCall.objects.filter(vessel__in=list(Vessel.objects.order_by("id"))).count()

def clean_value_of_a_lookup_each():
    return [PortCall.objects.filter(vessel=vessel).count() for vessel in Vessel.objects.order_by("id")]

def clean_model_to_dict():
    return [model_to_dict(vessel) for vessel in Vessel.objects.order_by("id")]

def clean_serialized():
    return serializers.serialize("json", Vessel.objects.order_by("id"))

def clean_saved():
    for vessel in Vessel.objects.order_by("id"):
        vessel.save()

def clean_updated_in_bulk():
    Vessel.objects.bulk_update(list(Vessel.objects.order_by("id")), ["name", "flag"])

def clean_deleted():
    for tug in Tug.objects.filter(id__lt=0):
        tug.delete()

def clean_pickled():
    return pickle.dumps(list(Vessel.objects.order_by("id")))

def clean_pickled_with_relations():
    return pickle.dumps(list(PortCall.objects.select_related("vessel").prefetch_related("tug_jobs")))

def clean_copied():
    return [copy.copy(vessel) for vessel in Vessel.objects.order_by("id")]

def clean_by_vars():
    return [{name: value for name, value in vars(vessel).items() if name[0] != "_"} for vessel in Vessel.objects.order_by("id")]

def clean_set_as_a_relation():
    (call, *_) = PortCall.objects.order_by("id")[:1]
    for vessel in Vessel.objects.order_by("id"):
        call.vessel = vessel

def clean_through_a_relation_of_each():
    return [vessel.calls.count() for vessel in Vessel.objects.order_by("id")]

def unread():
    return [call.agent for call in PortCall.objects.prefetch_related("tug_jobs__tug", "vessel")]

def unread_joined():
    return [call.agent for call in PortCall.objects.select_related("vessel")]

def unread_through_a_manager():
    vessels = list(Vessel.objects.prefetch_related(Prefetch("calls", PortCall.objects.annotate(n=Count("tug_jobs")))))
    return [vessel.name for vessel in vessels]

for turn in range(2):
    for name, function in list(globals().items()):
        if name.startswith(("clean_", "unread", "counted")):
            with askless.request(name):
                function()
"""


def test_what_django_reads_for_the_application_is_read(tmp_path: Path) -> None:
    """hash(), ==, values of lookups, forms, serializers, save(), pickle: all of them use an object;
    a prefetch, which reads keys as well, does not.
    """
    script = tmp_path / "reads.py"
    script.write_text(DJANGO_READS)
    env = {"PYTHONPATH": str(Path(__file__).parent / "programs")}
    ran = run(
        "capture", "app", "--track-use", "-o", tmp_path / "c", "--", sys.executable, script, env=env
    )
    assert ran.code == 0, ran.err
    flagged: dict[str, set[tuple[str, str]]] = {}
    for finding in findings(tmp_path / "c"):
        if finding["pattern"] in ("discarded-rows", "unused-load", "over-wide"):
            flagged.setdefault(finding["route"], set()).add(
                (finding["pattern"], finding["variant"])
            )
    assert ("discarded-rows", "counted") in flagged.pop("counted")
    assert ("over-wide", "one-column") in flagged.pop("clean_keys_of_a_dict"), (
        "only the key is read"
    )
    unread = {route for route in flagged if "unused-load" in {one for one, _ in flagged[route]}}
    assert unread == {"unread", "unread_joined", "unread_through_a_manager"}
    assert ("over-wide", "one-column") in flagged["unread"], "a prefetch reads keys for itself"
    discarded = {
        route for route in flagged if "discarded-rows" in {one for one, _ in flagged[route]}
    }
    assert not discarded, flagged
    whole = {"clean_model_to_dict", "clean_serialized", "clean_saved", "clean_pickled"}
    assert not whole & set(flagged), flagged


ENV = {"PATH": "/usr/bin:/bin", "COLUMNS": "100"}


def test_a_child_counts_the_queries_of_its_request_anew(harbour: Path, tmp_path: Path) -> None:
    """A fork in the middle of a request of which some queries are written already."""
    script = tmp_path / "forks.py"
    script.write_text(
        textwrap.dedent(f"""
        import os, sys
        sys.path.insert(0, {str(HARBOUR)!r})
        import askless, sqlite3
        from models import Vessel
        from sqlalchemy import create_engine, select
        from sqlalchemy.orm import Session
        db = sqlite3.connect(":memory:")
        with askless.request("turn"):
            for number in range(70):
                db.execute("SELECT ? + 0 FROM (SELECT 1 AS berth)", (number,)).fetchone()
            child = os.fork()
            with Session(create_engine("sqlite:///{harbour}")) as session:
                session.scalars(select(Vessel).limit(1)).one().name
        if child:
            os.waitpid(child, 0)
        else:
            os._exit(0)
        """)
    )
    ran = run("capture", "app", "--track-use", "-o", tmp_path / "c", "--", sys.executable, script)
    assert ran.code == 0, ran.err
    turns = list(read(tmp_path / "c"))
    assert len(turns) == 2 and run("capture", "check", tmp_path / "c", "--json").json["sound"]
    for request in turns:
        ((i, (used,)),) = request.uses.items()
        assert "vessel" in request.text(i) and used.columns == {"vessel.name": 1}


LAZY_OF_THE_MODEL = """
import sys
import askless
from sqlalchemy import ForeignKey, create_engine, select
from sqlalchemy.orm import DeclarativeBase, Mapped, Session, lazyload, mapped_column, relationship

class Base(DeclarativeBase):
    pass

class Berth(Base):
    __tablename__ = "berth"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    bollards: Mapped[list["Bollard"]] = relationship(lazy="selectin")

class Bollard(Base):
    __tablename__ = "bollard"
    id: Mapped[int] = mapped_column(primary_key=True)
    berth_id: Mapped[int] = mapped_column(ForeignKey("berth.id"))

engine = create_engine("sqlite://")
Base.metadata.create_all(engine)
with Session(engine) as db:
    db.add_all(Berth(id=n, name="Quay %d" % n, bollards=[Bollard(), Bollard()]) for n in range(1, 30))
    db.commit()
for turn in range(2):
    with Session(engine) as db, askless.request("GET /names"):
        [berth.name for berth in db.scalars(select(Berth))]
    with Session(engine) as db, askless.request("GET /bollards"):
        [bollard.id for berth in db.scalars(select(Berth)) for bollard in berth.bollards]
    with Session(engine) as db, askless.request("GET /names as advised"):
        [berth.name for berth in db.scalars(select(Berth)ADVISED)]
"""


def test_a_models_own_eager_load_is_left_to_other_routes(tmp_path: Path) -> None:
    advised = ""
    for turn in range(2):
        script = tmp_path / f"{turn}.py"
        script.write_text(LAZY_OF_THE_MODEL.replace("ADVISED", advised))
        capture = tmp_path / f"c{turn}"
        assert (
            run("capture", "app", "--track-use", "-o", capture, "--", sys.executable, script).code
            == 0
        )
        unused = {f["route"]: f for f in findings(capture) if f["pattern"] == "unused-load"}
        if not turn:
            assert unused.keys() == {"GET /names", "GET /names as advised"}
            code = unused["GET /names"]["advice"][0]["code"]
            advised = code.partition(" and add ")[2].removesuffix(" to this query")
            assert advised == ".options(lazyload(Berth.bollards))"
    assert unused.keys() == {"GET /names"}
