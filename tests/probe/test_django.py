"""Django: requests, templates, relations and commands, on the harbour office's Django twin."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import textwrap
from collections.abc import Callable
from pathlib import Path

import pytest

from askless.capture.reading import read
from tests.conftest import HARBOUR, findings, run
from tests.servers import free_port

TWIN = HARBOUR.parent / "harbour_django"
Capture = Callable[..., Path]

DRIVE = """
import json, os, sys
sys.path.insert(0, {twin!r})
os.environ.setdefault("DJANGO_SETTINGS_MODULE", "office.settings")
import django
django.setup()
from django.test import Client
given = {{}}
for turn in range(4):
    for page in ("/calls/due", "/berths", "/inspections"):
        answer = Client().get(page, headers={{"X-Ask-Less-Warm-Up": "1"}} if turn == 0 else {{}})
        assert answer.status_code == 200
        given[page] = answer.content.decode()
open(sys.argv[1], "w").write(json.dumps(given))
"""


@pytest.fixture(scope="module")
def twin(harbour: Path, tmp_path_factory: pytest.TempPathFactory) -> Capture:
    """Record the twin's pages; the pages themselves are in a file next to the capture."""
    folder = tmp_path_factory.mktemp("twin")
    driver = folder / "drive.py"
    driver.write_text(DRIVE.format(twin=str(TWIN)))

    def capture(pages: str, *options: str) -> Path:
        out = folder / "-".join((pages, *options)).replace("--", "")
        if not out.exists():
            env = {"HARBOUR_DB": str(harbour), "HARBOUR_PAGES": pages}
            ran = run(
                "capture",
                "app",
                *options,
                "-o",
                out,
                "--",
                sys.executable,
                driver,
                f"{out}.json",
                env=env,
            )
            assert ran.code == 0, ran.err
        return out

    return capture


def test_the_same_findings_come_out_as_from_the_other_twin(
    twin: Capture, pages: dict[str, Path]
) -> None:
    shared = ("GET /calls/due", "GET /berths", "GET /inspections")

    def told(capture: Path) -> set[tuple[str, ...]]:
        return {
            (f["route"], f["pattern"], f["variant"], f["evidence"], f["relation"] if f["variant"] != "count" else "", f["tables"][0])
            for f in findings(capture)
            if f["route"] in shared
        }  # fmt: skip

    ours, theirs = told(twin("grown")), told(pages["grown"])
    assert ours == theirs and len(ours) == 5
    assert told(twin("tuned")) == set() == {f for f in told(pages["tuned"]) if f[0] in shared}


def test_both_twins_show_the_same_page(twin: Capture, pages: dict[str, Path]) -> None:
    grown, tuned = (
        json.loads(Path(f"{twin(kind)}.json").read_text()) for kind in ("grown", "tuned")
    )
    assert grown == tuned
    other = json.loads((pages["grown"].parent / "grown.json").read_text())
    for page in ("/calls/due", "/berths"):
        assert re.sub(r"\s+", " ", grown[page]) == re.sub(r"\s+", " ", other[page])


def test_findings_name_the_line_of_the_template_and_djangos_calls(twin: Capture) -> None:
    found = {f["relation"] or f["pattern"]: f for f in findings(twin("grown"))}
    vessel = found["PortCall.vessel"]
    template = (TWIN / "office" / "templates" / "calls_due.html").read_text().splitlines()
    (line,) = vessel["lines"]
    assert line["file"].endswith("calls_due.html") and line["function"] == "template"
    assert "call.vessel.name" in template[line["line"] - 1]
    built = (TWIN / "office" / "grown.py").read_text().splitlines()[vessel["source"]["line"] - 1]
    assert vessel["source"]["file"].endswith("grown.py") and "objects.filter" in built, (
        "where the queryset was built"
    )
    assert {advice["code"] for advice in vessel["advice"]} == {
        '.select_related("vessel")',
        '.prefetch_related("vessel")',
    }
    assert found["PortCall.tug_jobs"]["advice"][0]["code"] == '.prefetch_related("tug_jobs")'
    nested = [advice["code"] for advice in found["TugJob.tug"]["advice"]]
    assert '.prefetch_related("tug_jobs__tug")' in nested
    assert (
        '.prefetch_related(Prefetch("tug_jobs", queryset=TugJob.objects.select_related("tug")))'
        in nested
    )
    assert found["Berth.calls"]["advice"][0]["code"].startswith(
        "Berth.objects.annotate(calls_count=Count("
    )
    assert found["over-wide"]["advice"][0]["code"].endswith(': .defer("report")')
    place = next(
        place
        for request in read(twin("grown"))
        for i in range(len(request))
        if (load := request.load(i)) and load.relation == "vessel" and (place := request.place(i))
    )
    assert (
        next(step.function for step in place.path() if step.function != "template") == "calls_due"
    ), "then the view"


