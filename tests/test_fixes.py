"""Twenty-two fixes as people make them, on two ORMs: each page gives what it gave, the gate passes
with the captures from before as its baseline, and names what was fixed. With a regression beside
them it fails.
"""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.conftest import HARBOUR, findings, run

PROGRAMS = Path(__file__).parent / "programs"
STAYS = {"GET /half", "GET /moved", "GET /untouched", "GET /untouched_list"}
Record = Callable[..., Path]


@pytest.fixture(scope="module", params=["sqlalchemy", "django"])
def orm(request: pytest.FixtureRequest) -> str:
    return str(request.param)


@pytest.fixture(scope="module")
def record(orm: str, harbour: Path, tmp_path_factory: pytest.TempPathFactory) -> Record:
    """Record a side of the pages, once each."""
    folder = tmp_path_factory.mktemp(orm)
    copy = folder / "harbour.db"
    copy.write_bytes(harbour.read_bytes())

    def recorded(*side: str) -> Path:
        capture = folder / "-".join(side)
        if not capture.exists():
            database = [f"sqlite:///{copy}"] if orm == "sqlalchemy" else []
            program = [sys.executable, PROGRAMS / f"fixed_{orm}.py", *database, *side]
            env = {"PYTHONPATH": f"{PROGRAMS}:{HARBOUR}"}
            ran = run("capture", "app", "-o", capture, "--", *program, env=env)
            assert ran.code == 0, ran.err
            (folder / f"{'-'.join(side)}.gave").write_text(ran.out)
        return capture

    return recorded


def test_each_fix_passes_the_gate_and_is_named(orm: str, record: Record) -> None:
    before, after = record("before"), record("after")
    assert Path(f"{before}.gave").read_text() == Path(f"{after}.gave").read_text()
    ran = run("gate", after, "--baseline", before)
    assert ran.code == 0, ran.out
    found, remaining = findings(before), {one["key"] for one in findings(after)}
    fixed = [one for one in found if one["key"] not in remaining]
    routes = {one["route"] for one in found}
    assert {one["route"] for one in fixed} == routes - (STAYS - {"GET /half"}), (
        "every page had a finding, and has lost it"
    )
    said = " ".join(ran.out.split())
    assert f"{len(fixed)} findings of the baseline fixed" in said
    assert all(one["key"] in said for one in fixed)
    compared = run("compare", before, after, "--fail-on-new", "--json")
    new = {(one["route"], one["pattern"]) for one in compared.json["new"]}
    expected = {("GET /wider", "over-wide")} if orm == "django" else set()
    assert compared.code == 0 and new == expected, "what was there before is not new"


def test_what_was_hidden_by_a_larger_finding_is_shown_as_such(orm: str, record: Record) -> None:
    before, after = record("before"), record("after")
    uncovered = run("compare", before, after, "--json").json["uncovered"]
    shown = {(one["finding"]["route"], one["finding"]["pattern"]) for one in uncovered}
    expected = {("GET /joined", "over-wide"), ("GET /by_hand", "over-wide")}
    assert shown == (expected if orm == "django" else set())
    for form in ((), ("--format", "markdown")):
        said = " ".join(run("compare", before, after, *form).out.split())
        assert said.count("was hidden by") == len(uncovered)
    gated = " ".join(run("gate", after, "--baseline", before).out.split())
    assert gated.count("was hidden by") == len(uncovered)


def test_what_a_larger_loop_left_keeps_its_name(orm: str, record: Record) -> None:
    """Also where the code has moved to another module and function."""
    if orm != "sqlalchemy":
        pytest.skip("these pages are SQLAlchemy's")
    before, after = (
        {one["key"]: one["route"] for one in findings(record(side))} for side in ("before", "after")
    )
    same = {before[key] for key in before.keys() & after.keys()}
    assert same == {"GET /half", "GET /moved"} and after.keys() <= before.keys()


@pytest.mark.parametrize(
    ("regression", "route", "measure"),
    [
        ("query", "GET /untouched", "queries"),
        ("loop", "GET /untouched", "queries"),
        ("bytes", "GET /untouched_list", "bytes"),
    ],
)
def test_a_regression_beside_the_fixes_fails(
    orm: str, record: Record, regression: str, route: str, measure: str
) -> None:
    if orm != "sqlalchemy":
        pytest.skip("planted on the pages of SQLAlchemy")
    ran = run("gate", record("after", regression), "--baseline", record("before"), "--json")
    over = {(row["route"], row["measure"]) for row in ran.json["rows"] if row["over"]}
    assert ran.code == 1 and (route, measure) in over
    assert {name for name, _ in over} == {route}
