"""The gate: budgets of the project's file, a baseline, and what must never pass by mistake."""

from __future__ import annotations

import tomllib
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec
import pytest

from askless.core.comparison.budgets import Budget, budget_for
from askless.core.records.model import CallSite
from tests.conftest import Ran, findings, run
from tests.test_traffic import Made, written

LOOK = "SELECT id, name FROM vessel WHERE call_sign = $1"
LIST = "SELECT id, vessel_id FROM port_call WHERE status = $1 LIMIT 20"

Judge = Callable[..., Ran]


@pytest.fixture
def office(tmp_path: Path) -> Path:
    """A capture of one route that asks two queries and gets 21 rows of 40 bytes."""
    return made(tmp_path / "now")


def made(folder: Path, rows: int = 20, looks: int = 1) -> Path:
    folder.mkdir()
    request = Made(folder, "postgresql").ask(LIST, "due", rows=rows, columns=("id", "vessel_id"))
    for turn in range(looks):
        request.ask(f"SELECT id, name FROM table_{turn} WHERE call_sign = $1", "H1")
    return request.write()


@pytest.fixture
def judged(tmp_path: Path) -> Judge:
    """`askless gate` in the project's folder, with this file."""

    def judge(project: str, *words: object, name: str = "askless.toml") -> Ran:
        (tmp_path / name).write_text(project)
        return run("gate", *words, cwd=tmp_path)

    return judge


def rows(ran: Ran) -> list[tuple[Any, ...]]:
    return [(row["measure"], row["limit"], row["actual"], row["over"]) for row in ran.json["rows"]]


def test_a_route_within_and_over_its_budget(judged: Judge, office: Path) -> None:
    project = '[[budgets]]\nroute = "GET /calls"\nqueries = {}\nrows = {}\nbytes = "{}"\ndatabase_ms = {}\nallowed = []\n'
    within = judged(project.format(2, 21, "1 KiB", 1), office, "--json")
    assert within.code == 0 and within.json["passed"]
    over = judged(project.format(1, 20, "839 B", 0.5), office, "--json")
    assert over.code == 1
    assert [row for row in rows(over) if row[3]] == [
        ("queries", 1, 2, True), ("rows", 20, 21, True), ("bytes", 839, 840, True), ("database_ms", 0.5, 0.8, True),
    ]  # fmt: skip
    text = run("gate", office, cwd=office.parent.parent)
    assert (
        text.code == 1
        and "NOT passed: 4 of 5 limits over" in text.out
        and "1 query (+100 %)" in text.out
    )


def test_patterns_that_may_not_be_found(judged: Judge, tmp_path: Path) -> None:
    (tmp_path / "now").mkdir()
    request = Made(tmp_path / "now", "postgresql").parents()
    for key in range(6):
        request.ask("SELECT id, name FROM vessel WHERE id = $1", 9000 + 3 * key)
    capture = request.write()
    (finding,) = findings(capture)
    none = judged('[[budgets]]\nroute = "GET *"\nallowed = []\n', capture)
    assert (
        none.code == 1 and finding["key"] in none.out and "6 queries where 1 would do" in none.out
    )
    allowed = judged('[[budgets]]\nroute = "GET *"\nallowed = ["n-plus-one"]\n', capture)
    assert allowed.code == 0 and "none but n-plus-one" in allowed.out
    accepted = f'[[accepted]]\npattern = "n-plus-one"\nreason = "six at most"\nuntil = 2099-01-01\nkey = "{finding["key"]}"\n'
    assert judged('[[budgets]]\nroute = "GET *"\nallowed = []\n' + accepted, capture).code == 0
    shown = run("findings", capture, "--accepted", "--fail-on", "minor", cwd=tmp_path)
    assert shown.code == 0 and finding["key"] in shown.out, "what is accepted is shown, not judged"
    ended = judged(
        '[[budgets]]\nroute = "GET *"\nallowed = []\n' + accepted.replace("2099", "2020"), capture
    )
    assert (
        ended.code == 1
        and "was accepted until 2020-01-01 (six at most); it is reported again" in ended.out
    )