def test_what_is_read_is_tracked(twin: Capture) -> None:
    found = {f["relation"] or f["pattern"]: f for f in findings(twin("grown", "--track-use"))}
    wide = found["over-wide"]
    assert wide["evidence"] == "traced" and "report, which are never read" in wide["title"]
    for request in read(twin("tuned", "--track-use")):
        if request.route == "GET /berths":
            (used,) = request.uses[0]
            assert (used.model, used.objects, used.touched) == ("Berth", 24, 24)
            assert used.columns == {"berth.name": 24}


SERVERS = {
    "runserver with its reloader": "{python} manage.py runserver 127.0.0.1:{port}",
    "runserver alone": "{python} manage.py runserver 127.0.0.1:{port} --noreload",
    "uvicorn": "{python} -m uvicorn --port {port} --log-level warning --lifespan off asgi:application",
    "gunicorn": "{python} -m gunicorn -w 2 -b 127.0.0.1:{port} --log-level warning wsgi:application",
}


@pytest.mark.parametrize("name", SERVERS)
def test_under_a_server(name: str, harbour: Path, tmp_path: Path) -> None:
    for kind in ("asgi", "wsgi"):
        code = f"""
        import os, sys
        sys.path.insert(0, {str(TWIN)!r})
        os.environ["DJANGO_SETTINGS_MODULE"] = "office.settings"
        from django.core.{kind} import get_{kind}_application
        application = get_{kind}_application()
        """
        (tmp_path / f"{kind}.py").write_text(textwrap.dedent(code))
    port = free_port()
    program = SERVERS[name].format(python=sys.executable, port=port).split()
    here = TWIN if "manage.py" in program else tmp_path
    env = {"HARBOUR_DB": str(harbour), "PYTHONDONTWRITEBYTECODE": "1"}
    url = f"http://127.0.0.1:{port}/berths"
    ran = run(
        "capture",
        "app",
        "-o",
        tmp_path / "c",
        "--visit",
        url,
        "--repeat",
        2,
        "--",
        *program,
        cwd=here,
        env=env,
    )
    assert ran.code == 0, ran.err
    seen = [
        request
        for request in read(tmp_path / "c")
        if request.kind == "http" and not request.warm_up
    ]
    assert [(request.route, request.status) for request in seen] == [("GET /berths", 200)] * 2
    for request in seen:
        asked = [i for i in range(len(request)) if not request.statement(i).shape.noise]
        assert len(asked) == 25
        loads = [load.kind for i in asked if (load := request.load(i))]
        assert loads == ["query"] + ["lazy"] * 24, "though a connection was set up in between"
        assert {place.function for i in asked if (place := request.place(i))} <= {
            "berth_board",
            "<listcomp>",
        }


