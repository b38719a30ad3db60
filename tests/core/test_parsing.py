"""One parse for all: names by scope, writes in every form, texts that no person wrote."""

from __future__ import annotations

import pytest

from askless.core.advice.rewriting import statements
from askless.core.advice.rewriting.statements import LookUp
from askless.core.sql.parsing import parse
from askless.core.sql.structure import EVERYTHING, Structure
from askless.core.sql.structure_store import structure_of
from askless.core.sql.tokens import pattern_of


def read(text: str, system: str = "postgresql") -> Structure:
    found = structure_of(text, system)
    assert found is not None, text
    return found


def conditions(text: str, system: str = "postgresql") -> list[tuple[str, str, bool]]:
    return [(str(p.column), p.operator, p.required) for p in read(text, system).predicates]


@pytest.mark.parametrize(
    "text, expected",
    [
        ("SELECT * FROM vessel WHERE name = $1", [("vessel.name", "=", True)]),
        ("SELECT * FROM a.vessel v WHERE v.name = $1", [("vessel.name", "=", True)]),
        # a column without its table
        ("SELECT * FROM (SELECT id, name AS n FROM vessel) v WHERE n = $1", [("vessel.name", "=", True)]),
        ("SELECT * FROM (SELECT * FROM vessel) v WHERE v.name = $1", [("vessel.name", "=", True)]),
        ("SELECT * FROM vessel v JOIN port_call c ON c.vessel_id = v.id WHERE status = $1", [("status", "=", True)]),
        ("SELECT n FROM (SELECT count(*) AS n FROM vessel) x WHERE n > 3", [("", ">", True)]),
        # keys inside EXISTS, of the outer statement too
        ("SELECT EXISTS(SELECT 1 FROM vessel v WHERE v.id = $1)", [("vessel.id", "=", True)]),
        ("SELECT 1 FROM (SELECT 1) t WHERE EXISTS (SELECT 1 FROM vessel v WHERE v.id = $1)", [("vessel.id", "=", True)]),
        ("SELECT * FROM port_call c WHERE EXISTS (SELECT 1 FROM vessel v WHERE v.id = c.vessel_id AND c.status = $1)", [("port_call.status", "=", False)]),
        ("SELECT * FROM port_call WHERE vessel_id IN (SELECT u.id FROM vessel u WHERE u.owner = $1)", [("vessel.owner", "=", False)]),
        # UNION, CTE, derived
        ("SELECT id FROM vessel WHERE name = $1 UNION SELECT id FROM tug WHERE name = $2", [("vessel.name", "=", False), ("tug.name", "=", False)]),
        ("WITH v AS (SELECT id, name AS n FROM vessel) SELECT * FROM v WHERE v.n = $1", [("vessel.name", "=", True)]),
        ("WITH v AS (SELECT id FROM vessel WHERE name = $1) SELECT * FROM v", [("vessel.name", "=", True)]),
        ("SELECT count(*) FROM (SELECT 1 FROM port_call c WHERE c.vessel_id = $1) AS _w", [("port_call.vessel_id", "=", True)]),
        # operators
        ("SELECT 1 FROM t WHERE a NOT BETWEEN 1 AND 2", [("t.a", "not between", True)]),
        ("SELECT 1 FROM t WHERE NOT (a BETWEEN 1 AND 2)", [("t.a", "not between", True)]),
        ("SELECT 1 FROM t WHERE 5 < a", [("t.a", ">", True)]),
        ("SELECT 1 FROM t WHERE 5 >= a", [("t.a", "<=", True)]),
        ("SELECT 1 FROM t WHERE NOT a = 5", [("t.a", "not =", True)]),
        ("SELECT 1 FROM t WHERE a NOT IN (1, 2)", [("t.a", "not in", True)]),
        ("SELECT 1 FROM t WHERE a IS NOT NULL", [("t.a", "is not null", True)]),
        ("SELECT 1 FROM t WHERE a = 1 OR b = 2", [("t.a", "=", False), ("t.b", "=", False)]),
    ],
)  # fmt: skip
def test_columns_belong_to_their_tables(text: str, expected: list[tuple[str, str, bool]]) -> None:
    assert conditions(text) == expected


def test_the_outer_join_is_the_one_that_is_outer() -> None:
    text = "SELECT 1 FROM a JOIN b ON b.a_id = a.id LEFT JOIN c ON c.b_id = b.id JOIN d ON d.c_id = c.id AND d.b_id = b.id"
    assert [(str(j.left), j.outer) for j in read(text).joins] == [
        ("b.a_id", False), ("c.b_id", True), ("d.c_id", False), ("d.b_id", False),
    ]  # fmt: skip
    using = read("SELECT 1 FROM a LEFT JOIN b USING (id) JOIN c USING (id)").joins
    assert [(str(j.left), str(j.right), j.outer) for j in using] == [
        ("a.id", "b.id", True),
        ("a.id", "c.id", False),
    ]


