"""Plans of SQLite: every line that the server writes is read, and what it shows is said in words."""

from __future__ import annotations

import itertools
import sqlite3
from collections.abc import Iterator

import pytest
from hypothesis import given, strategies as st

from askless.core.indexing.advisor import advise
from askless.core.indexing.workload import IndexAdvice, Statement
from askless.core.plans import tree
from askless.core.plans.observations import observe
from askless.core.plans.sqlite import node_of, read
from askless.core.records.schema import Index, Schema, Table, TableColumn
from askless.core.sql.structure_store import structure_of


@pytest.fixture(scope="module")
def db() -> Iterator[sqlite3.Connection]:
    """A harbour of 3,000 calls; vessels are many, berths few."""
    connection = sqlite3.connect(":memory:")
    connection.executescript(
        """
        CREATE TABLE vessel (id INTEGER PRIMARY KEY, name TEXT, flag TEXT, call_sign TEXT);
        CREATE TABLE berth (id INTEGER PRIMARY KEY, name TEXT);
        CREATE TABLE port_call (id INTEGER PRIMARY KEY, vessel_id INT, berth_id INT, status TEXT, eta TEXT, draught REAL);
        CREATE TABLE tug_job (port_call_id INT, tug_id INT, minutes INT, PRIMARY KEY (port_call_id, tug_id)) WITHOUT ROWID;
        CREATE INDEX port_call_berth ON port_call (berth_id);
        CREATE INDEX port_call_status_eta ON port_call (status, eta);
        """
    )
    connection.executemany(
        "INSERT INTO vessel VALUES (?, ?, ?, ?)",
        [(i, f"V{i}", "NO" if i % 3 else "DK", f"H{i}") for i in range(2000)],
    )
    connection.executemany("INSERT INTO berth VALUES (?, ?)", [(i, f"Quay {i}") for i in range(20)])
    connection.executemany(
        "INSERT INTO port_call VALUES (?, ?, ?, ?, ?, ?)",
        [
            (i, i % 2000, i % 20, "due" if i < 40 else "left", f"2026-{i % 12 + 1:02}", i / 7)
            for i in range(3000)
        ],
    )
    connection.executemany(
        "INSERT INTO tug_job VALUES (?, ?, ?)", [(i, i % 9, 30) for i in range(3000)]
    )
    yield connection
    connection.close()


SCHEMA = Schema(
    "sqlite",
    (
        Table(
            "vessel",
            tuple(TableColumn(n, "TEXT") for n in ("id", "name", "flag", "call_sign")),
            ("id",),
            rows=2000,
        ),
        Table("berth", tuple(TableColumn(n, "TEXT") for n in ("id", "name")), ("id",), rows=20),
        Table(
            "port_call",
            tuple(
                TableColumn(n, "TEXT")
                for n in ("id", "vessel_id", "berth_id", "status", "eta", "draught")
            ),
            ("id",),
            indexes=(
                Index("port_call_berth", ("berth_id",)),
                Index("port_call_status_eta", ("status", "eta")),
            ),
            rows=3000,
        ),
        Table(
            "tug_job",
            tuple(TableColumn(n, "INT") for n in ("port_call_id", "tug_id", "minutes")),
            ("port_call_id", "tug_id"),
            rows=3000,
        ),
    ),
)


def plan_of(db: sqlite3.Connection, sql: str) -> tuple[tree.Node, ...]:
    structure = structure_of(sql, "sqlite")
    rows = db.execute("EXPLAIN QUERY PLAN " + sql, (1,) * sql.count("?")).fetchall()
    return read(rows, dict(structure.names) if structure is not None else {})


