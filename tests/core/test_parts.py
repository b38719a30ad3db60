"""A statement without one of its parts still runs, with the values that are left."""

from __future__ import annotations

import sqlite3

import pytest
from hypothesis import given, strategies as st

from askless.core.sql.clauses import Part, named_form, parts_of
from askless.core.sql.slots import name_of, slots_of
from askless.database.driver_query import bound

TABLES = """
CREATE TABLE vessel (id INTEGER PRIMARY KEY, name TEXT, flag TEXT);
CREATE TABLE berth (id INTEGER PRIMARY KEY, name TEXT);
CREATE TABLE port_call (id INTEGER PRIMARY KEY, vessel_id INT, berth_id INT, status TEXT, eta TEXT);
CREATE TABLE tug_job (id INTEGER PRIMARY KEY, port_call_id INT);
"""
STATEMENTS = [
    ("SELECT id FROM vessel WHERE flag = ? AND name <> 'x''y' ORDER BY name", ["condition", "condition", "sort"]),
    ("SELECT DISTINCT c.id, v.name FROM port_call c JOIN vessel v ON v.id = c.vessel_id LIMIT ? OFFSET 2", ["join", "distinct", "limit"]),
    (
        "SELECT c.id, v.name, b.name, (SELECT count(*) FROM tug_job t WHERE t.port_call_id = c.id AND t.id > ?) AS jobs "
        "FROM port_call c JOIN vessel v ON v.id = c.vessel_id LEFT JOIN berth b ON b.id = c.berth_id AND b.name > v.name "
        "WHERE v.flag = ? AND c.status IN ('due', ?) AND (c.eta > '2026' OR b.id IS NULL) ORDER BY jobs, v.name, c.eta",
        ["join", "join", "condition", "condition", "condition", "subquery", "sort"],
    ),
    ("SELECT c.status, count(*) FROM port_call AS c JOIN vessel AS v ON v.id = c.vessel_id GROUP BY c.status, v.flag HAVING count(*) > ?", ["join", "group condition"]),
    ("SELECT name FROM port_call JOIN vessel ON vessel.id = port_call.vessel_id WHERE port_call.id = ?", ["condition"]),
    ("SELECT v.id FROM vessel v JOIN port_call c ON c.vessel_id = v.id WHERE c.status = ?", ["join", "condition"]),
]  # fmt: skip


@pytest.mark.parametrize("sql, kinds", STATEMENTS)
@pytest.mark.parametrize("system", ["sqlite", "postgresql", "mysql"])
def test_each_part_is_left_out_in_turn(sql: str, kinds: list[str], system: str) -> None:
    text = sql.replace("?", "%s") if system != "sqlite" else sql
    parts = parts_of(text, system)
    assert [part.kind for part in parts] == kinds, parts
    assert all("slot" not in part.text and "%(" not in part.text for part in parts), (
        "shown as it was written"
    )
    with sqlite3.connect(":memory:") as db:
        db.executescript(TABLES)
        for part in parts:
            run(db, part, text, system)
    db.close()


def run(db: sqlite3.Connection, part: Part, text: str, system: str) -> None:
    """The statement without the part runs: it has all the placeholders that it names, and no other."""
    named = {
        f"slot{number}": "due"
        for number, slot in enumerate(slots_of(text, system))
        if slot.placeholder
    }
    left = {name_of(slot) for slot in slots_of(part.sql, "sqlite") if slot.placeholder}
    assert left <= set(named), part.sql
    if part.kind == "limit":
        assert "LIMIT" not in part.sql
    values = {name: 3 if "LIMIT :" + name in part.sql else "due" for name in left}
    query = bound(part.sql, "sqlite", list(values.values()), list(values), "qmark")
    db.execute(query.sql, query.arguments).fetchall()


def test_what_hangs_on_a_join_goes_with_it() -> None:
    vessel, berth, *_ = parts_of(STATEMENTS[2][0], "sqlite")
    assert "berth" not in vessel.sql and "flag" not in vessel.sql and "vessel" not in vessel.sql
    assert vessel.with_it == "2 columns, 2 conditions, the sort by it, 1 join"
    assert "vessel" in berth.sql and berth.with_it == "1 column, 1 condition"


def test_what_has_no_parts() -> None:
    for text in (
        "SELECT 1",
        "DELETE FROM vessel WHERE id = 1",
        "no SQL at all (",
        "SELECT * FROM vessel",
    ):
        assert parts_of(text, "sqlite") == []


@given(
    st.lists(
        st.sampled_from(
            ["?", "%s", ":name", "$2", "%(eta)s", "'due ? %s'", "7", '"a?b"', "-- ?\n"]
        ),
        max_size=6,
    )
)
def test_placeholders_get_names_and_nothing_else_changes(words: list[str]) -> None:
    for system in ("sqlite", "postgresql", "mysql"):
        text = "SELECT " + ", ".join(words)
        named = named_form(text, system)
        before, after = slots_of(text, system), slots_of(named, system)
        assert [slot.placeholder for slot in before] == [slot.placeholder for slot in after]
        assert [slot.text for slot in before if not slot.placeholder] == [
            slot.text for slot in after if not slot.placeholder
        ]
        assert [slot.text for slot in after if slot.placeholder] == [
            f":slot{n}" for n, slot in enumerate(before) if slot.placeholder
        ]
