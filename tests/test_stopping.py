"""Keeping it from coming back: the pytest plug-in, strict mode, and known cases that are accepted
for a while.
"""

from __future__ import annotations

import os
import subprocess
import sys
import textwrap
from collections.abc import Callable
from datetime import date, timedelta
from pathlib import Path

import pytest

from askless.core.errors import AskLessError
from askless.core.findings.acceptance import Accepted
from askless.project import file as project_file
from tests.conftest import HARBOUR, run

OFFICE = """
import sys
sys.path.insert(0, {harbour!r})
import app, pytest

@pytest.fixture(params=["grown"])
def client(request):
    made = app.make_app("sqlite:///{db}", request.param)
    made.testing = True
    return made.test_client()

tuned = pytest.mark.parametrize("client", ["tuned"], indirect=True)
"""
Tested = Callable[..., tuple[int, str]]


@pytest.fixture
def tested(harbour: Path, tmp_path: Path) -> Tested:
    """Run pytest on a file of tests; its exit code and what it printed."""

    def ran(code: str, *options: str, known: str = "") -> tuple[int, str]:
        (tmp_path / "askless.toml").write_text(textwrap.dedent(known))
        file = tmp_path / "test_office.py"
        file.write_text(OFFICE.format(harbour=str(HARBOUR), db=harbour) + textwrap.dedent(code))
        words = [
            sys.executable,
            "-m",
            "pytest",
            "-p",
            "askless.testing.plugin",
            "-W",
            "error",
            "-q",
            str(file),
            *options,
        ]
        # the others take longer to import than a test runs
        alone = {**os.environ, "PYTEST_DISABLE_PLUGIN_AUTOLOAD": "1"}
        done = subprocess.run(
            words, cwd=tmp_path, capture_output=True, text=True, check=False, env=alone
        )
        return done.returncode, done.stdout + done.stderr

    return ran


def test_a_block_may_ask_so_many_queries(tested: Tested) -> None:
    code, out = tested(
        """
        def test_due(client, asks):
            with asks.at_most(5):
                client.get("/calls/due?first=4")
        @tuned
        def test_due_tuned(client, asks):
            with asks.at_most(4):
                client.get("/calls/due")
            with asks.at_most(0), pytest.raises(ZeroDivisionError):
                1 / 0
        """
    )
    assert code == 1 and "1 failed, 1 passed" in out, out
    assert "queries sent, limit 5:" in out
    assert "4 x select vessel.id" in out and "calls_due.html:5 in template" in out
    assert ".options(joinedload(PortCall.vessel))" in out, "the finding and its advice"
    assert "with asks.at_most(5):" in out, "the line of the test"


def test_a_block_may_have_no_finding(tested: Tested) -> None:
    code, out = tested(
        """
        def test_due(client, asks):
            with asks.never("n-plus-one"):
                client.get("/calls/due?first=4")
        def test_another_pattern(client, asks):
            with asks.never("duplicate"):
                client.get("/calls/due?first=4")
        def test_another_route(client, asks):
            with asks.never("n-plus-one", route="/berths"):
                client.get("/calls/due?first=4")
        @tuned
        def test_tuned(client, asks):
            with asks.never():
                client.get("/calls/due")
                client.get("/berths")
        """
    )
    assert code == 1 and "1 failed, 3 passed" in out, out
    assert "n-plus-one in GET /calls/due [" in out and "], evidence: traced" in out
    assert "\nE" in out and "reads vessel by id for each row of port_call (1 + 4)" in out


def test_the_marker_covers_a_whole_test(tested: Tested) -> None:
    code, out = tested(
        """
        @pytest.mark.asks(at_most=3, never="n-plus-one", route="/berths")
        def test_berths(client):
            client.get("/calls/due")
            client.get("/berths")
        @pytest.mark.asks(at_most=30, never=["duplicate"], route="/berths")
        def test_berths_may(client):
            client.get("/calls/due")
            client.get("/berths")
        @pytest.mark.asks(at_most=3)
        def test_fails_by_itself(client):
            client.get("/calls/due")
            assert False, "its own failure"
        """
    )
    assert code == 1 and "2 failed, 1 passed" in out, out
    assert "25 queries sent, limit 3" in out and "counts rows of port_call" in out
    own = out[out.index("_ test_fails_by_itself") : out.index("short test summary")]
    assert "its own failure" in own and "limit 3" not in own, (
        "one failure is reported, the test's own"
    )