KINDS = [
    ("SELECT * FROM vessel", [tree.FULL_SCAN]),
    ("SELECT * FROM vessel WHERE id = 3", [tree.KEY_SEARCH]),
    ("SELECT * FROM vessel WHERE id > 3", [tree.KEY_SEARCH]),
    ("SELECT * FROM port_call WHERE berth_id = 3", [tree.INDEX_SEARCH]),
    ("SELECT status FROM port_call WHERE status = 'due'", [tree.INDEX_ONLY]),
    ("SELECT status, eta FROM port_call ORDER BY status", [tree.INDEX_SCAN]),
    ("SELECT * FROM tug_job WHERE port_call_id = 4", [tree.KEY_SEARCH]),
    ("SELECT * FROM vessel ORDER BY name", [tree.FULL_SCAN, tree.SORT]),
    ("SELECT flag, count(*) FROM vessel GROUP BY flag", [tree.FULL_SCAN, tree.GROUP]),
    ("SELECT DISTINCT flag FROM vessel", [tree.FULL_SCAN, tree.DISTINCT]),
    (
        "SELECT * FROM port_call c JOIN vessel v ON v.id = c.vessel_id",
        [tree.FULL_SCAN, tree.KEY_SEARCH],
    ),
    ("SELECT * FROM vessel v JOIN port_call c ON c.vessel_id = v.id WHERE v.flag = 'DK'", None),
    (
        "SELECT name, (SELECT count(*) FROM port_call c WHERE c.vessel_id = v.id) FROM vessel v",
        None,
    ),
]


@pytest.mark.parametrize("sql, kinds", KINDS)
def test_nodes_have_the_kind_that_the_server_means(
    sql: str, kinds: list[str] | None, db: sqlite3.Connection
) -> None:
    found = [node.kind for node in tree.walk(plan_of(db, sql))]
    if kinds is not None:
        assert found == kinds
    assert tree.OTHER not in found


MANY = [
    "SELECT * FROM vessel WHERE id IN (SELECT vessel_id FROM port_call)",
    "SELECT * FROM vessel WHERE EXISTS (SELECT 1 FROM port_call c WHERE c.vessel_id = vessel.id)",
    "SELECT * FROM vessel UNION SELECT id, name, name, name FROM berth ORDER BY 2",
    "SELECT * FROM vessel UNION ALL SELECT id, name, name, name FROM berth",
    "SELECT * FROM vessel EXCEPT SELECT id, name, name, name FROM berth",
    "WITH due AS MATERIALIZED (SELECT * FROM port_call WHERE status = 'due') SELECT * FROM due d1 JOIN due d2 ON d1.id = d2.vessel_id",
    "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 9) SELECT * FROM n",
    "SELECT * FROM (SELECT flag, count(*) AS c FROM vessel GROUP BY flag) ORDER BY c",
    "SELECT * FROM port_call WHERE berth_id = 1 OR status = 'due'",
    "SELECT * FROM berth b LEFT JOIN port_call c ON c.berth_id = b.id ORDER BY b.name, c.eta",
    "SELECT status, eta, count(DISTINCT vessel_id) FROM port_call GROUP BY status, eta ORDER BY status, eta DESC",
    "SELECT * FROM port_call WHERE status = 'due' ORDER BY eta, id",
    "SELECT max(eta) OVER (PARTITION BY status ORDER BY eta) FROM port_call",
    "SELECT * FROM json_each('[1, 2]')",
    "SELECT 1",
    "VALUES (1), (2)",
    "UPDATE port_call SET eta = '' WHERE vessel_id = 4",
    "DELETE FROM port_call WHERE berth_id = 4",
    "INSERT INTO berth SELECT id, name FROM vessel WHERE flag = 'DK'",
]


@pytest.mark.parametrize("sql", MANY + [sql for sql, _ in KINDS])
def test_no_line_of_a_real_plan_is_lost(sql: str, db: sqlite3.Connection) -> None:
    rows = db.execute("EXPLAIN QUERY PLAN " + sql).fetchall()
    nodes = list(tree.walk(plan_of(db, sql)))
    assert sorted(node.detail for node in nodes) == sorted(row[3] for row in rows)
    for node in nodes:
        if node.kind in tree.READS and not node.table.startswith(("(", "n", "due", "json_each")):
            assert (
                node.name == "d2"
                or SCHEMA.table(node.table) is not None
                or "SUBQUERY" in node.detail.upper()
            ), node


@given(st.text(max_size=80))
def test_any_words_make_a_node(detail: str) -> None:
    assert node_of(detail, {}).detail == detail


def said(db: sqlite3.Connection, sql: str, rows: int | None = None) -> dict[str, str]:
    return {
        o.slug: o.text for o in observe(plan_of(db, sql), structure_of(sql, "sqlite"), SCHEMA, rows)
    }


