"""Structure: what a statement asks, and which slot supplies which column."""

from __future__ import annotations

import sqlite3

import pytest
from hypothesis import given, strategies as st

from askless.core.advice.rewriting import statements
from askless.core.advice.rewriting.statements import LookUp
from askless.core.patterns.keys import key_of
from askless.core.sql.slots import literal_value, slots_of, values_of
from askless.core.sql.structure import Column, Output
from askless.core.sql.structure_store import structure_of

LOOKUPS = [
    ("sqlite", "SELECT * FROM vessel WHERE id = ?", "vessel.id", "="),
    ("sqlite", "SELECT name FROM vessel v WHERE ? = v.id", "vessel.id", "="),
    ("sqlite", "SELECT name FROM vessel WHERE id IN (?)", "vessel.id", "in"),
    ("sqlite", "SELECT COUNT(*) FROM port_call WHERE berth_id = 7", "port_call.berth_id", "="),
    (
        "sqlite",
        "SELECT EXISTS(SELECT 1 FROM port_call WHERE berth_id = ?)",
        "port_call.berth_id",
        "=",
    ),
    (
        "sqlite",
        "SELECT COUNT(1) FROM (SELECT 1 FROM port_call WHERE berth_id = ?) AS w",
        "port_call.berth_id",
        "=",
    ),
    ("postgresql", "SELECT * FROM vessel WHERE vessel.id = $1::INTEGER", "vessel.id", "="),
    (
        "postgresql",
        "SELECT c.* FROM port_call c JOIN vessel v ON v.id = c.vessel_id AND v.id = %(k)s",
        "vessel.id",
        "=",
    ),
    ("mysql", "SELECT * FROM `vessel` WHERE `vessel`.`id` = %s", "vessel.id", "="),
]


@pytest.mark.parametrize("system, text, column, operator", LOOKUPS)
def test_the_key_of_a_look_up_is_found(system: str, text: str, column: str, operator: str) -> None:
    structure = structure_of(text, system)
    assert structure is not None
    found = [(str(p.column), p.operator) for p in structure.predicates if p.slots]
    assert (column, operator) in found


def test_joins_order_and_limit_are_read() -> None:
    structure = structure_of(
        "SELECT c.id, v.name AS n FROM port_call c LEFT JOIN vessel v ON v.id = c.vessel_id"
        " WHERE c.status = 'due' AND lower(v.name) LIKE ? ORDER BY c.eta DESC LIMIT 10 OFFSET ?", "sqlite"
    )  # fmt: skip
    assert structure is not None
    assert structure.tables == ("port_call", "vessel")
    assert [(str(j.left), str(j.right), j.outer) for j in structure.joins] == [
        ("vessel.id", "port_call.vessel_id", True)
    ]
    assert [(str(c), d) for c, d in structure.order_by] == [("port_call.eta", True)]
    assert structure.has_limit and structure.limit_slot == 2 and structure.offset_slot == 3
    assert {p.column.name: p.inside for p in structure.predicates} == {
        "status": "",
        "name": "lower",
    }


@pytest.mark.parametrize(
    "text", ["", "not sql (((", "SELEC x", "SELECT", "\x00", "VACUUM", "SELECT * FROM"]
)
def test_what_cannot_be_parsed_has_no_structure_or_none_that_lies(text: str) -> None:
    structure = structure_of(text, "sqlite")
    assert structure is None or structure.predicates == ()


@given(st.text(max_size=60))
def test_no_text_breaks_the_parser(text: str) -> None:
    structure_of(text, "sqlite")


def test_functions_that_change_and_locks_are_seen() -> None:
    for text in ("SELECT random()", "SELECT nextval('s')", "SELECT * FROM t ORDER BY rand()"):
        found = structure_of(text, "sqlite")
        assert found is not None and found.volatile, text
    locked = structure_of("SELECT * FROM t WHERE id = 1 FOR UPDATE", "postgresql")
    assert locked is not None and locked.locks