@pytest.mark.parametrize(
    "text, system, kind, writes",
    [
        ("REPLACE INTO vessel (id) VALUES (1)", "mysql", "insert", ("vessel",)),
        ("REPLACE INTO `vessel` VALUES (1)", "mariadb", "insert", ("vessel",)),
        ("INSERT OR REPLACE INTO Vessel (id) VALUES (1)", "sqlite", "insert", ("vessel",)),
        (
            "MERGE INTO vessel USING s ON s.id = vessel.id WHEN MATCHED THEN UPDATE SET a = 1",
            "postgresql",
            "merge",
            ("vessel",),
        ),
        ("TRUNCATE vessel, tug", "postgresql", "truncate", ("vessel", "tug")),
        (
            "WITH gone AS (DELETE FROM vessel WHERE id = 1 RETURNING id) SELECT * FROM gone",
            "postgresql",
            "select",
            ("vessel",),
        ),
        (
            "WITH x AS (SELECT 1) INSERT INTO vessel SELECT * FROM x",
            "postgresql",
            "insert",
            ("vessel",),
        ),
        ("CALL tidy(1)", "mysql", "call", (EVERYTHING,)),
        ("COPY vessel FROM STDIN", "postgresql", "copy", ("vessel",)),
        ("COPY vessel TO STDOUT", "postgresql", "copy", ()),
        ("SELECT id INTO copied FROM vessel", "postgresql", "select", ("copied",)),
        ("UPDATE vessel SET name = 'x' WHERE id = 1", "sqlite", "update", ("vessel",)),
        ("SELECT * FROM vessel FOR UPDATE", "postgresql", "select", ()),
        ("DELETE FROM vessel", "sqlite", "delete", ("vessel",)),
    ],
)
def test_what_a_statement_writes(
    text: str, system: str, kind: str, writes: tuple[str, ...]
) -> None:
    found = read(text, system)
    assert (found.kind, found.writes) == (kind, writes)


@pytest.mark.parametrize("text", ["COALESCE(SUM(weight_kg), 0)", "CAST(SUM(weight_kg) AS integer)", "(SUM(weight_kg))", "ROUND(SUM(weight_kg), 2)"])  # fmt: skip
def test_an_aggregate_is_one_whatever_stands_around_it(text: str) -> None:
    assert read(
        f"SELECT {text} AS total FROM manifest_line WHERE port_call_id = $1"
    ).aggregates == ("sum",)


@pytest.mark.parametrize("depth", [20, 100, 149])
def test_brackets_in_brackets(depth: int) -> None:
    assert conditions("SELECT * FROM t WHERE " + "(" * depth + "a = 1" + ")" * depth) == [
        ("t.a", "=", True)
    ]
    left = "(" * depth + "a = 1" + "".join(f" OR a = {n})" for n in range(depth))
    assert len(conditions("SELECT * FROM t WHERE " + left)) == depth + 1


def test_what_no_person_wrote_has_no_structure_and_does_no_harm() -> None:
    assert (
        structure_of("SELECT * FROM t WHERE " + "(" * 5000 + "a = 1" + ")" * 5000, "sqlite") is None
    )
    assert structure_of("SELECT " + "x, " * 40_000 + "x FROM t", "sqlite") is None
    assert structure_of("SELECT CASE WHEN " * 60 + "1", "sqlite") is None


@pytest.mark.parametrize("word", ["AND", "OR"])
def test_thousands_of_conditions(word: str) -> None:
    text = "SELECT * FROM t WHERE " + f" {word} ".join(f"a = {n}" for n in range(3500))
    assert len(conditions(text)) == 3500


def test_a_bracket_that_never_closes_is_read_once() -> None:
    """Each `[` used to be looked at to the end of the text."""
    text = "SELECT " + "[" * 30_000
    assert [m.group("name") for m in pattern_of("sqlite").finditer(text)] == ["[" * 30_000]


def test_a_condition_on_another_table_is_left_alone() -> None:
    text = "SELECT c.id FROM port_call c JOIN vessel v ON v.id = c.vessel_id WHERE v.status = 'active' AND c.status = ?"
    batch = statements.batched(LookUp(text, "sqlite", "port_call", "status"))
    assert "v.status = 'active'" in batch and "c.status IN (:keys)" in batch
    assert statements.batched(LookUp(text, "sqlite", "berth", "status")) == ""
    assert (
        statements.batched(LookUp("SELECT 1 FROM t WHERE a = ? OR b = 2", "sqlite", "t", "a")) == ""
    ), "not every row meets it"
    assert (
        statements.batched(LookUp("SELECT 1 FROM t WHERE a = ? AND a = 7", "sqlite", "t", "a"))
        == ""
    ), "which of them is the key?"


@pytest.mark.parametrize("system", ["sqlite", "postgresql", "mysql", "mariadb"])
def test_what_was_written_comes_back(system: str) -> None:
    mark = "$1" if system == "postgresql" else "?"
    text = f"SELECT a FROM t WHERE b = {mark} AND c = 'it''s 77' AND d = 0x1F AND e IN (1, 2.50)"
    parsed = parse(text, system)
    assert parsed is not None
    written = parsed.written(parsed.tree)
    for piece in (f"b = {mark}", "c = 'it''s 77'", "d = 0x1F", "2.50"):
        assert piece in written, written
    assert "b = :slot0" in parsed.written(parsed.tree, named=True)