ONE_BUDGET = '[[budgets]]\nroute = "GET /calls"\nqueries = 9\n'


def test_nothing_passes_by_mistake(judged: Judge, office: Path, tmp_path: Path) -> None:
    nothing = judged("", office)
    assert (
        nothing.code == 2
        and "nothing to check against" in nothing.err
        and "--propose" in nothing.err
    )
    other = ONE_BUDGET + '[[budgets]]\nroute = "GET /pilots"\nqueries = 9\n'
    lacking = judged(other, office)
    assert (
        lacking.code == 1
        and "not checked: the capture has no requests for GET /pilots" in lacking.out
    )
    assert judged(other, office, "--allow-missing").code == 0
    assert (
        judged('[[budgets]]\nroute = "GET /pilots"\nqueries = 9\n', office, "--allow-missing").code
        == 1
    ), "nothing was judged"
    unmet = '[[accepted]]\npattern = "duplicate"\nroute = "/calls"\nreason = "no time yet"\nuntil = 2099-01-01\n'
    told = judged(ONE_BUDGET + unmet, office)
    assert (
        told.code == 0
        and "accepted but no longer found: duplicate on /calls (no time yet)" in told.out
    )


def test_nothing_worse_than_before(judged: Judge, office: Path, tmp_path: Path) -> None:
    same = judged("", office, "--baseline", office)
    assert same.code == 0 and "0 of 3 limits over" in same.out
    few_more = made(tmp_path / "few", rows=29)
    assert judged("", few_more, "--baseline", office).code == 0, "so many rows more may be chance"
    more = judged("", made(tmp_path / "more", looks=2), "--baseline", office, "--json")
    assert more.code == 1 and ("queries", 2, 3, True) in rows(more)


def page(
    folder: Path, queries: int, rows: int = 20, size: int = 800, looping: bool = False
) -> Path:
    """A capture of one request with a list of so many rows and bytes, and single reads: of tables
    of their own, or of one again and again.
    """
    folder.mkdir()
    request = Made(folder, "postgresql").ask(LIST, "due", rows=rows, columns=("id", "vessel_id"))
    request.rows[0] = msgspec.structs.replace(request.rows[0], bytes=size)
    for turn in range(queries - 1):
        if looping:
            request.ask(LOOK, "H1", digest=9)
        else:
            request.ask(f"SELECT id, name FROM table_{turn} WHERE call_sign = $1", "H1")
    return request.write()


@pytest.mark.parametrize(
    ("before", "now", "passes", "said"),
    [
        # nothing rises: a finding that is new is listed
        ((3,), (3, 20, 800, True), True, "is new on GET /calls, which costs no more than before"),
        # a count rises, and nothing falls
        ((3,), (4,), False, "4 queries"),
        ((3,), (3, 60), False, "rows"),
        ((3, 20, 80_000), (3, 20, 160_000), False, "+100 %"),
        # within what a page may differ by chance
        ((3, 200, 80_000), (3, 219, 87_000), True, ""),
        # a join split into two: more queries, and rows and bytes fall by more
        ((1, 2_500, 450_000), (3, 780, 28_000), True, "1 query before, 3 queries now"),
        # more queries, and what falls is worth less
        ((1, 2_500, 450_000), (41, 2_500, 410_000), False, "41 queries"),
        # an eager load: fewer queries, and more bytes that weigh less
        ((41, 60, 4_000), (2, 60, 90_000), True, "87.9 KiB now; its other counts fell"),
        # a query saved, and bytes that weigh more
        ((3, 60, 4_000), (2, 60, 90_000), False, "87.9 KiB"),
        # a new loop, whatever else falls
        ((1, 2_500, 450_000), (4, 780, 28_000, True), False, "3 queries where 1 would do"),
    ],
)
def test_what_rises_is_weighed_against_what_falls(
    judged: Judge, tmp_path: Path, before: Any, now: Any, passes: bool, said: str
) -> None:
    """Each row of the table in docs/tests.md."""
    ran = judged("", page(tmp_path / "b", *now), "--baseline", page(tmp_path / "a", *before))
    assert ran.code == (0 if passes else 1), ran.out
    assert said in " ".join(ran.out.split())
    compared = run("compare", tmp_path / "a", tmp_path / "b", "--fail-on-new")
    assert compared.code == int(not passes and "would do" in said), compared.out