CLOCKS = [
    ("sqlite", "SELECT * FROM t WHERE a < datetime('now')", "moment"),
    ("sqlite", "SELECT CURRENT_TIMESTAMP", "moment"),
    ("mysql", "SELECT * FROM t WHERE a < now()", "moment"),
    ("mysql", "SELECT * FROM t WHERE a < curdate()", "day"),
    ("postgresql", "SELECT * FROM t WHERE a < now()", "transaction"),
    ("postgresql", "SELECT * FROM t WHERE a < now() AND b < clock_timestamp()", "moment"),
    ("postgresql", "SELECT * FROM t WHERE a <= CURRENT_DATE", "day"),
    ("postgresql", "SELECT now FROM t", ""),
]


@pytest.mark.parametrize("system, text, clock", CLOCKS)
def test_a_clock_in_a_filter_changes_no_rows_identity(system: str, text: str, clock: str) -> None:
    found = structure_of(text, system)
    assert found is not None and found.clock == clock and not found.volatile


KEYS = [
    ("SELECT a FROM t WHERE id = ANY($1)", [("t.id", "any", (0,))]),
    ("SELECT a FROM t WHERE id = ANY($1::bigint[])", [("t.id", "any", (0,))]),
    ("SELECT a FROM t WHERE id = ANY(ARRAY[$1, $2])", [("t.id", "in", (0, 1))]),
    ("SELECT a FROM t WHERE (a, b) = ($1, $2)", [("t.a", "=", (0,)), ("t.b", "=", (1,))]),
    ("SELECT a FROM t WHERE (a, b) IN (($1, $2))", [("t.a", "=", (0,)), ("t.b", "=", (1,))]),
    ("SELECT a FROM t WHERE lower(code) = lower($1)", [("t.code", "=", (0,))]),
    ("SELECT t.a FROM (VALUES ($1)) AS v(id) JOIN t ON t.id = v.id", [("t.id", "=", (0,))]),
    ("SELECT t.a FROM t JOIN (SELECT $1 AS id) AS v ON v.id = t.id", [("t.id", "=", (0,))]),
]


@pytest.mark.parametrize("text, expected", KEYS)
def test_keys_in_every_form(text: str, expected: list[tuple[str, str, tuple[int, ...]]]) -> None:
    found = structure_of(text, "postgresql")
    assert found is not None
    assert [(str(p.column), p.operator, p.slots) for p in found.predicates] == expected


EXISTS = [
    "SELECT EXISTS(SELECT 1 FROM t WHERE a = $1)",
    "SELECT $1 AS a FROM t WHERE b = $2 LIMIT 1",
    "SELECT 1 AS one FROM t WHERE b = $1 LIMIT $2",
    "SELECT 1 FROM (SELECT 1) x WHERE EXISTS (SELECT 1 FROM t WHERE a = $1)",
    "SELECT 1 WHERE EXISTS (SELECT 1 FROM t WHERE a = $1)",
    "SELECT CASE WHEN EXISTS (SELECT 1 FROM t WHERE a = $1) THEN 1 ELSE 0 END",
]


@pytest.mark.parametrize("text", EXISTS)
def test_a_question_whether_there_is_one(text: str) -> None:
    found = structure_of(text, "postgresql")
    assert found is not None and found.exists and found.main == "t", found


BOUNDED = [
    ("SELECT a FROM t LIMIT 5", True), ("SELECT a FROM t FETCH FIRST 5 ROWS ONLY", True), ("SELECT a FROM t", False),
    ("SELECT * FROM (SELECT a FROM t LIMIT 5) x", True), ("SELECT * FROM u WHERE id IN (SELECT a FROM t LIMIT 5)", True),
    ("SELECT * FROM t JOIN (SELECT a FROM u LIMIT 5) x ON x.a = t.a", False), ("SELECT a FROM t WHERE ROWNUM <= 5", True),
]  # fmt: skip