PROJECT = """
import os, sys, django
from django.conf import settings
settings.configure(DATABASES={"default": {"ENGINE": "django.db.backends.sqlite3", "NAME": ":memory:"}},
                   INSTALLED_APPS=["django.contrib.contenttypes", "pier"], ROOT_URLCONF="urls", ALLOWED_HOSTS=["*"],
                   DEFAULT_AUTO_FIELD="django.db.models.AutoField")
django.setup()
from django.db import connection
from pier.models import *
with connection.schema_editor() as editor:
    for model in (ContentType, Vessel, Crew, Licence, Note, Craft, Tug):
        editor.create_model(model)
"""
MODELS = """
from django.contrib.contenttypes.fields import GenericForeignKey, GenericRelation
from django.contrib.contenttypes.models import ContentType
from django.db import models
class Sailors(models.Manager):
    def get_queryset(self):
        return super().get_queryset().exclude(name="")
    def named(self, name):
        return self.filter(name=name)
    def initials(self):
        return [sailor.name[0] for sailor in self.filter(name="Ann")]
class Crew(models.Model):
    name = models.TextField()
    objects = Sailors()
class Vessel(models.Model):
    name = models.TextField()
    log = models.TextField(default="")
    crew = models.ManyToManyField(Crew, related_name="vessels")
    notes = GenericRelation("Note")
class Tanker(Vessel):
    class Meta:
        proxy = True
class Craft(models.Model):
    name = models.TextField()
class Tug(Craft):
    power = models.IntegerField()
    captain = models.ForeignKey(Crew, models.CASCADE, null=True)
class Licence(models.Model):
    vessel = models.OneToOneField(Vessel, models.CASCADE, related_name="licence")
class Note(models.Model):
    content_type = models.ForeignKey(ContentType, models.CASCADE)
    object_id = models.IntegerField()
    about = GenericForeignKey("content_type", "object_id")
"""


@pytest.fixture
def project(tmp_path: Path) -> Callable[[str], dict[str, list[tuple[str, str, str]]]]:
    """Run code in a small project of its own; what the ORM said of its queries, by marked block."""
    package = tmp_path / "pier"
    commands = package / "management" / "commands"
    commands.mkdir(parents=True)
    for folder in (package, package / "management", commands):
        (folder / "__init__.py").touch()
    (package / "models.py").write_text(MODELS)
    (commands / "tidy.py").write_text(
        "from django.core.management.base import BaseCommand\nfrom pier.models import Vessel\n"
        "class Command(BaseCommand):\n    def handle(self, *args, **options):\n        list(Vessel.objects.all())\n"
    )

    def ran(code: str) -> dict[str, list[tuple[str, str, str]]]:
        script = tmp_path / "script.py"
        script.write_text(PROJECT + textwrap.dedent(code))
        done = run(
            "capture", "app", "-o", tmp_path / "c", "--", sys.executable, script, cwd=tmp_path
        )
        assert done.code == 0, done.err
        return {
            request.route: [
                (load.kind, load.model, load.relation)
                for i in range(len(request))
                if (load := request.load(i))
            ]
            for request in read(tmp_path / "c")
        }

    return ran


def test_generic_relations_and_proxies_are_walked(
    project: Callable[[str], dict[str, list[tuple[str, str, str]]]], tmp_path: Path
) -> None:
    """A generic relation's type column is not a condition of the lookup's; a proxy's objects are
    the proxy's.
    """
    told = project(
        """
        import askless
        for number in range(6):
            vessel = Vessel.objects.create(name="Tern")
            Licence.objects.create(vessel=vessel)
            Note.objects.create(about=vessel)
        with askless.request("notes"):
            [list(vessel.notes.all()) for vessel in Vessel.objects.order_by("id")]
        with askless.request("about"):
            [note.about for note in Note.objects.order_by("id")]
        with askless.request("proxies"):
            [vessel.licence for vessel in Tanker.objects.order_by("id")]
        with askless.request("made by hand"):
            [Tanker(id=vessel.id).licence for vessel in Vessel.objects.order_by("id")]
        """
    )
    assert ("lazy", "Vessel", "notes") in told["notes"] and ("lazy", "Tanker", "licence") in told[
        "proxies"
    ]
    codes = {
        finding["route"]: [advice["code"] for advice in finding["advice"]]
        for finding in run("findings", tmp_path / "c", "--json").json["findings"]
        if finding["pattern"] == "n-plus-one"
    }
    assert codes["about"] == ['.prefetch_related("about")'], (
        "no join: the type column tells which table it is"
    )
    assert (
        codes["notes"] == ['.prefetch_related("notes")']
        and codes["proxies"][0] == '.select_related("licence")'
    )
    assert not [code for code in codes["made by hand"] if code.startswith(".")], (
        "no query gives these objects"
    )