@pytest.mark.parametrize(
    "code, says",
    [
        (
            "@pytest.mark.asks(most=3)\ndef test_it(): pass",
            "at_most=, never=, budgets= and route=, not most=",
        ),
        ("@pytest.mark.asks(never='n-plus-on')\ndef test_it(): pass", "did you mean n-plus-one?"),
        ("def test_it(asks):\n    with asks.never('overwide'): pass", "did you mean over-wide?"),
    ],
)
def test_mistakes_in_a_test_are_told(code: str, says: str, tested: Tested) -> None:
    exit_code, out = tested(code)
    assert exit_code == 1 and says in out, out


def test_pytest_finds_the_plug_in_by_itself(tmp_path: Path) -> None:
    (tmp_path / "test_it.py").write_text(
        "def test_it(asks):\n    with asks.at_most(0):\n        pass\n"
    )
    words = [sys.executable, "-m", "pytest", "-p", "no:cacheprovider", "-q", "."]
    done = subprocess.run(words, cwd=tmp_path, capture_output=True, text=True, check=False)
    assert done.returncode == 0 and "1 passed" in done.stdout, done.stdout + done.stderr


def test_without_use_nothing_is_recorded(tested: Tested) -> None:
    code, out = tested(
        """
        def test_plain(client):
            client.get("/calls/due")
            assert "askless_probe" not in sys.modules
        """
    )
    assert code == 0, out


STRICT = """
def test_due(client):
    client.get("/calls/due")
@tuned
def test_tuned(client):
    client.get("/calls/due")
"""


def test_strict_mode_raises_at_the_line_of_the_repeated_load(tested: Tested) -> None:
    code, out = tested(STRICT, "--asks-strict")
    assert code == 1 and "1 failed, 1 passed" in out
    template = (HARBOUR / "templates" / "calls_due.html").read_text().splitlines()
    number = next(i for i, line in enumerate(template, 1) if "job.tug.name" in line)
    assert f"calls_due.html:{number}: in block 'body'" in out, (
        "the traceback leads through the template's line"
    )
    assert "askless.RepeatedLoad: TugJob.tug is loaded for the third time in GET /calls/due" in out
    assert f"calls_due.html:{number} in template" in out
    assert tested(STRICT, "--asks-strict", "--asks-route", "/berths")[0] == 0
    code, out = tested(STRICT, "--asks-strict", "2")
    assert code == 1 and "for the second time" in out


KNOWN = """
[[accepted]]
pattern = "n-plus-one"
route = "/calls"
model = "{model}"
reason = "three tugs at most"
until = {until}
"""


def test_the_budgets_of_the_project(tested: Tested) -> None:
    budget = """
    [[budgets]]
    route = "GET /calls/due"
    queries = {}
    """
    code = """
        def test_due(client, asks):
            with asks.within_budgets():
                client.get("/calls/due?first=4")
        @pytest.mark.asks(budgets=True)
        def test_berths(client):
            client.get("/berths")
        """
    failed, out = tested(code, known=budget.format(3))
    assert failed == 1 and "queries, limit 3 queries" in out
    assert "GET /berths has no budget in" in out and "--propose" in out
    passed, out = tested(code, known=budget.format(99).replace("GET /calls/due", "GET *"))
    assert passed == 0, out


def test_known_cases_are_accepted_until_their_day(tested: Tested) -> None:
    today = date.today()
    both = KNOWN.format(model="PortCall", until=today) + KNOWN.format(model="TugJob", until=today)
    assert tested(STRICT, "--asks-strict", known=both)[0] == 0, "the last day counts"
    ended = KNOWN.format(model="PortCall", until=today) + KNOWN.format(
        model="TugJob", until=today - timedelta(1)
    )
    code, out = tested(STRICT, "--asks-strict", known=ended)
    assert code == 1 and "TugJob.tug is loaded" in out
    never = """
    def test_due(client, asks):
        with asks.never("n-plus-one"):
            client.get("/calls/due")
    """
    assert tested(never, known=both)[0] == 0
    code, out = tested(never, known=ended)
    assert code == 1 and f"it was accepted until {today - timedelta(1)}: three tugs at most" in out
    assert "PortCall.vessel" not in out