@pytest.mark.parametrize("text, bounded", BOUNDED)
def test_what_bounds_a_result(text: str, bounded: bool) -> None:
    found = structure_of(text, "postgresql")
    assert found is not None and found.bounded is bounded


OTHER_SYSTEMS = [
    ("mssql", "SELECT TOP(1) [v].[name] FROM [vessel] AS [v] WHERE [v].[id] = @p", "vessel", ["vessel.id"], True),
    ("mssql", "SELECT t.*, a.x FROM tug t OUTER APPLY (SELECT TOP 1 x FROM job WHERE job.tug_id = t.id) a WHERE t.id = @p", "tug", ["tug.id"], False),
    ("mssql", "SELECT id FROM tug WHERE port = @p ORDER BY id OFFSET @o ROWS FETCH NEXT @n ROWS ONLY", "tug", ["tug.port"], True),
    ("oracle", "SELECT * FROM (SELECT name FROM vessel WHERE id = :1) WHERE ROWNUM <= 1", "vessel", ["ROWNUM", "vessel.id"], True),
    ("oracle", "SELECT 1 FROM dual WHERE EXISTS (SELECT 1 FROM tug WHERE port = :1)", "tug", ["tug.port"], False),
]  # fmt: skip


@pytest.mark.parametrize("system, text, main, columns, bounded", OTHER_SYSTEMS)
def test_the_sql_of_systems_that_are_only_read(
    system: str, text: str, main: str, columns: list[str], bounded: bool
) -> None:
    found = structure_of(text, system)
    assert found is not None and (found.main, found.bounded) == (main, bounded)
    assert [str(predicate.column) for predicate in found.predicates] == columns


def test_values_line_up_with_slots() -> None:
    text = "SELECT a FROM t WHERE b = 'x' AND c = :c AND d = 3 AND e = :e AND f = :c"
    slots = slots_of(text, "sqlite")
    assert values_of(slots, (10, 20), ("c", "e")) == ["x", 10, 3, 20, 10]
    numbered = slots_of("SELECT $2, $1", "postgresql")
    assert values_of(numbered, ("a", "b")) == ["b", "a"]


@given(st.one_of(st.integers(), st.text(alphabet="ab'\" ", max_size=8)))
def test_a_literal_is_read_back(value: int | str) -> None:
    literal = str(abs(value)) if isinstance(value, int) else "'" + value.replace("'", "''") + "'"
    slots = slots_of(f"SELECT {literal}", "sqlite")
    assert [literal_value(slot.text) for slot in slots] == [
        abs(value) if isinstance(value, int) else value
    ]


def outputs(text: str) -> tuple[Output, ...]:
    structure = structure_of(text, "sqlite")
    assert structure is not None
    return structure.outputs


def flat(sql: str) -> str:
    return " ".join(sql.split())


def test_a_batched_look_up_keeps_the_key_that_stitches() -> None:
    sql = statements.batched(
        LookUp("SELECT name FROM vessel WHERE id = ? AND flag = 'NO'", "sqlite", "vessel", "id")
    )
    assert flat(sql) == "SELECT name, id FROM vessel WHERE id IN (:keys) AND flag = 'NO'"


def test_a_join_never_loses_parents_and_never_hides_a_column() -> None:
    sql = statements.joined(
        "SELECT id, vessel_id FROM port_call WHERE status = ?",
        "sqlite",
        ("port_call", "vessel_id"),
        "vessel",
        "id",
        outputs("SELECT id, name FROM vessel"),
        False,
    )
    assert "LEFT JOIN vessel" in flat(sql)
    assert "vessel.id AS vessel_id_" in flat(sql), "the parent has columns id and vessel_id already"


