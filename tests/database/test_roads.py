"""The other ways of a finding about one statement, tried on each database; and rewritings that must
give the same rows.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings, strategies as st

from askless.core.advice.rewriting.grouped_join import grouped_join
from askless.core.sql.slots import literal_value, slots_of
from tests.conftest import findings, run
from tests.database.conftest import Office
from tests.test_traffic import Made

PER_ROW = (
    "SELECT v.id, v.name, (SELECT COUNT(*) FROM port_call p WHERE p.vessel_id = v.id AND p.status = 'due') AS calls, "
    "(SELECT MAX(p.eta) FROM port_call p WHERE p.vessel_id = v.id) AS latest FROM vessel v ORDER BY v.id LIMIT 60"
)
AGAIN = "SELECT p.id, p.status FROM port_call p JOIN tug_job j ON j.port_call_id = p.id WHERE p.id <= 200 ORDER BY p.id"
DEEP = "SELECT id, vessel_id FROM port_call ORDER BY id LIMIT 20 OFFSET 1200"
WIDE = "SELECT id, inspector, report FROM inspection ORDER BY id LIMIT 40"


@pytest.fixture
def tried(office: Office, tmp_path: Path) -> Callable[..., Any]:
    """The trial of the only finding of a statement, and the finding."""

    def ask(text: str, rows: int, columns: tuple[str, ...], pattern: str, **more: Any) -> Any:
        made = Made(tmp_path, office.system)
        capture = made.ask(text, rows=rows, columns=columns, duration_ns=90_000_000, **more).write()
        (finding,) = [one for one in findings(capture) if one["pattern"] == pattern]
        ran = run("trial", capture, "--db", office.url, "--finding", finding["key"], "--json")
        assert ran.code == 0, ran.err or ran.out
        return ran.json

    return ask


def test_a_subquery_for_each_row_is_grouped_once(tried: Callable[..., Any]) -> None:
    found = tried(PER_ROW, 60, ("id", "name", "calls", "latest"), "subquery-per-row")
    base, grouped = found["alternatives"]
    assert (base["name"], grouped["name"]) == ("as it is", "grouped once and joined")
    assert (
        grouped["same_result"]
        and base["rows"] == grouped["rows"] == 60
        and grouped["ratio"]["value"] > 0
    )


def test_parents_that_come_again(tried: Callable[..., Any]) -> None:
    sample = tuple((i // 4, "due") for i in range(32))
    found = tried(AGAIN, 300, ("id", "status"), "row-multiplication", sample=sample)
    base, exists, distinct = found["alternatives"]
    assert (
        exists["same_result"]
        and distinct["same_result"]
        and exists["rows"] == distinct["rows"] == 200 < base["rows"]
    )
    assert "each of its rows once" in found["verdict"]["text"]


def test_a_page_behind_many_rows(tried: Callable[..., Any]) -> None:
    found = tried(DEEP, 20, ("id", "vessel_id"), "deep-offset")
    base, by_key = found["alternatives"]
    assert by_key["same_result"] and base["rows"] == by_key["rows"] == 20
    assert "OFFSET" not in by_key["sql"] and "gets it from the one before" in by_key["note"]


def test_a_column_that_is_left_out(tried: Callable[..., Any]) -> None:
    found = tried(
        WIDE, 120, ("id", "inspector", "report"), "over-wide", widths=(480, 1200, 360_000)
    )
    base, narrow = found["alternatives"]
    assert (
        narrow["same_result"] and narrow["bytes"] < base["bytes"] and "report" not in narrow["sql"]
    )


TABLES = """
CREATE TABLE berth (id INTEGER, name TEXT);
CREATE TABLE port_call (id INTEGER, berth_id INTEGER, status TEXT, eta INTEGER);
"""
SUBQUERIES = [
    "(SELECT COUNT(*) FROM port_call c WHERE c.berth_id = b.id)",
    "(SELECT COUNT(c.eta) FROM port_call c WHERE b.id = c.berth_id AND c.status = 'due')",
    "(SELECT COUNT(DISTINCT c.status) FROM port_call c WHERE c.berth_id = b.id)",
    "(SELECT SUM(c.eta) FROM port_call c WHERE c.berth_id = (b.id))",
    "(SELECT COALESCE(SUM(c.eta), 0) + 1 FROM port_call c WHERE c.berth_id = b.id)",
    "COALESCE((SELECT MAX(c.eta) FROM port_call c WHERE c.berth_id = b.id), -1)",
    "(SELECT c.eta FROM port_call c WHERE c.berth_id = b.id ORDER BY c.eta DESC, c.id LIMIT 1)",
    "(SELECT COUNT(*) FROM port_call c JOIN port_call d ON d.id = c.id WHERE c.berth_id = b.id)",
]
SMALL = st.one_of(st.none(), st.integers(0, 3))
CALLS = st.lists(
    st.tuples(st.integers(0, 9), SMALL, st.sampled_from(["due", "late", None]), SMALL), max_size=12
)


@settings(max_examples=60)
@given(st.lists(SMALL, max_size=5), CALLS, st.sampled_from(SUBQUERIES), st.sampled_from(SUBQUERIES))
def test_grouped_once_gives_what_each_row_gave(
    berths: list[Any], calls: list[Any], one: str, other: str
) -> None:
    text = f"SELECT b.id, {one} AS a, {other} AS b FROM berth b ORDER BY b.name"
    values = [literal_value(slot.text) for slot in slots_of(text, "sqlite")]
    joined = grouped_join(text, "sqlite", values)
    assert joined.count("LEFT JOIN") == 2
    db = sqlite3.connect(":memory:")
    db.executescript(TABLES)
    db.executemany(
        "INSERT INTO berth VALUES (?, ?)", [(key, str(place)) for place, key in enumerate(berths)]
    )
    db.executemany("INSERT INTO port_call VALUES (?, ?, ?, ?)", calls)
    assert db.execute(joined).fetchall() == db.execute(text).fetchall()
    db.close()


LEFT_ALONE = [
    "SELECT b.id, (SELECT COUNT(*) FROM port_call c WHERE c.berth_id = b.id AND eta > 3) AS n FROM berth b",
    "SELECT b.id, (SELECT COUNT(*) FROM port_call c WHERE c.berth_id = b.id AND c.eta > b.id) AS n FROM berth b",
    "SELECT b.id, (SELECT COUNT(*) FROM port_call c WHERE c.berth_id > b.id) AS n FROM berth b",
    "SELECT b.id, (SELECT c.eta FROM port_call c WHERE c.berth_id = b.id LIMIT 1) AS n FROM berth b",
    "SELECT b.id, (SELECT c.eta FROM port_call c WHERE c.berth_id = b.id ORDER BY c.eta LIMIT 2) AS n FROM berth b",
    "SELECT b.id, (SELECT c.eta FROM port_call c WHERE c.berth_id = b.id) AS n FROM berth b",
    "SELECT COUNT(*), (SELECT COUNT(*) FROM port_call c WHERE c.berth_id = b.id) AS n FROM berth b",
    "SELECT b.id, (SELECT COUNT(*) FROM port_call c WHERE c.berth_id = b.id GROUP BY c.status) AS n FROM berth b",
    "SELECT b.id, EXISTS(SELECT 1 FROM port_call c WHERE c.berth_id = b.id) AS n FROM berth b",
    "SELECT b.id FROM berth b WHERE b.id = (SELECT MAX(c.berth_id) FROM port_call c WHERE c.berth_id = b.id)",
]


@pytest.mark.parametrize("text", LEFT_ALONE)
def test_what_can_not_be_told_is_left_alone(text: str) -> None:
    assert (
        grouped_join(
            text, "sqlite", [literal_value(slot.text) for slot in slots_of(text, "sqlite")]
        )
        == ""
    )
