"""A set of indexes is proven by each planner's own word, on copies that leave no trace."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest

from askless.core.errors import AskLessError
from askless.database.connecting import parse_url
from askless.database.index_set_trial import IndexOutcome, PlannedIndex, prove
from askless.database.index_trial import TriedStatement
from askless.database.servers import Limits
from tests.conftest import run
from tests.database.conftest import Office

Captured = Callable[[Office], Path]
UNITS = {"sqlite": "machine steps", "postgresql": "planner cost", "mariadb": "handler reads"}
DUE = TriedStatement(
    "SELECT id, eta FROM port_call WHERE status = ? AND eta < ?", ("due", "2026-10-05")
)
SIGN = TriedStatement("SELECT name FROM vessel WHERE call_sign = ?", ("H00042",))
CHANGE = TriedStatement("UPDATE vessel SET name = ? WHERE call_sign = ?", ("Tern", "H00042"))
BOTH = PlannedIndex("status_eta", "CREATE INDEX status_eta ON port_call (status, eta)", "port_call")
STATUS = PlannedIndex(
    "status_alone", "CREATE INDEX status_alone ON port_call (status)", "port_call"
)
AGENT = PlannedIndex("agent", "CREATE INDEX agent ON port_call (agent)", "port_call")
CALL_SIGN = PlannedIndex("sign", "CREATE INDEX sign ON vessel (call_sign)", "vessel")


def proven(
    office: Office,
    wanted: list[PlannedIndex],
    *asked: TriedStatement,
    spare: tuple[PlannedIndex, ...] = (),
) -> dict[str, IndexOutcome]:
    limits = Limits(even_if_busy=True)
    return prove(parse_url(office.url), wanted, spare, asked, limits).fates


def test_what_the_others_answer_and_what_nobody_asks_is_left_out(office: Office) -> None:
    before = office.state() if office.server is not None else None
    fates = proven(office, [CALL_SIGN, BOTH, STATUS, AGENT], DUE, SIGN)
    assert fates["sign"] is IndexOutcome.KEPT and fates["agent"] is IndexOutcome.UNUSED
    assert [fates[name] for name in ("status_eta", "status_alone")].count(IndexOutcome.KEPT) == 1
    assert before is None or office.state() == before


def test_an_index_stays_that_a_statement_may_need_which_could_not_be_planned(
    office: Office,
) -> None:
    unplanned = TriedStatement("SELECT missing FROM port_call WHERE agent = ?", ("Sund",))
    fates = proven(office, [CALL_SIGN, AGENT], SIGN, unplanned)
    assert fates == {"sign": IndexOutcome.KEPT, "agent": IndexOutcome.KEPT}


def test_an_index_that_looks_redundant_is_dropped_and_asked_about(office: Office) -> None:
    """What is to be dropped is dropped on the copies alone."""
    by_call = next(
        row
        for row in run("tables", "--db", office.url, "--json").json["tables"]
        if row["name"] == "tug_job"
    )
    (name,) = [
        index["name"] for index in by_call["indexes"] if index["columns"] == ["port_call_id"]
    ]
    tail = " ON tug_job" if office.system == "mariadb" else ""
    drop = PlannedIndex(name, f"DROP INDEX {name}{tail}", "tug_job")
    jobs = TriedStatement("SELECT * FROM tug_job WHERE port_call_id = ?", (7,))
    limits = Limits(even_if_busy=True)
    for asked, needed in (([DUE, jobs], True), ([DUE], False)):
        assert prove(parse_url(office.url), [AGENT], [drop], asked, limits).needed == {name: needed}
    assert any(index["name"] == name for index in by_call["indexes"])


def test_a_statement_that_an_index_leads_astray_is_told() -> None:
    """The planner's own counts, with an index and without it."""
    from askless.database.index_set_trial import PLANNER_COST, _is_harm, _Seen

    def seen(cost: float | None, unit: str = PLANNER_COST) -> _Seen:
        return _Seen(cost, frozenset(), unit)

    assert _is_harm(seen(10.0), seen(14.0)) and not _is_harm(seen(10.0), seen(12.0))
    assert not _is_harm(seen(10.0, "handler reads"), seen(200.0, "handler reads"))
    assert _is_harm(seen(10.0, "handler reads"), seen(12_000.0, "handler reads"))
    assert not _is_harm(seen(None), seen(14.0))


def test_an_or_needs_an_index_for_each_side(office: Office) -> None:
    either = TriedStatement(
        "SELECT * FROM manifest_line WHERE weight_kg = ? OR goods = ?", (4711, "pitch")
    )
    sides = [
        PlannedIndex(
            "weights", "CREATE INDEX weights ON manifest_line (weight_kg)", "manifest_line"
        ),
        PlannedIndex(
            "goods_alone", "CREATE INDEX goods_alone ON manifest_line (goods)", "manifest_line"
        ),
    ]
    assert proven(office, [*sides, AGENT], either) == {
        "weights": IndexOutcome.KEPT,
        "goods_alone": IndexOutcome.KEPT,
        "agent": IndexOutcome.UNUSED,
    }
    assert proven(office, sides[:1], either) == {"weights": IndexOutcome.UNUSED}


def test_an_index_that_a_write_alone_needs_is_kept(office: Office) -> None:
    assert proven(office, [CALL_SIGN, AGENT], CHANGE, DUE) == {
        "sign": IndexOutcome.KEPT,
        "agent": IndexOutcome.UNUSED,
    }
    name = TriedStatement("SELECT name FROM vessel WHERE call_sign = ?", ("H00042",))
    assert run("plan", "--db", office.url, "--sql", name.text, "--parameters", '["H00042"]', "--json").json["statements"][0]["plan"][0]["index"] != "sign"  # fmt: skip


def test_a_set_is_proven_for_a_capture(office: Office, capture_of: Captured) -> None:
    before = office.state() if office.server is not None else None
    done = run(
        "indexes", capture_of(office), "--db", office.url, "--test", "--allow-busy", "--json"
    )
    assert done.code == 0, done.err
    proof = done.json["set_trial"]
    assert (
        proof["unit"] == UNITS[office.system] and proof["statements"] >= 8 and proof["skipped"] == 0
    )
    assert done.json["indexes"] and proof["after"] < proof["before"]
    plain = run("indexes", capture_of(office), "--db", office.url, "--json").json
    kept = {index["ddl"] for index in done.json["indexes"]}
    assert kept | {one["ddl"] for one in proof["excluded"]} == {
        index["ddl"] for index in plain["indexes"]
    }
    assert plain["set_trial"] is None
    said = run("indexes", capture_of(office), "--db", office.url, "--test", "--allow-busy").out
    assert f"Tested {proof['where']}: {proof['unit']}" in " ".join(said.split())
    assert before is None or office.state() == before


def test_what_cannot_be_proven(office: Office, capture_of: Captured) -> None:
    with pytest.raises(AskLessError, match="none of the capture's statements"):
        proven(office, [BOTH], TriedStatement("SELECT nothing FROM nowhere"))
    done = run("indexes", capture_of(office), "--schema", "x.json", "--test")
    assert done.code == 2 and "x.json" in done.err