def test_a_join_reads_columns_by_their_own_names_whatever_the_look_up_calls_them() -> None:
    parent = "SELECT id AS port_call_id, vessel_id FROM port_call"
    labelled = outputs(
        "SELECT v.id AS vessel_id, v.name AS vessel_name, v.flag FROM vessel AS v WHERE v.id = ?"
    )
    sql = flat(
        statements.joined(
            parent, "sqlite", ("port_call", "vessel_id"), "vessel", "id", labelled, False
        )
    )
    assert "vessel.id AS vessel_vessel_id, vessel.name AS vessel_name, vessel.flag FROM" in sql
    computed = outputs("SELECT id, upper(name) AS name FROM vessel WHERE id = ?")
    assert (
        statements.joined(
            parent, "sqlite", ("port_call", "vessel_id"), "vessel", "id", computed, False
        )
        == ""
    ), "a join would lose it"


def test_a_to_many_join_under_a_limit_is_not_written() -> None:
    text = "SELECT id FROM port_call ORDER BY eta LIMIT 10"
    assert (
        statements.joined(
            text,
            "sqlite",
            ("port_call", "id"),
            "tug_job",
            "port_call_id",
            outputs("SELECT id FROM tug_job"),
            True,
        )
        == ""
    )
    assert (
        statements.joined(
            text,
            "sqlite",
            ("port_call", "id"),
            "vessel",
            "id",
            outputs("SELECT name FROM vessel"),
            False,
        )
        != ""
    )


def test_a_count_is_grouped_by_its_key() -> None:
    sql = statements.counted(
        LookUp(
            "SELECT COUNT(*) FROM port_call WHERE berth_id = 3", "sqlite", "port_call", "berth_id"
        )
    )
    assert (
        flat(sql)
        == "SELECT berth_id, COUNT(*) FROM port_call WHERE berth_id IN (:keys) GROUP BY berth_id"
    )


ASKED_WHETHER = [
    "SELECT EXISTS(SELECT 1 FROM tug_job WHERE port_call_id = ? AND open = 1)",
    "SELECT 1 AS a FROM tug_job WHERE port_call_id = ? AND open = 1 ORDER BY id LIMIT 1",
    "SELECT 1 FROM (SELECT 1) x WHERE EXISTS (SELECT 1 FROM tug_job WHERE port_call_id = ? AND open = 1)",
]


@pytest.mark.parametrize("text", ASKED_WHETHER)
def test_a_question_for_one_key_becomes_one_for_all(text: str) -> None:
    sql = statements.existing(LookUp(text, "sqlite", "tug_job", "port_call_id"))
    assert (
        flat(sql)
        == "SELECT DISTINCT port_call_id FROM tug_job WHERE port_call_id IN (:keys) AND open = 1"
    )


# A lookup, and what varies in it for each of four keys; an "n" among these is the key.
LATEST = [
    ("SELECT id FROM port_call WHERE vessel_id = ? AND at = (SELECT MAX(at) FROM port_call WHERE vessel_id = ?)", "nn"),
    ("SELECT id FROM port_call c WHERE c.passed = ? AND c.vessel_id = ? AND at = (SELECT MIN(at) FROM port_call WHERE passed < ? AND vessel_id = ?)", "1n2n"),
    ("SELECT id FROM port_call c WHERE c.vessel_id = ? AND c.at = (SELECT MAX(d.at) FROM port_call d WHERE d.vessel_id = c.vessel_id)", "n"),
    ("SELECT id FROM port_call WHERE vessel_id = ? AND at IN (SELECT MAX(at) FROM port_call WHERE vessel_id = ?)", "nn"),
    ("SELECT id FROM port_call WHERE vessel_id = ? AND at = ?", "n2"),
    ("SELECT id FROM port_call WHERE ? = at AND passed = ? AND vessel_id = ?", "21n"),
]  # fmt: skip


