"""find-or-create: rows that are looked for and inserted one by one, in the orders in which programs
do it.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import findings
from tests.test_traffic import Made, written

LOOK = "SELECT id FROM vessel WHERE call_sign = $1"
INSERT = "INSERT INTO vessel (name, call_sign) VALUES ($1, $2)"
SIGNS = [f"H{i:05}" for i in range(5)]


def in_turn(made: Made) -> None:
    for sign in SIGNS:
        made.ask(LOOK, sign, rows=0).ask("SAVEPOINT a").ask(INSERT, "Vessel", sign).ask(
            "RELEASE SAVEPOINT a"
        )


def first_all_then_all(made: Made) -> None:
    for sign in SIGNS:
        made.ask(LOOK, sign, rows=0)
    for sign in SIGNS:
        made.ask(INSERT, "Vessel", sign)


def then_in_one(made: Made) -> None:
    for sign in SIGNS:
        made.ask(LOOK, sign, rows=0)
    made.ask(
        INSERT.replace("($1, $2)", "($1, $2), ($3, $4), ($5, $6)"),
        "A",
        SIGNS[4],
        "B",
        SIGNS[0],
        "C",
        SIGNS[2],
    )


def some_are_there(made: Made) -> None:
    for turn, sign in enumerate(SIGNS * 2):
        made.ask(LOOK, sign + str(turn), rows=turn % 2)
        if not turn % 2:
            made.ask(INSERT, "Vessel", sign + str(turn))


def by_exists(made: Made) -> None:
    for sign in SIGNS:
        made.ask(
            "SELECT EXISTS(SELECT 1 FROM vessel WHERE call_sign = $1) AS a",
            sign,
            columns=("a",),
            sample=((False,),),
        )
        made.ask(INSERT, "Vessel", sign)


def inlined(made: Made) -> None:
    for sign in SIGNS:
        made.ask(f"SELECT id FROM vessel WHERE call_sign = '{sign}'", rows=0)
        made.ask(f"INSERT INTO vessel (name, call_sign) VALUES ('Vessel', '{sign}') RETURNING id")


def update_first(made: Made) -> None:
    for sign in SIGNS:
        made.ask("UPDATE vessel SET name = $1 WHERE call_sign = $2", "Vessel", sign, rows=0).ask(
            INSERT, "Vessel", sign
        )


@pytest.mark.parametrize(
    "page",
    [in_turn, first_all_then_all, then_in_one, some_are_there, by_exists, inlined, update_first],
)
def test_loops_that_find_or_create(page: Callable[[Made], None], tmp_path: Path) -> None:
    made = Made(tmp_path, "postgresql")
    page(made)
    # one cause is one finding: neither a loop of lookups nor one of writes next to it
    (finding,) = findings(made.write())
    assert (finding["pattern"], finding["evidence"]) == ("find-or-create", "traced")
    assert finding["variant"] == ("update or insert" if page is update_first else "find or create")
    assert any("ON CONFLICT (call_sign)" in one["sql"] for one in finding["advice"])


def they_are_there(made: Made) -> None:
    for sign in SIGNS:
        made.ask(LOOK, sign)
        made.ask("INSERT INTO port_call (vessel, berth) VALUES ($1, $2)", sign, 3)


def others_are_inserted(made: Made) -> None:
    for sign in SIGNS:
        made.ask(LOOK, sign, rows=0).ask(INSERT, "Vessel", sign + "B")


def inserted_before(made: Made) -> None:
    for sign in SIGNS:
        made.ask(INSERT, "Vessel", sign).ask(LOOK, sign, rows=0)


def only_twice(made: Made) -> None:
    for sign in SIGNS[:2]:
        made.ask(LOOK, sign, rows=0).ask(INSERT, "Vessel", sign)


def found_and_inserted_again(made: Made) -> None:
    for sign in SIGNS:
        made.ask(LOOK, sign).ask(INSERT, "Vessel", sign)


def looked_for_beside_another(made: Made) -> None:
    for sign in SIGNS:
        made.ask(
            "SELECT a.id FROM vessel a JOIN vessel b ON b.owner = a.owner WHERE a.call_sign = $1",
            sign,
            rows=0,
        ).ask(INSERT, "Vessel", sign)


def inserted_without_it(made: Made) -> None:
    for sign in SIGNS:
        made.ask(LOOK, sign, rows=0).ask("INSERT INTO vessel (name) VALUES ($1)", sign)


TRAPS = [
    they_are_there, others_are_inserted, inserted_before, only_twice, found_and_inserted_again, looked_for_beside_another,
    inserted_without_it,
]  # fmt: skip


@pytest.mark.parametrize("page", TRAPS)
def test_what_is_no_such_loop(page: Callable[[Made], None], tmp_path: Path) -> None:
    made = Made(tmp_path, "postgresql")
    page(made)
    assert "find-or-create" not in {finding["pattern"] for finding in findings(made.write())}


@pytest.mark.parametrize("creating", [1, 2])
def test_what_a_first_visit_creates_is_no_habit(creating: int, tmp_path: Path) -> None:
    visits = [Made(tmp_path, "postgresql") for _ in range(4)]
    for turn, made in enumerate(visits):
        (in_turn if turn < creating else they_are_there)(made)
    found = {one["pattern"] for one in findings(written(visits))}
    assert ("find-or-create" in found) is (creating > 1)


def statements(system: str, tmp_path: Path) -> list[dict[str, Any]]:
    made = Made(tmp_path, system)
    for sign in SIGNS:
        made.ask("SELECT id FROM vessel WHERE call_sign = ? AND flag = ?", sign, "NO", rows=0)
        made.ask("INSERT INTO vessel (call_sign, flag) VALUES (?, ?)", sign, "NO")
    (finding,) = findings(made.write())
    advice: list[dict[str, Any]] = finding["advice"]
    return advice


def test_each_system_gets_its_own_words(tmp_path: Path) -> None:
    told = {}
    for system in ("mysql", "mariadb", "sqlite", "mssql"):
        (tmp_path / system).mkdir()
        told[system] = [one["sql"] for one in statements(system, tmp_path / system)]
    assert "ON DUPLICATE KEY UPDATE call_sign = call_sign" in told["mysql"][1] == told["mariadb"][1]
    assert (
        "IN (VALUES :keys)" in told["sqlite"][0]
        and "ON CONFLICT (call_sign, flag) DO NOTHING" in told["sqlite"][1]
    )
    assert told["mssql"] == ["", ""]