@pytest.mark.parametrize(
    "text, says",
    [
        ("[[accepted]", "is not TOML"),
        ('[[accepted]]\npattern = "n-plus-one"\nuntil = 2030-01-01', "`reason`"),
        ('[[accepted]]\npattern = "n-plus-one"\nreason = "x"', "`until`"),
        ('[[accepted]]\npattern = "n-plus-one"\nreason = "x"\nuntil = "soon"', "Invalid RFC3339"),
        (
            '[[accepted]]\npattern = "n-plus-one"\nreason = " "\nuntil = 2030-01-01',
            "without a reason",
        ),
        (
            '[[accepted]]\npattern = "n-plus-on"\nreason = "x"\nuntil = 2030-01-01',
            "which is not a pattern",
        ),
        (
            '[[accepted]]\npattern = "duplicate"\nreason = "x"\nuntil = 2030-01-01\nrout = "/"',
            "did you mean route?",
        ),
        ("[[budget]]\nroute = 'GET /'", "did you mean budgets?"),
        ("[[budgets]]\nroute = 'GET /'\nquerys = 3", "did you mean queries?"),
        ("[thresholds]\nrepeat_at_least = 3", "did you mean repeat_least?"),
        ("[thresholds]\nrepeat_least = -1", "a negative"),
        ("[[budgets]]\nroute = 'GET /'", "without limits"),
        ("[[budgets]]\nroute = 'GET /'\nbytes = '4 apples'", "4 apples"),
        ("[[budgets]]\nroute = 'GET /'\nallowed = ['n-plus-won']", "did you mean n-plus-one?"),
        ("[[routes]]\nmatches = 'GET /('\nname = 'x'", "regular expression"),
        ("[noise]\nstatement = ['x']", "did you mean statements?"),
    ],
)
def test_a_bad_project_file_is_told(text: str, says: str, tmp_path: Path, tested: Tested) -> None:
    file = tmp_path / "askless.toml"
    file.write_text(text)
    with pytest.raises(AskLessError) as raised:
        project_file.read(file)
    assert says in raised.value.message + raised.value.remedy and raised.value.remedy
    code, out = tested("@pytest.mark.asks(at_most=1)\ndef test_it(): pass", known=text)
    assert code == 4 and says in out and "Traceback" not in out
    app = run(
        "capture",
        "app",
        "--strict",
        "-o",
        tmp_path / "c",
        "--",
        sys.executable,
        "-c",
        "1",
        cwd=tmp_path,
    )
    assert app.code == 2 and says in app.err


def test_accepted_cases_fit_by_what_they_name() -> None:
    case = Accepted("duplicate", "why not", date(2030, 1, 1), route="/calls")
    assert case.holds(date(2030, 1, 1)) and not case.holds(date(2030, 1, 2))


def test_strict_mode_in_a_program(harbour: Path, tmp_path: Path) -> None:
    script = tmp_path / "job.py"
    script.write_text(
        textwrap.dedent(f"""
        import sys, askless
        sys.path.insert(0, {str(HARBOUR)!r})
        from models import PortCall, TugJob
        from sqlalchemy import create_engine, select
        from sqlalchemy.orm import Session, joinedload
        with Session(create_engine("sqlite:///{harbour}")) as session:
            with askless.request("clean: twice only, then two lines, then loaded together"):
                for call in session.scalars(select(PortCall).limit(2)):
                    call.vessel.name
                for call in session.scalars(select(PortCall).where(PortCall.id > 10).limit(2)):
                    call.vessel.name
                for job in session.scalars(select(TugJob).limit(20).options(joinedload(TugJob.tug))):
                    job.tug.name
            try:
                with askless.request("roll call"):
                    for call in session.scalars(select(PortCall).where(PortCall.id > 20).limit(9)):
                        call.vessel.name
            except askless.RepeatedLoad as error:
                print(error)
        """)
    )
    ran = run(
        "capture",
        "app",
        "--strict",
        "-o",
        tmp_path / "c",
        "--",
        sys.executable,
        script,
        cwd=tmp_path,
    )
    assert ran.code == 0, ran.err
    assert ran.out.startswith(
        "PortCall.vessel is loaded for the third time in roll call, one query for each object, at "
    )
    last = max(
        i for i, line in enumerate(script.read_text().splitlines(), 1) if "call.vessel.name" in line
    )
    assert f"{script}:{last} in <module>" in ran.out
    plain = subprocess.run(
        [sys.executable, script], capture_output=True, text=True, check=False, cwd=tmp_path
    )
    assert (plain.returncode, plain.stdout) == (0, ""), (
        "where nobody records, nothing is ever raised"
    )
    bad = run("capture", "app", "--strict", 1, "--", sys.executable, script)
    assert bad.code == 2 and "whole number from 2" in bad.err