@pytest.mark.parametrize("text, values", LATEST)
def test_all_that_varies_is_taken_along(text: str, values: str) -> None:
    """A batch that left one of two varying values as it was would ask something else."""
    structure = structure_of(text, "sqlite")
    assert structure is not None and (structure.extreme is None) == ("SELECT M" not in text)
    asked = [tuple(key if value == "n" else int(value) for value in values) for key in range(4)]
    # The composite key's other column varies too, beyond what is looked up here.
    also = (
        []
        if structure.extreme is not None
        else [tuple(4 if value != "1" else 1 for value in values)]
    )
    found = key_of(structure, [*asked, *also])
    assert found is not None
    sql = statements.batched(LookUp(text, "sqlite", "port_call", found.column.name, found.beside))
    pairs = "(vessel_id, at)" in sql and "VALUES" in sql
    keys = [(key, 2) if pairs else key for key in range(4)]
    rows = [(n, n % 4, n * 7 % 5, n % 3 > 0) for n in range(40)]
    database = sqlite3.connect(":memory:")
    try:
        database.execute(
            "CREATE TABLE port_call (id INTEGER, vessel_id INTEGER, at INTEGER, passed INTEGER)"
        )
        database.executemany("INSERT INTO port_call VALUES (?, ?, ?, ?)", rows)
        one_by_one = {row[0] for one in asked for row in database.execute(text, one)}
        constant = [int(value) for value in values if value != "n" and not (pairs and value == "2")]
        together = {
            row[0] for row in database.execute(sql.replace(":keys", str(keys)[1:-1]), constant)
        }
    finally:
        database.close()
    assert together == one_by_one and one_by_one


def test_what_varies_and_has_no_place_in_a_batch_leaves_it_unwritten() -> None:
    text = "SELECT id FROM port_call WHERE vessel_id = ? AND berth_id IN (SELECT id FROM berth WHERE depth = ?)"
    structure = structure_of(text, "sqlite")
    assert structure is not None
    found = key_of(structure, [(n, n) for n in range(5)])
    assert (
        found is not None
        and statements.batched(LookUp(text, "sqlite", "port_call", "vessel_id", found.beside)) == ""
    )
    pair = "SELECT id FROM port_call WHERE vessel_id = ? AND at = ?"
    structure = structure_of(pair, "mssql")
    assert structure is not None
    beside = (key_of(structure, [(n, n + 1) for n in range(5)]) or found).beside
    assert statements.batched(LookUp(pair, "mssql", "port_call", "vessel_id", beside)) == "", (
        "it compares no pairs"
    )
    assert "(vessel_id, at) IN (:keys)" in statements.batched(
        LookUp(pair, "postgresql", "port_call", "vessel_id", beside)
    )


@pytest.mark.parametrize(
    ("condition", "more"),
    [
        ("vessel_id = ?", False),
        ("vessel_id = ? AND status = 'due'", False),
        ("vessel_id = ? AND (eta IS NULL OR eta > 3)", False),
        ("vessel_id = ? AND NOT cancelled", True),
        ("vessel_id = ? AND open", True),
        ("vessel_id = ? AND eta > etd", True),
        ("vessel_id = ? AND EXISTS (SELECT 1 FROM tug_job j WHERE j.call_id = c.id)", False),
    ],
)
def test_a_condition_that_is_no_comparison_is_one_all_the_same(condition: str, more: bool) -> None:
    structure = structure_of(f"SELECT c.id FROM port_call c WHERE {condition}", "postgresql")
    assert structure is not None and structure.filters_more is more


def test_a_highest_of_all_is_no_highest_of_each() -> None:
    text = "SELECT id FROM port_call WHERE vessel_id = ? AND at = (SELECT MAX(at) FROM port_call)"
    structure = structure_of(text, "sqlite")
    assert structure is not None and structure.extreme is None and structure.filters_by_query


