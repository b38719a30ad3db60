"""Edits tried on a program: which are proven, which are not, and that no file is touched."""

from __future__ import annotations

import hashlib
import subprocess
import sys
from pathlib import Path

import jsonschema
import msgspec
import pytest

from askless.api.captures import read
from askless.api.edit_trial import Wish, edit_trial
from askless.core.findings.finding import Edit, SourceLine
from askless.core.records.model import line_digest
from askless.reports.edit_trial_documents import EditTrialDocument
from tests import servers
from tests.conftest import HARBOUR, run

OFFICE = """
from models import PortCall, Vessel
from sqlalchemy import select


def due(session):
    return session.scalars(
        select(PortCall).order_by(PortCall.id).limit(12)
    ).all()


def by_agent(session):
    return session.scalars(select(PortCall).order_by(PortCall.id).limit(5)).all()


def berthed(session):
    return session.scalars(select(PortCall).order_by(PortCall.id).limit(30)).all()


def fleet(session):
    return session.scalars(select(Vessel).order_by(Vessel.id).limit(12)).all()
"""
APP = """
import itertools, random, sys, time
from wsgiref.simple_server import WSGIRequestHandler, make_server
from sqlalchemy import create_engine
from sqlalchemy.orm import Session
import office

engine = create_engine("sqlite:///" + sys.argv[1])
turns = itertools.count()


class Quiet(WSGIRequestHandler):
    def log_message(self, *words):
        pass


def due(session):
    return [f"{call.id} {call.vessel.name} {len(call.tug_jobs)}" for call in office.due(session)]


def agents(session):
    return [f"{call.id} {call.agent}" for call in office.by_agent(session)]


def berths(session):
    return [f"{call.id} {call.berth.name if call.berth else '-'}" for call in office.berthed(session)]


def fleet(session):
    return [f"{vessel.id} {vessel.name}" for vessel in office.fleet(session)]


PAGES = {"/due": due, "/agents": agents, "/berths": berths, "/fleet": fleet}


def application(environ, start_response):
    with Session(engine) as session:
        rows = PAGES[environ["PATH_INFO"]](session)
    tugs = random.sample(range(9), 9)
    start_response("200 OK", [("Content-Type", "text/html; charset=utf-8")])
    page = f"<p>{time.time()} {random.random()} visit {next(turns)}</p><ul>"
    page += "".join(f"<li>{tug}</li>" for tug in tugs) + "</ul>"
    return [(page + "".join(f"<p>{row}</p>" for row in rows)).encode()]


make_server("127.0.0.1", int(sys.argv[2]), application, handler_class=Quiet).serve_forever()
"""
PAGES = ("due", "agents", "berths", "fleet")


class Office:
    """A program in a folder of its own, and a capture of its pages."""

    def __init__(self, folder: Path, harbour: Path) -> None:
        self.folder, self.port = folder / "office", servers.free_port()
        self.folder.mkdir()
        (self.folder / "pyproject.toml").write_text("")
        (self.folder / "office.py").write_text(OFFICE)
        (self.folder / "app.py").write_text(APP)
        self.command = (sys.executable, str(self.folder / "app.py"), str(harbour), str(self.port))
        self.capture = folder / "capture"

    def urls(self, *names: str) -> tuple[str, ...]:
        return tuple(f"http://127.0.0.1:{self.port}/{name}" for name in names)

    def record(self) -> None:
        visits = [word for url in self.urls(*PAGES) for word in ("--visit", url)]
        words = ("-o", self.capture, *visits, "--repeat", "2", "--", *self.command)
        ran = run("capture", "app", *words, env=ENVIRONMENT)
        assert ran.code == 0, ran.err

    def digests(self) -> dict[str, str]:
        """Every file of the program's folder, with what is in it and when it was written."""
        return {
            str(path): f"{hashlib.sha256(path.read_bytes()).hexdigest()} {path.stat().st_mtime_ns}"
            for path in sorted(self.folder.rglob("*"))
            if path.is_file()
        }

    def edit(self, line: int, code: str, route: str, name: str, model: str = "PortCall") -> Edit:
        """An edit of office.py that no finding gave."""
        file = self.folder / "office.py"
        text = file.read_bytes().splitlines()[line - 1]
        base = read(self.capture).findings().document.edits[0]
        return msgspec.structs.replace(
            base,
            findings=(name,),
            title=name,
            at=SourceLine(str(file), line, "f", 0, line_digest(text)),
            code=code,
            routes=(f"GET /{route}",),
            model=model,
            model_modules={"PortCall": "models", "Vessel": "models"},
            other_routes=(),
        )

    def tried(self, edits: list[Edit], *pages: str) -> EditTrialDocument:
        document = read(self.capture).findings().document
        wish = Wish(self.command, self.urls(*(pages or PAGES)), rounds=2, repeat=2)
        return edit_trial(document, edits, wish, self.folder)[0]


ENVIRONMENT = {"PYTHONPATH": str(HARBOUR), "PYTHONDONTWRITEBYTECODE": "1"}


@pytest.fixture
def office(tmp_path: Path, harbour: Path, monkeypatch: pytest.MonkeyPatch) -> Office:
    monkeypatch.setenv("PYTHONPATH", str(HARBOUR))
    product = Office(tmp_path, harbour)
    product.record()
    return product


