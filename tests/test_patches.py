"""Edits as patches: what comes of each form of query, what is refused and why, and the patch of a
recorded program, applied and recorded again.
"""

from __future__ import annotations

import shutil
import subprocess
import sys
from pathlib import Path

import msgspec
import pytest
from hypothesis import given, settings, strategies as st

from askless.core.findings.finding import Edit, SourceLine
from askless.core.records.model import line_digest
from askless.patches.making import Patch, make
from tests.conftest import HARBOUR, findings, run

MODULES = {"Call": "harbour.models", "Job": "harbour.models", "Tug": "harbour.fleet"}
LOAD = ".options(selectinload(Call.jobs).joinedload(Job.tug))"
JOIN = '.select_related("vessel")'


def edit_of(file: Path, line: int, code: str, **more: object) -> Edit:
    lines = file.read_bytes().splitlines()
    at = SourceLine(str(file), line, "page", 0, line_digest(lines[line - 1]))
    orm = "sqlalchemy" if "(Call." in code or "session" in code else "django"
    plain = Edit(
        findings=("c0ffee00",),
        severity="urgent",
        routes=("GET /",),
        title="load it",
        at=at,
        code=code,
        queries=9,
        queries_after=2,
        saving_ms=1,
        request_ms=2,
        total_ms=1,
        requests=1,
        requests_in_route=1,
        queries_least=9,
        queries_least_after=2,
        queries_most=9,
        queries_most_after=2,
        other_routes=(),
        orm=orm,
        model="Call",
        model_modules=MODULES,
    )
    return msgspec.structs.replace(plain, **more)


def patched(folder: Path, text: str | bytes, code: str, mark: str = "#", **more: object) -> Patch:
    """The patch of an edit at the line that has the mark, applied by git where there is one."""
    file = folder / "page of calls.py"
    file.write_bytes(text.encode() if isinstance(text, str) else text)
    lines = file.read_bytes().splitlines()
    line = next(number for number, one in enumerate(lines, 1) if mark.encode() in one)
    patch = make([edit_of(file, line, code, **more)], folder)
    if patch.diff:
        (after,) = patch.files.values()
        applied(folder, patch.diff, file, after)
    return patch


def applied(folder: Path, diff: bytes, file: Path, after: bytes) -> None:
    """Both programs make of the file what the patch says."""
    before = file.read_bytes()
    for command in (["git", "apply", "--unsafe-paths", "-"], ["patch", "-p1", "--binary", "-s"]):
        if shutil.which(command[0]):  # `patch` may not be there
            subprocess.run(command, input=diff, cwd=folder, check=True, capture_output=True)
            assert file.read_bytes() == after
            file.write_bytes(before)
    compile(after, "page", "exec")


def outcome(folder: Path, text: str, code: str, **more: object) -> str:
    """The file afterwards, or why it was refused."""
    patch = patched(folder, text, code, **more)
    (one,) = patch.outcomes
    assert bool(one.reason) is not bool(patch.diff)
    return one.reason or next(iter(patch.files.values())).decode()


HEAD = "from sqlalchemy import select\nfrom harbour.models import Call, Job\n"
WITH = HEAD.replace("select\n", "select\nfrom sqlalchemy.orm import joinedload, selectinload\n")
ALCHEMY = {
    "a select": ("rows = select(Call).where(x)  #", f"rows = select(Call){LOAD}.where(x)  #"),
    "an old query": ("rows = db.query(Call).all()  #", f"rows = db.query(Call){LOAD}.all()  #"),
    "flask's query": ("rows = Call.query.all()  #", f"rows = Call.query{LOAD}.all()  #"),
    "over several lines": (
        "rows = (\n    select(Call)  #\n    .where(x)  # kept\n)",
        f"rows = (\n    select(Call){LOAD}  #\n    .where(x)  # kept\n)",
    ),
    "the line of the call around it": (
        "rows = db.scalars(  #\n    select(Call)\n).all()",
        f"rows = db.scalars(  #\n    select(Call){LOAD}\n).all()",
    ),
    "in the head of a loop": (
        "for row in db.scalars(select(Call)):  #\n    print(select(Call))",
        f"for row in db.scalars(select(Call){LOAD}):  #\n    print(select(Call))",
    ),
}