@pytest.mark.parametrize("most", [1, 2, 5])
def test_the_first_rows_of_each_key_are_told_by_a_window(most: int) -> None:
    text = f"SELECT id, at FROM inspection WHERE vessel_id = ? AND passed = 1 ORDER BY at DESC, id LIMIT {most}"
    sql = statements.first_of_each(LookUp(text, "sqlite", "inspection", "vessel_id"), most)
    database = sqlite3.connect(":memory:")
    try:
        database.execute(
            "CREATE TABLE inspection (id INTEGER, vessel_id INTEGER, at INTEGER, passed INTEGER)"
        )
        rows = [(n, n % 4, n * 7 % 5, n % 3 > 0) for n in range(40)]
        database.executemany("INSERT INTO inspection VALUES (?, ?, ?, ?)", rows)
        one_by_one = [(*row, key) for key in range(4) for row in database.execute(text, (key,))]
        together = [row[:3] for row in database.execute(sql.replace(":keys", "0, 1, 2, 3"))]
    finally:
        database.close()
    assert len(one_by_one) > 3 and sorted(together) == sorted(one_by_one)
    assert most == 1 or together == one_by_one, "each key's rows in their order"
    assert (
        statements.first_of_each(
            LookUp(text.replace("ORDER BY at DESC, id ", ""), "sqlite", "inspection", "vessel_id")
        )
        == ""
    )


def test_a_count_with_the_parent_keeps_parents_without_children() -> None:
    parent = "SELECT id, name FROM berth WHERE open = 1 ORDER BY name"
    sql = statements.counted_with_parent(parent, "sqlite", ("berth", "id"), "port_call", "berth_id")
    database = sqlite3.connect(":memory:")
    try:
        database.executescript(
            "CREATE TABLE berth (id INTEGER, name TEXT, open INTEGER); CREATE TABLE port_call (id INTEGER, berth_id INTEGER);"
            "INSERT INTO berth VALUES (1, 'a', 1), (2, 'b', 1), (3, 'c', 0); INSERT INTO port_call VALUES (1, 1), (2, 1), (3, 3);"
        )
        assert database.execute(sql).fetchall() == [(1, "a", 2), (2, "b", 0)]
    finally:
        database.close()
    joined = "SELECT b.id FROM berth b JOIN pier p ON p.id = b.pier_id"
    assert (
        statements.counted_with_parent(joined, "sqlite", ("berth", "id"), "port_call", "berth_id")
        == ""
    )


def test_joins_without_on_are_not_tried_in_all_ways() -> None:
    """Each of them doubles the parser's work: thirty would take it hours, so that it has a limit."""

    def joined(count: int) -> str:
        return "select * from " + " join ".join(f"t{i}" for i in range(count))

    few = structure_of(joined(8), "mariadb")
    assert few is not None and len(few.tables) == 8
    assert structure_of(joined(22), "mariadb") is None
    many = structure_of(joined(2) + " join u on u.id = t0.id", "mariadb")
    assert many is not None and len(many.tables) == 3
    wide = "select " + ", ".join(f"t.c{i}" for i in range(4_000)) + " from t"
    outputs = structure_of(wide, "postgresql")
    assert outputs is not None and len(outputs.outputs) == 4_000


def test_the_joins_of_the_one_subquery_that_all_rows_come_from_are_the_statements_own() -> None:
    inner = "SELECT c.berth_id FROM port_call c JOIN vessel v ON v.id = c.vessel_id WHERE v.id = ?"
    for sql in (
        f"SELECT DISTINCT a.berth_id FROM ({inner}) AS a LIMIT 5",
        f"SELECT COUNT(*) FROM ({inner}) AS a",
    ):
        structure = structure_of(sql, "postgresql")
        assert structure is not None
        (key,) = [one.column for one in structure.predicates]
        assert structure.nearest(key) == Column("port_call", "vessel_id"), sql
    beside = structure_of(
        f"SELECT b.id FROM berth b JOIN ({inner}) AS a ON a.berth_id = b.id", "postgresql"
    )
    assert beside is not None and {str(one.right) for one in beside.joins} == {"berth.id"}