def test_a_finding_outlives_what_does_not_cause_it(tmp_path: Path) -> None:
    """Other columns, another join, another function in another file: the same finding; another
    column that is compared, or another table: another one.
    """

    def named(turn: int, text: str, file: str = "/app/pages.py") -> str:
        (tmp_path / str(turn)).mkdir()
        request = Made(tmp_path / str(turn), "postgresql").parents()
        request.place = CallSite(file, 10 + turn, f"page_{turn}")
        for key in range(6):
            request.ask(text, 9000 + 3 * key)
        (finding,) = findings(request.write())
        return str(finding["key"])

    first = named(0, "SELECT id, name FROM vessel WHERE id = $1")
    joined = (
        "SELECT v.id, o.name FROM vessel v LEFT JOIN owner o ON o.id = v.owner_id WHERE v.id = $1"
    )
    assert named(1, "SELECT name, flag, log FROM vessel WHERE id = $1") == first
    assert named(2, joined) == first
    assert named(3, "SELECT id, name FROM vessel WHERE id = $1", "/app/other/views.py") == first
    assert named(4, "SELECT id, name FROM berth WHERE id = $1") != first
    assert named(5, "SELECT count(*) FROM vessel WHERE id = $1") != first


def test_a_finding_that_became_smaller_is_improved(tmp_path: Path) -> None:
    sides = []
    for name, keys in (("before", 6), ("after", 3)):
        (tmp_path / name).mkdir()
        request = Made(tmp_path / name, "postgresql").parents()
        for key in range(keys):
            request.ask("SELECT id, name FROM vessel WHERE id = $1", 9000 + 3 * key)
        sides.append(request.write())
    compared = run("compare", *sides, "--json").json
    assert [len(compared[name]) for name in ("fixed", "new", "improved", "remaining")] == [
        0,
        0,
        1,
        0,
    ]
    assert "1 finding improved" in run("compare", *sides).out
    back = run("compare", *reversed(sides), "--json").json
    assert [len(back[name]) for name in ("improved", "remaining")] == [0, 1]


def test_what_a_new_route_asks_is_not_worse_than_before(
    judged: Judge, office: Path, tmp_path: Path
) -> None:
    (tmp_path / "more").mkdir()
    old, new = (Made(tmp_path / "more", "postgresql") for _ in range(2))
    old.ask(LIST, "due", rows=20, columns=("id", "vessel_id")).ask(LOOK, "H1")
    new.route = "GET /pilots"
    for _ in range(4):
        new.ask(LOOK, "H1", digest=9)
    capture = written([old, new])
    assert [finding["route"] for finding in findings(capture)] == ["GET /pilots"]
    ran = judged("", capture, "--baseline", office)
    assert ran.code == 0 and "GET /pilots" in ran.out, ran.out
    assert "costs no more than before" not in ran.out, "there is no before"


def test_a_baseline_of_another_application(
    judged: Judge, office: Path, tmp_path: Path, pages: dict[str, Path]
) -> None:
    other = judged("", office, "--baseline", pages["grown"])
    assert other.code == 2 and "no routes in common" in other.err