def test_a_query_that_a_manager_gives_away_is_built_where_it_was_asked_for(
    project: Callable[[str], dict[str, list[tuple[str, str, str]]]], tmp_path: Path
) -> None:
    project(
        """
        import askless
        Crew.objects.create(name="Ann")
        def all_of_them():
            return Crew.objects.all()
        def those_named():
            return Crew.objects.named("Ann")
        with askless.request("all"):
            list(all_of_them())
        with askless.request("named"):
            list(those_named())
        with askless.request("read by the manager"):
            Crew.objects.initials()
        """
    )
    lines = {
        request.route: [place.function for i in range(len(request)) if (place := request.place(i))]
        for request in read(tmp_path / "c")
        if request.kind == "marked"
    }
    assert lines == {
        "all": ["all_of_them"],
        "named": ["those_named"],
        "read by the manager": ["initials"],
    }


LIBRARY = """
from django.db.models.query import ModelIterable
class OfTheirClass(ModelIterable):
    def __iter__(self):
        keys = list(self.queryset.values_list("pk", flat=True))
        for model in self.queryset.model.__subclasses__():
            yield from model.objects.filter(pk__in=keys)
def whole(queryset):
    queryset._iterable_class = OfTheirClass
    return queryset
def listed(model):
    return model.objects.order_by("id")
"""


def test_no_call_is_hung_on_what_a_library_reads_by_itself(
    project: Callable[[str], dict[str, list[tuple[str, str, str]]]], tmp_path: Path
) -> None:
    """A query that a library gives to the program to read takes a call; one that it reads itself,
    for its objects, does not.
    """
    library = tmp_path / "site-packages"
    library.mkdir()
    (library / "quay.py").write_text(LIBRARY)
    told = project(
        """
        import askless
        sys.path.append("site-packages")
        import quay
        from django.db.models import prefetch_related_objects
        for number in range(6):
            Tug.objects.create(name="Tug", power=number, captain=Crew.objects.create(name="Ann"))
        with askless.request("by the library"):
            [craft.captain.name for craft in quay.whole(Craft.objects.order_by("id"))]
        with askless.request("given"):
            [tug.captain.name for tug in quay.listed(Tug)]
        with askless.request("fixed"):
            objects = list(quay.whole(Craft.objects.order_by("id")))
            prefetch_related_objects(objects, "captain")
            [craft.captain.name for craft in objects]
        """
    )
    assert ("library", "Tug", "") in told["by the library"] and ("query", "Tug", "") in told[
        "given"
    ]
    codes = {
        finding["route"]: [advice["code"] for advice in finding["advice"]]
        for finding in run("findings", tmp_path / "c", "--json").json["findings"]
        if finding["pattern"] == "n-plus-one"
    }
    assert codes["given"][0] == '.select_related("captain")'
    (code,) = codes["by the library"]
    assert 'prefetch_related_objects(objects, "captain")' in code
    assert "fixed" not in codes