@pytest.mark.parametrize("name", ALCHEMY)
def test_a_call_is_put_to_a_query(tmp_path: Path, name: str) -> None:
    before, after = ALCHEMY[name]
    assert outcome(tmp_path, WITH + before + "\n", LOAD) == WITH + after + "\n"


DJANGO = {
    "a manager": ("Call.objects.filter(x=1)[:3]", f"Call.objects{JOIN}.filter(x=1)[:3]"),
    "an attribute of a class": ("class V:\n    q = Call.objects.all()", None),
    "a method of the manager's own": (
        "Call.objects.due().all()",
        f"Call.objects.due(){JOIN}.all()",
    ),
    "nothing but such a method": ("Call.objects.due()", f"Call.objects.due(){JOIN}"),
    "what a class above gives": (
        "super().get_queryset().filter(x=1)",
        f"super().get_queryset(){JOIN}.filter(x=1)",
    ),
    "a related manager": ("vessel.calls.order_by('x')", f"vessel.calls{JOIN}.order_by('x')"),
}


@pytest.mark.parametrize("name", DJANGO)
def test_a_call_is_put_to_a_queryset(tmp_path: Path, name: str) -> None:
    before, after = DJANGO[name]
    after = after or before.replace(".objects", f".objects{JOIN}")
    head = "from harbour.models import Call\n"
    text = outcome(tmp_path, f"{head}{before}  #\n", JOIN, relation="calls")
    assert text == f"{head}{after}  #\n"


def test_columns_are_left_out_after_those_that_are(tmp_path: Path) -> None:
    text = "rows = Call.objects.defer('a').filter(x=1)  #\n"
    wanted = "rows = Call.objects.defer('a').defer(\"log\").filter(x=1)  #\n"
    assert outcome(tmp_path, text, '.defer("log")') == wanted


def test_options_are_put_into_a_read_by_key(tmp_path: Path) -> None:
    code = "session.get(Call, ..., options=[joinedload(Call.vessel)])"
    for before, after in (
        ("db.get(Call, 1)", "db.get(Call, 1, options=[joinedload(Call.vessel)])"),
        ("db.get(Call, 1, options=[a])", "db.get(Call, 1, options=[a, joinedload(Call.vessel)])"),
        (
            "db.get(\n    Call,\n    1,\n)",
            "db.get(\n    Call,\n    1, options=[joinedload(Call.vessel)],\n)",
        ),
    ):
        text = f"{WITH}row = {before}  #\n"
        assert outcome(tmp_path, text, code) == f"{WITH}row = {after}  #\n"


IMPORTS = {
    "more of one that is there": (
        "from sqlalchemy.orm import Session\n",
        "from sqlalchemy.orm import Session, selectinload\n",
    ),
    "in the way of the file": (
        "from sqlalchemy.orm import (\n    Session,\n    aliased,\n)\n",
        "from sqlalchemy.orm import (\n    Session,\n    aliased,\n    selectinload,\n)\n",
    ),
    "one of its own": ("import sys\n", "import sys\n"),
    "behind what must be first": (
        '"""Calls."""\nfrom __future__ import annotations\n',
        '"""Calls."""\nfrom __future__ import annotations\n',
    ),
}


@pytest.mark.parametrize("name", IMPORTS)
def test_what_the_call_names_is_imported(tmp_path: Path, name: str) -> None:
    before, after = IMPORTS[name]
    head = "from sqlalchemy import select\nfrom .models import Call\n"
    text = outcome(tmp_path, f"{before}{head}rows = select(Call)  #\n", LOAD)
    own = "" if "orm" in after else "from sqlalchemy.orm import selectinload\n"
    with_job = head.replace("Call", "Call, Job")
    assert text == f"{after}{with_job}{own}rows = select(Call){LOAD}  #\n"


def test_models_are_named_as_the_query_names_them(tmp_path: Path) -> None:
    head = "import sqlalchemy as sa\nfrom harbour import models\n" + WITH.splitlines(True)[1]
    text = outcome(tmp_path, f"{head}rows = sa.select(models.Call)  #\n", LOAD)
    load = LOAD.replace("Call", "models.Call").replace("Job", "models.Job")
    assert text == f"{head}rows = sa.select(models.Call){load}  #\n"


