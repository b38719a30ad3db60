"""literal-churn: values written into texts, and literals that are none of that."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import findings
from tests.test_traffic import Made, written

Ask = Callable[[Made, int], Made]


def each(text: str, *parameters: Any) -> Ask:
    return lambda made, turn: made.ask(
        text.format(turn=turn), *(one.format(turn=turn) for one in parameters)
    )


def churning(
    tmp_path: Path, ask: Ask, times: int = 24, system: str = "postgresql"
) -> list[dict[str, Any]]:
    requests = [ask(Made(tmp_path, system), turn) for turn in range(times)]
    return [one for one in findings(written(requests)) if one["pattern"] == "literal-churn"]


CHURN = [
    each("SELECT id, name FROM vessel WHERE call_sign = 'H{turn:05}'"),
    each(
        "SELECT id, name FROM vessel WHERE status = 'due' AND owner = 'Tern {turn}' ORDER BY id LIMIT 20"
    ),
    each("SELECT COUNT(*) FROM port_call WHERE berth_id = {turn}"),
    each("INSERT INTO clearance (port_call_id, state) VALUES ({turn}, 'asked')"),
    each("UPDATE clearance SET state = $1 WHERE id = {turn}", "cleared"),
]


@pytest.mark.parametrize("ask", CHURN)
def test_values_in_texts(ask: Ask, tmp_path: Path) -> None:
    (finding,) = churning(tmp_path, ask)
    assert finding["title"].startswith("24 executions of one statement")
    (advice,) = finding["advice"]
    assert "?" in advice["sql"] and "Tern" not in advice["sql"] and finding["caveats"] == []


CLEAN = {
    "bound": each("SELECT id FROM vessel WHERE call_sign = $1", "H{turn}"),
    "a constant": each("SELECT id FROM vessel WHERE status = 'due' AND call_sign = $1", "H{turn}"),
    "a page": each("SELECT id FROM vessel ORDER BY id LIMIT 20 OFFSET {turn}"),
    "a page of a kind": each(
        "SELECT id FROM vessel WHERE flag = 'N{turn}' ORDER BY id LIMIT 20 OFFSET {turn}"
    ),
    "a batch": each("SELECT id FROM vessel WHERE id IN ({turn}, 3, 4)"),
    "few constants": lambda made, turn: made.ask(
        f"SELECT id FROM vessel WHERE status = '{'abc'[turn % 3]}'"
    ),
}


@pytest.mark.parametrize("name", CLEAN)
def test_literals_that_churn_nothing(name: str, tmp_path: Path) -> None:
    assert churning(tmp_path, CLEAN[name]) == []


def test_few_executions_show_nothing(tmp_path: Path) -> None:
    assert churning(tmp_path, CHURN[0], times=19) == []


def test_a_loop_that_is_to_go_is_told_once(tmp_path: Path) -> None:
    def page(made: Made, turn: int) -> Made:
        made.parents()
        for vessel in range(6):
            made.ask(f"SELECT id, name FROM vessel WHERE id = {9000 + 3 * vessel + 100 * turn}")
        return made

    found = findings(written([page(Made(tmp_path, "postgresql"), turn) for turn in range(6)]))
    assert [one["pattern"] for one in found] == ["n-plus-one"]


def test_what_was_seen_on_the_wire_may_be_the_drivers_doing(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("tests.test_traffic.CallSite", lambda *where: None)
    (finding,) = churning(tmp_path, CHURN[0], system="mysql")
    assert finding["severity"] == "minor" and any(
        "the driver may" in doubt for doubt in finding["caveats"]
    )