def test_no_bulk_call_for_objects_of_two_tables(
    project: Callable[[str], dict[str, list[tuple[str, str, str]]]], tmp_path: Path
) -> None:
    """Django's `bulk_create` refuses a model with a parent; with a key given, `create` first tries
    an UPDATE of the parent.
    """
    project(
        """
        import askless
        with askless.request("tugs"):
            for number in range(6):
                Tug.objects.create(id=50 + number, name="Tug", power=number)
        with askless.request("crafts"):
            for number in range(6):
                Craft.objects.create(name="Barge")
        with askless.request("renamed"):
            for craft in Craft.objects.all():
                craft.name = "Lighter"
                craft.save()
        """
    )
    loops = {
        (finding["route"], finding["title"].split(" rows ")[1].split(" one by one")[0]): finding[
            "advice"
        ][0]["code"]
        for finding in run("findings", tmp_path / "c", "--json").json["findings"]
        if finding["pattern"] == "write-loop"
    }
    assert loops == {
        ("tugs", "inserted into pier_craft"): "",
        ("tugs", "inserted into pier_tug"): "",
        (
            "crafts",
            "inserted into pier_craft",
        ): "Craft.objects.bulk_create([Craft(...) for ... in ...])",
        ("renamed", "changed in pier_craft"): 'Craft.objects.bulk_update(objects, ["name"])',
    }


def test_what_the_orm_was_about(
    project: Callable[[str], dict[str, list[tuple[str, str, str]]]],
) -> None:
    told = project(
        """
        import askless
        from django.core.management import call_command
        ann = Crew.objects.create(name="Ann")
        for number in range(3):
            vessel = Vessel.objects.create(name="Tern")
            vessel.crew.add(ann)
            Licence.objects.create(vessel=vessel)
            Note.objects.create(about=vessel)
        with askless.request("lazy"):
            vessel = Vessel.objects.get(pk=1)
            list(vessel.crew.all())
            list(ann.vessels.filter(name="Tern").order_by("id"))
            vessel.licence
            Licence.objects.get(pk=2).vessel
            vessel.crew.count(), vessel.crew.exists()
            Note.objects.get(pk=3).about
        with askless.request("eager"):
            for vessel in Vessel.objects.prefetch_related("crew", "licence"):
                list(vessel.crew.all()), vessel.licence
            for licence in Licence.objects.select_related("vessel"):
                licence.vessel.name
        with askless.request("deferred"):
            Vessel.objects.only("id")[0].name
        with askless.request("written"):
            Vessel.objects.bulk_create([Vessel(name="a"), Vessel(name="b")])
            Vessel.objects.filter(name="a").update(name="c")
            Vessel.objects.filter(name="b")._raw_delete("default")
        call_command("tidy")
        """
    )
    assert [load for load in told["lazy"] if load[0] == "lazy"] == [
        ("lazy", "Vessel", "crew"), ("lazy", "Crew", "vessels"), ("lazy", "Vessel", "licence"),
        ("lazy", "Licence", "vessel"), ("lazy", "Vessel", "crew"), ("lazy", "Vessel", "crew"),
        ("lazy", "Note", "about"),
    ]  # fmt: skip
    assert told["eager"] == [
        ("query", "Vessel", ""), ("eager", "Vessel", "crew"), ("eager", "Vessel", "licence"), ("query", "Licence", ""),
    ]  # fmt: skip
    assert told["deferred"] == [("query", "Vessel", ""), ("refresh", "Vessel", "name")]
    assert told["written"] == [("write", "Vessel", "")] * 3
    assert told["command tidy"] == [("query", "Vessel", "")]


def test_its_own_sitecustomize_and_settings_are_left_alone(tmp_path: Path) -> None:
    (tmp_path / "sitecustomize.py").write_text("import builtins\nbuiltins.own = 'harbour'\n")
    (tmp_path / "script.py").write_text(
        "import sqlite3\nprint(own)\nsqlite3.connect(':memory:').execute('SELECT 1 + 1').fetchone()"
    )
    ran = run(
        "capture", "app", "-o", tmp_path / "c", "--", sys.executable, "script.py", cwd=tmp_path,
        env={"PYTHONPATH": str(tmp_path)},
    )  # fmt: skip
    assert ran.out == "harbour\n" and ran.code == 0, ran.err


def test_the_twin_needs_no_ask_less() -> None:
    """The demo's code is Django's alone."""
    for file in TWIN.rglob("*.py"):
        assert "askless" not in file.read_text()
    done = subprocess.run(
        [sys.executable, "manage.py", "check"], cwd=TWIN, env={**os.environ, "PYTHONDONTWRITEBYTECODE": "1"},
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