def test_an_import_inside_of_the_function_counts(tmp_path: Path) -> None:
    head = "from sqlalchemy import select\nfrom sqlalchemy.orm import joinedload, selectinload\n"
    body = "def page():\n    from harbour.models import Call, Job\n    return select(Call)  #\n"
    wanted = body.replace("select(Call)", f"select(Call){LOAD}")
    assert outcome(tmp_path, head + body, LOAD) == head + wanted


REFUSED = {
    "two on a line": (WITH + "a, b = select(Call), select(Call)  #\n", LOAD, "2 queries of Call"),
    "no query": (WITH + "rows = due()  #\n", LOAD, "no query of Call"),
    "another model": (WITH + "rows = select(Job)  #\n", LOAD, "no query of Call"),
    "an alias": (WITH + "c = aliased(Call)\nrows = select(c)  #\n", LOAD, "no query of Call"),
    "only for a type checker": (
        "if TYPE_CHECKING:\n    from harbour.models import Job\n"
        "from harbour.names import Call\nrows = select(Call)  #\n",
        LOAD,
        "Job is not imported",
    ),
    "a function of that name": (
        HEAD + "def selectinload(): pass\nrows = select(Call)  #\n",
        LOAD,
        "selectinload is defined in this file as something else",
    ),
    "that name of another module": (
        HEAD + "from office import selectinload\nrows = select(Call)  #\n",
        LOAD,
        "selectinload is another thing",
    ),
    "options made elsewhere": (
        WITH + "row = db.get(Call, 1, options=some)  #\n",
        "session.get(Call, ..., options=[joinedload(Call.vessel)])",
        "options are made elsewhere",
    ),
    "a write": ("Call.objects.create(x=1)  #\n", JOIN, "no query of Call"),
    "words": ("Call.objects.all()  #\n", 'remove "x" from .select_related(...)', "words"),
    "nothing": ("Call.objects.all()  #\n", "", "not one call"),
    "something open": ("Call.objects.all()  #\n", ".filter(...)", "filled in"),
    "no Python": ("rows = = Call.objects.all()  #\n", JOIN, "not Python"),
}


@pytest.mark.parametrize("name", REFUSED)
def test_what_is_not_sure_is_refused(tmp_path: Path, name: str) -> None:
    text, code, reason = REFUSED[name]
    assert reason in outcome(tmp_path, text, code)


def test_a_line_that_changed_is_refused(tmp_path: Path) -> None:
    file = tmp_path / "page.py"
    file.write_text("rows = Call.objects.all()\n")
    edit = edit_of(file, 1, JOIN)
    assert make([edit], tmp_path).diff
    file.write_text("    rows = Call.objects.all()\n")
    assert make([edit], tmp_path).outcomes[0].reason == "the file is not Python that can be read"
    file.write_text("rows = Call.objects.filter(x=1)\n")
    assert "has changed since" in make([edit], tmp_path).outcomes[0].reason
    assert edit.at is not None
    unknown = msgspec.structs.replace(edit, at=msgspec.structs.replace(edit.at, digest=0))
    assert "not in the capture" in make([unknown], tmp_path).outcomes[0].reason
    below = tmp_path / "below"
    below.mkdir()
    assert "outside of" in make([edit], below).outcomes[0].reason
    file.unlink()
    assert "can't be read" in make([edit], tmp_path).outcomes[0].reason


def test_an_edit_that_other_routes_pay_for_is_refused(tmp_path: Path) -> None:
    reason = outcome(tmp_path, "Call.objects.all()  #\n", JOIN, other_routes=("GET /tugs",))
    assert "GET /tugs" in reason


LINES = st.lists(
    st.sampled_from(
        ["", "x = 1", "# été", "def f():\n    return 1", "y = '''\n  a\n'''", "\t# tab"]
    ),
    max_size=6,
)