def test_observations_in_words(db: sqlite3.Connection) -> None:
    assert (
        said(db, "SELECT * FROM vessel WHERE call_sign = 'H7'", 1)["reads-all"]
        == "reads all 2,000 rows of vessel to keep 1: no index answers call_sign"
    )
    assert "sorts its rows" in said(db, "SELECT * FROM vessel ORDER BY name")["sorts"]
    per_row = said(
        db, "SELECT name, (SELECT count(*) FROM port_call c WHERE c.vessel_id = v.id) FROM vessel v"
    )
    assert "again for every row" in per_row["per-row"]
    assert (
        "draught is then checked on each row"
        in said(db, "SELECT * FROM port_call WHERE berth_id = 3 AND draught > 9")["part"]
    )
    assert (
        "lower() around name"
        in said(db, "SELECT * FROM vessel WHERE lower(name) = 'v7'")["unservable"]
    )
    joined = said(db, "SELECT * FROM berth b CROSS JOIN vessel v WHERE v.name = b.name")
    assert "builds-index" in joined or "reads-all" in joined


def test_conditions_of_subqueries_and_branches_are_those_of_their_reads(
    db: sqlite3.Connection,
) -> None:
    for sql in (
        "SELECT id FROM berth WHERE id IN (SELECT berth_id FROM port_call WHERE draught > 9)",
        "SELECT id FROM port_call WHERE draught > 9 UNION ALL SELECT id FROM berth WHERE id = 3",
    ):
        assert "no index answers draught" in said(db, sql)["reads-all"], sql
    assert "reads-all" not in said(db, "SELECT id FROM port_call WHERE draught > 9 OR 1 = 1")
    both = said(db, "SELECT * FROM vessel WHERE call_sign = 'H7' OR name = 'V8'")
    assert both["reads-all"] == "reads all 2,000 rows of vessel: no index answers call_sign or name"


def test_an_index_that_is_read_whole(db: sqlite3.Connection) -> None:
    whole = said(db, "SELECT count(*) FROM port_call WHERE eta = '2026-03'")["reads-all"]
    assert (
        whole == "reads all 3,000 entries of the index port_call_status_eta: none starts with eta"
    )
    assert said(db, "SELECT count(*) FROM port_call") == {}


def test_nothing_is_said_of_what_is_fine(db: sqlite3.Connection) -> None:
    for sql in (
        "SELECT * FROM vessel WHERE id = 4",
        "SELECT * FROM berth WHERE name = 'x'",
        "SELECT * FROM port_call WHERE status = 'due' ORDER BY eta",
        "SELECT * FROM vessel",
        "SELECT * FROM berth WHERE lower(name) = 'x'",
        "SELECT * FROM berth ORDER BY name",
        "SELECT id, (SELECT count(*) FROM port_call c WHERE c.berth_id = b.id) FROM berth b WHERE b.id = 7",
    ):
        assert said(db, sql) == {}, sql


def advised(db: sqlite3.Connection, sql: str, share: float | None = None) -> list[IndexAdvice]:
    structure = structure_of(sql, "sqlite")
    assert structure is not None
    return advise([Statement("one", structure, shares=lambda table, predicates: share)], SCHEMA)


ADVICE = [
    ("SELECT * FROM vessel WHERE call_sign = ?", ("call_sign",)),
    ("SELECT * FROM port_call WHERE vessel_id = ? ORDER BY eta DESC LIMIT 5", ("vessel_id", "eta")),
    ("SELECT * FROM port_call WHERE vessel_id = ? AND draught > ?", ("vessel_id", "draught")),
    ("SELECT * FROM port_call WHERE draught BETWEEN ? AND ?", ("draught",)),
    ("SELECT * FROM vessel WHERE flag = ? AND call_sign = ?", ("flag", "call_sign")),
    ("SELECT * FROM port_call WHERE vessel_id IN (?, ?, ?)", ("vessel_id",)),
    ("SELECT * FROM berth b JOIN vessel v ON v.name = b.name", ("name",)),
]


@pytest.mark.parametrize("sql, columns", ADVICE)
def test_equality_comes_first_then_one_range_or_the_order(
    sql: str, columns: tuple[str, ...], db: sqlite3.Connection
) -> None:
    assert [advice.columns for advice in advised(db, sql)] == [columns]