def test_routes_that_only_one_side_has(
    judged: Judge, pages: dict[str, Path], tmp_path: Path
) -> None:
    project = "[[routes]]\nmatches = 'GET /vessels'\nname = 'GET /ships'\n"
    (tmp_path / "calls").mkdir()
    ran = judged(project, pages["tuned"], "--baseline", pages["grown"])
    assert ran.code == 0, "both sides have the project's name for it"


def test_proposed_budgets_hold(judged: Judge, pages: dict[str, Path], tmp_path: Path) -> None:
    proposed = run("gate", pages["tuned"], "--propose", cwd=tmp_path)
    assert proposed.code == 0 and len(tomllib.loads(proposed.out)["budgets"]) == 7
    assert judged(proposed.out, pages["tuned"]).code == 0
    assert judged(proposed.out, pages["grown"]).code == 1
    again = run("gate", pages["tuned"], "--propose", cwd=tmp_path)
    assert "budgets" not in tomllib.loads(again.out), "what has a budget keeps it"


def test_the_table_of_pyproject(judged: Judge, office: Path) -> None:
    inside = judged(
        '[project]\nname = "x"\n[[tool.askless.budgets]]\nroute = "GET /calls"\nqueries = 1\n',
        office,
        name="pyproject.toml",
    )
    assert inside.code == 1 and "pyproject.toml" in inside.out
    wrong = judged('[[tool.askless.budgets]]\nrout = "GET /calls"\n', office, name="pyproject.toml")
    assert wrong.code == 2 and "did you mean route?" in wrong.err


def test_thresholds_noise_and_names_count_for_every_command(tmp_path: Path) -> None:
    request = Made(tmp_path, "postgresql").parents()
    for key in range(6):
        request.ask("SELECT id, name FROM vessel WHERE id = $1", 9000 + 3 * key)
    capture = written([request])
    project = tmp_path / "askless.toml"

    def told(text: str) -> tuple[list[str], str, int]:
        project.write_text(text)
        found = run("findings", capture, "--json", cwd=tmp_path).json["findings"]
        (row,) = run("requests", capture, "--json", cwd=tmp_path).json["routes"]
        return [one["pattern"] for one in found], row["route"], row["queries"]

    assert told("") == (["n-plus-one"], "GET /calls", 7)
    assert told("[thresholds]\nrepeat_least = 7\n") == ([], "GET /calls", 7)
    assert told("[noise]\nstatements = ['from vessel where id']\n") == ([], "GET /calls", 1)
    assert told("[[routes]]\nmatches = 'GET /c.*'\nname = 'the calls'\n") == (
        ["n-plus-one"],
        "the calls",
        7,
    )
    assert run("timeline", capture, "--route", "the calls", cwd=tmp_path).code == 0


def test_the_nearest_budget_counts() -> None:
    budgets = [
        Budget("GET /calls/*", queries=1),
        Budget("GET *", queries=2),
        Budget("GET /calls/{id}", queries=3),
    ]
    named = {
        route: budget_for(route, budgets)
        for route in ("GET /calls/{id}", "GET /calls/x", "GET /", "POST /")
    }
    assert [budget.queries if budget else None for budget in named.values()] == [3, 1, 2, None]
    assert budget_for("GET /a[b]?c", [Budget("GET /a[b]?*", rows=1)]) and not budget_for(
        "GET /ab", [Budget("GET /a[b]*")]
    )


def test_other_statements_are_other_work_however_many_rows_they_give(tmp_path: Path) -> None:
    """A route is a control for drift only if it asks the same: as many queries and rows are not
    enough.
    """
    captures = []
    for side, text in (("before", LIST), ("after", LIST + " OFFSET 40"), ("again", LIST)):
        (tmp_path / side).mkdir()
        requests = [Made(tmp_path / side, "postgresql").ask(text, "due", rows=20) for _ in range(6)]
        captures.append(written(requests))
    for other, outcome in ((captures[1], False), (captures[2], True)):
        (row,) = run("compare", captures[0], other, "--json").json["routes"]
        assert (row["verdict"]["outcome"] == "same-work") is outcome