@settings(max_examples=40, deadline=None)
@given(LINES, LINES, st.sampled_from(["\n", "\r\n"]), st.booleans(), st.booleans())
def test_all_other_bytes_of_a_file_stay(
    tmp_path_factory: pytest.TempPathFactory,
    above: list[str],
    below: list[str],
    end: str,
    ends: bool,
    latin: bool,
) -> None:
    folder = tmp_path_factory.mktemp("stay")
    coding = ["# coding: latin-1"] if latin else []
    text = "\n".join([*coding, *above, "rows = Call.objects.all()  #!", *below]) + "\n" * ends
    raw = text.replace("\n", end).encode("latin-1" if latin else "utf-8")
    patch = patched(folder, raw, JOIN, mark="#!")
    if not patch.files:
        assert patch.outcomes[0].reason == "the file can't be kept byte for byte"
        return
    (after,) = patch.files.values()
    assert after.replace(JOIN.encode(), b"") == raw and after != raw


def test_edits_of_one_file_go_together_and_are_named(tmp_path: Path) -> None:
    file = tmp_path / "page.py"
    between = "".join(f"x{number} = {number}\n" for number in range(20))
    file.write_text(f"{WITH}a = select(Call)\n{between}b = Call.query\n")
    lines = len(file.read_text().splitlines())
    first = edit_of(file, 4, LOAD, findings=("aaaa0001",))
    again = edit_of(file, 4, ".options(defer(Call.log))", findings=("aaaa0002",), title="leave log")
    last = edit_of(file, lines, LOAD, findings=("aaaa0003",))
    patch = make([first, again, last], tmp_path)
    assert [one.reason for one in patch.outcomes] == ["", "", ""]
    heads = [line for line in patch.diff.decode().splitlines() if line.startswith("@@")]
    assert len(heads) == 2 and "aaaa0001: load it; aaaa0002: leave log" in heads[0]
    assert heads[1].endswith("@@ aaaa0003: load it")
    (after,) = patch.files.values()
    assert f"select(Call){LOAD}.options(defer(Call.log))" in after.decode()
    assert "joinedload, selectinload, defer\n" in after.decode()


PROGRAM = """
import sys
import askless
from models import PortCall
from sqlalchemy import create_engine, select
from sqlalchemy.orm import Session
engine = create_engine("sqlite:///" + sys.argv[1])

def calls_due(session):
    return session.scalars(
        select(PortCall).order_by(PortCall.id).limit(15)
    ).all()

for turn in range(2):
    with Session(engine) as session, askless.request("GET /calls"):
        for call in calls_due(session):
            print(call.vessel.name, len(call.tug_jobs))
"""


def test_the_patch_of_a_program_does_what_was_said(harbour: Path, tmp_path: Path) -> None:
    (tmp_path / "pyproject.toml").write_text("")
    script = tmp_path / "page.py"
    script.write_text(PROGRAM)
    said = []

    def record(name: str) -> Path:
        words = ("-o", tmp_path / name, "--", sys.executable, script, harbour)
        ran = run("capture", "app", *words, env={"PYTHONPATH": str(HARBOUR)})
        assert ran.code == 0, ran.err
        said.append(ran.out.split("Recorded")[0])
        return tmp_path / name

    before = record("before")
    ran = run("findings", before, "--patch", cwd=tmp_path)
    assert ran.code == 0 and "1 of 1 edits are in the patch" in ran.err
    listed = run("findings", before, "--patch", tmp_path / "edits.patch", cwd=tmp_path)
    assert (tmp_path / "edits.patch").read_text() == ran.out and "in it" in listed.out
    document = run("findings", before, "--patch", "--json", cwd=tmp_path).json
    assert document["patch"] == ran.out and document["edits"][0]["patched"] is True
    apply = ["git", "apply", "--unsafe-paths", "edits.patch"]
    subprocess.run(apply, cwd=tmp_path, check=True)
    assert "from sqlalchemy.orm import Session, selectinload, joinedload\n" in script.read_text()
    after = record("after")
    queries = [
        run("requests", one, "--json").json["routes"][0]["queries"] for one in (before, after)
    ]
    assert queries == [31, 2] and findings(after) == [] and said[0] == said[1]
    stale = run("findings", before, "--patch", cwd=tmp_path)
    assert stale.code == 0 and stale.out == "" and "record again" in stale.err