NOT_ADVISED = [
    "SELECT * FROM berth WHERE name = ?",  # small
    "SELECT * FROM vessel WHERE id = ?",  # served by the key
    "SELECT * FROM port_call WHERE berth_id = ?",  # served by an index
    "SELECT * FROM port_call WHERE status = ? AND eta > ?",  # served by two columns
    "SELECT * FROM vessel",  # nothing to find by
    "SELECT * FROM vessel WHERE lower(name) = ?",  # a plain index can't serve it
    "SELECT * FROM vessel WHERE name LIKE ?",
    "SELECT * FROM vessel WHERE flag = ? OR lower(name) = ?",  # not required of every row
    "SELECT count(*) FROM vessel",
]


@pytest.mark.parametrize("sql", NOT_ADVISED)
def test_no_index_where_none_helps(sql: str, db: sqlite3.Connection) -> None:
    assert advised(db, sql) == []


def test_weak_selectivity_is_no_work_for_an_index(db: sqlite3.Connection) -> None:
    assert advised(db, "SELECT * FROM vessel WHERE flag = ?", share=0.66) == []
    assert advised(db, "SELECT * FROM vessel WHERE flag = ?", share=0.01) != []


def test_an_index_that_becomes_redundant_is_named(db: sqlite3.Connection) -> None:
    wide = Schema("sqlite", tuple(
        Table(t.name, t.columns, t.primary_key, indexes=(Index("by_vessel", ("vessel_id",)),), rows=t.rows) if t.name == "port_call" else t
        for t in SCHEMA.tables
    ))  # fmt: skip
    sql = "SELECT * FROM port_call WHERE vessel_id = ? ORDER BY eta LIMIT 5"
    structure = structure_of(sql, "sqlite")
    assert structure is not None
    (advice,) = advise([Statement("one", structure)], wide)
    assert advice.columns == ("vessel_id", "eta") and advice.redundant == ("by_vessel",)


def test_names_that_need_quotes_get_them(db: sqlite3.Connection) -> None:
    db.execute('CREATE TABLE IF NOT EXISTS "order" ("from" TEXT, "a b" TEXT)')
    schema = Schema(
        "sqlite",
        (Table("order", (TableColumn("from", "TEXT"), TableColumn("a b", "TEXT")), rows=5000),),
    )
    sql = 'SELECT * FROM "order" WHERE "from" = ? AND "a b" = ?'
    structure = structure_of(sql, "sqlite")
    assert structure is not None
    (advice,) = advise([Statement("one", structure)], schema)
    db.execute(advice.ddl)
    db.execute(f'DROP INDEX "{advice.name}"')


@pytest.mark.parametrize("sql, columns", [case for case in ADVICE if "JOIN" not in case[0]])
def test_the_advised_index_is_as_good_as_any_of_up_to_two_columns(
    sql: str, columns: tuple[str, ...], db: sqlite3.Connection
) -> None:
    """Brute force: work is counted in steps of SQLite's own machine, not in time."""
    values = {"call_sign": "H77", "vessel_id": 77, "draught": 400.0, "flag": "DK"}
    structure = structure_of(sql, "sqlite")
    assert structure is not None
    slots = [p.column.name for p in structure.predicates for _ in p.slots]
    arguments = [values.get(name, 5) for name in slots]

    def steps() -> int:
        counted = 0

        def count() -> int:
            nonlocal counted
            counted += 1
            return 0

        db.set_progress_handler(count, 1)
        db.execute(sql, arguments).fetchall()
        db.set_progress_handler(None, 1)
        return counted

    table = SCHEMA.table(structure.main)
    assert table is not None
    names = [column.name for column in table.columns if column.name != "id"]
    results = {}
    for candidate in [*itertools.permutations(names, 1), *itertools.permutations(names, 2)]:
        db.execute(f"CREATE INDEX tried ON {structure.main} ({', '.join(candidate)})")
        results[candidate] = steps()
        db.execute("DROP INDEX tried")
    assert results[columns] <= 1.3 * min(results.values()), (
        results[columns],
        min(results.values()),
    )