def test_edits_are_proven_and_no_file_is_touched(office: Office, tmp_path: Path) -> None:
    before = office.digests()
    visits = [word for url in office.urls("due", "berths") for word in ("--visit", url)]
    words = (
        "--patch",
        tmp_path / "p",
        "--keep",
        tmp_path / "kept",
        "--rounds",
        "2",
        "--repeat",
        "2",
    )
    ran = run(
        *("trial", office.capture, "--all-edits", *visits, *words, "--json", "--", *office.command),
        cwd=office.folder,
        env=ENVIRONMENT,
    )
    assert office.digests() == before
    document = ran.json
    jsonschema.validate(document, run("schema", "trial-edits").json)
    due = next(edit for edit in document["edits"] if edit["route"] == "GET /due")
    assert due["proven"] is True and due["queries"] == {"before": 25.0, "after": 2.0}
    assert due["queries_after"] == 2
    assert ran.code == (not all(edit["proven"] for edit in document["edits"]))
    assert set(due["findings"]) <= set(document["fixed"]) and document["new"] == []
    assert all(page["set_apart"] >= 3 and page["status"] == 200 for page in document["pages"])
    assert (tmp_path / "p").read_text() == document["patch"]
    subprocess.run(
        ["git", "apply", "--unsafe-paths", tmp_path / "p"], cwd=office.folder, check=True
    )
    text = (office.folder / "office.py").read_text()
    assert text.count(".options(") == sum(edit["proven"] for edit in document["edits"])
    modes = {
        path.stat().st_mode & 0o777 for path in (tmp_path / "kept").rglob("*") if path.is_file()
    }
    assert modes == {0o600}
    kept = run("compare", tmp_path / "kept" / "before", tmp_path / "kept" / "after", "--json").json
    assert {finding["key"] for finding in kept["fixed"]} == set(document["fixed"])


def test_wrong_edits_are_caught_and_named(office: Office) -> None:
    wrong = {
        "a filter": (8, ".where(PortCall.id != 3)", "due", "PortCall"),
        "an inner join": (17, ".join(PortCall.berth)", "berths", "PortCall"),
        "a column that the page shows": (
            13,
            ".options(defer(PortCall.agent))",
            "agents",
            "PortCall",
        ),
        "an exception": (21, ".options(defer(Vessel.nothing))", "fleet", "Vessel"),
    }
    edits = [
        office.edit(line, code, route, name, model)
        for name, (line, code, route, model) in wrong.items()
    ]
    findings = read(office.capture).findings().document
    good = next(edit for edit in findings.edits if edit.routes[0] == "GET /due")
    document = office.tried([*edits[:2], good, *edits[2:]])
    reasons = {edit.findings[0]: edit.reason for edit in document.edits}
    assert {name for name, reason in reasons.items() if reason} == set(wrong)
    assert "/due is not the same" in reasons["a filter"]
    assert "/berths is not the same" in reasons["an inner join"]
    assert "/agents asks 6 queries, 1 before" in reasons["a column that the page shows"]
    assert "/fleet" in reasons["an exception"]
    differences = {edit.findings[0]: edit.difference for edit in document.edits}
    assert differences["a filter"] is not None and differences["a filter"].before.startswith("3 ")
    assert document.patch.count("@@ ") == 1 or "a filter" not in document.patch


ORDERS = {
    "another order": ".order_by(PortCall.eta.desc())",
    "fewer rows": ".distinct().where(PortCall.id > 1)",
    "no rows": ".where(PortCall.id < 0)",
    "only some": '.where(PortCall.status == "due")',
}


@pytest.mark.parametrize("name", ORDERS)
def test_each_wrong_edit_alone_is_caught(office: Office, name: str) -> None:
    edit = office.edit(17, ORDERS[name], "berths", name)
    (one,) = office.tried([edit], "berths").edits
    assert not one.proven and "/berths is not the same" in one.reason


def test_what_the_program_does_not_load_is_not_proven(office: Office) -> None:
    (office.folder / "office.py").rename(office.folder / "other.py")
    (office.folder / "office.py").write_text("from models import PortCall\n" + OFFICE)
    file = office.folder / "other.py"
    (good, *_) = read(office.capture).findings().document.edits
    assert good.at is not None
    elsewhere = msgspec.structs.replace(
        good, at=msgspec.structs.replace(good.at, file=str(file)), other_routes=()
    )
    (one,) = office.tried([elsewhere], "due").edits
    assert one.reason == "the program did not load other.py as edited"


def test_the_script_that_is_run_can_be_edited(office: Office) -> None:
    script = office.folder / "app.py"
    script.write_text(APP.replace("import office\n", OFFICE + "\nimport types\n").replace(
        "engine = ", "office = types.SimpleNamespace(**globals())\nengine = "
    ))  # fmt: skip
    (office.folder / "office.py").unlink()
    subprocess.run(["rm", "-r", str(office.capture)], check=True)
    office.record()
    findings = read(office.capture).findings().document
    good = next(edit for edit in findings.edits if edit.routes[0] == "GET /due")
    (one,) = office.tried([good], "due").edits
    assert one.proven, one.reason


def test_a_page_that_fails_already_is_told(office: Office) -> None:
    (office.folder / "app.py").write_text(APP.replace('"200 OK"', '"500 Oh"'))
    words = ("--all-edits", "--visit", *office.urls("due"), "--", *office.command)
    ran = run("trial", office.capture, *words, cwd=office.folder, env=ENVIRONMENT)
    assert ran.code == 2 and "status 500 before any edit" in ran.err
    (office.folder / "app.py").write_text("raise SystemExit('no harbour')\n")
    ran = run("trial", office.capture, *words, cwd=office.folder, env=ENVIRONMENT)
    assert ran.code == 2 and "no harbour" in ran.err and ran.out == ""
    ran = run("trial", office.capture, "--all-edits")
    assert ran.code == 2 and "the program" in ran.err
    ran = run("trial", office.capture, "--edit", "nothing", *words[1:], cwd=office.folder)
    assert ran.code == 2 and "no listed finding is called nothing" in ran.err
