"""PostgreSQL's plans: text and JSON of one plan give one tree, and what a real plan shows is said
in words.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings, strategies as st

from askless.core import plans
from askless.core.plans import postgresql, tree
from askless.core.plans.errors import UnreadablePlan
from askless.core.plans.runtime_observations import observe_measured
from askless.core.plans.tree import Node
from tests import servers
from tests.conftest import run

OFFICE = """
CREATE TABLE vessel (id int PRIMARY KEY, name text, flag text);
CREATE TABLE berth (id int PRIMARY KEY, name text);
CREATE TABLE port_call (id int PRIMARY KEY, vessel_id int, berth_id int, status text, eta timestamp);
CREATE TABLE tug_job (id int PRIMARY KEY, port_call_id int);
CREATE INDEX calls_of_vessel ON port_call (vessel_id); CREATE INDEX calls_of_berth ON port_call (berth_id);
CREATE INDEX jobs_of_call ON tug_job (port_call_id);
CREATE TABLE watch (id int, log text) PARTITION BY RANGE (id);
CREATE TABLE watch_early PARTITION OF watch FOR VALUES FROM (0) TO (10);
CREATE TABLE watch_late PARTITION OF watch FOR VALUES FROM (10) TO (20);
CREATE TABLE manifest (id int, goods text);
INSERT INTO vessel SELECT i, 'Tern ' || i, CASE WHEN i % 3 = 0 THEN 'NO' ELSE 'DK' END FROM generate_series(1, 800) i;
INSERT INTO berth SELECT i, 'Quay' FROM generate_series(1, 24) i;
INSERT INTO port_call SELECT i, i % 800 + 1, i % 24 + 1, CASE WHEN i % 10 = 0 THEN 'due' ELSE 'left' END, now() FROM generate_series(1, 5000) i;
INSERT INTO tug_job SELECT i, i % 5000 + 1 FROM generate_series(1, 8000) i;
INSERT INTO watch SELECT i, 'calm' FROM generate_series(0, 19) i;
INSERT INTO manifest SELECT i, md5(i::text) || md5(i::text) FROM generate_series(1, 5000) i;
ANALYZE; SET work_mem = '64kB'; SET statement_timeout = '300s'; SET min_parallel_table_scan_size = 0
"""
STATEMENTS = [
    "SELECT * FROM vessel WHERE id = 3",
    "SELECT * FROM vessel WHERE name = 'x' ORDER BY flag LIMIT 5",
    "SELECT name FROM vessel ORDER BY id DESC LIMIT 3",
    "SELECT v.name, count(*) FROM vessel v LEFT JOIN port_call c ON c.vessel_id = v.id GROUP BY v.name ORDER BY 2 DESC",
    "SELECT * FROM port_call c JOIN vessel v ON v.id = c.vessel_id WHERE c.status = 'due' AND v.flag = 'NO'",
    "SELECT *, (SELECT count(*) FROM tug_job t WHERE t.port_call_id = c.id) FROM port_call c LIMIT 10",
    "SELECT * FROM port_call WHERE vessel_id NOT IN (SELECT id FROM vessel WHERE flag = 'NO')",
    "SELECT * FROM port_call WHERE vessel_id = (SELECT max(id) FROM vessel)",
    "WITH due AS MATERIALIZED (SELECT * FROM port_call WHERE status = 'due') SELECT * FROM due d JOIN due e USING (vessel_id)",
    "WITH RECURSIVE n AS (SELECT 1 AS x UNION ALL SELECT x + 1 FROM n WHERE x < 10) SELECT * FROM n",
    "SELECT flag, rank() OVER (PARTITION BY flag ORDER BY name) FROM vessel",
    "SELECT * FROM generate_series(1, 10) g",
    "SELECT * FROM port_call WHERE berth_id IN (3, 5) OR vessel_id = 4",
    "UPDATE vessel SET flag = 'SE' WHERE id < 3",
    "INSERT INTO berth SELECT id + 1000, name FROM berth",
    "SELECT * FROM vessel FOR UPDATE",
    "SELECT id FROM vessel UNION SELECT id FROM berth",
    "SELECT * FROM vessel v, LATERAL (SELECT * FROM port_call c WHERE c.vessel_id = v.id ORDER BY eta LIMIT 1) l",
    "SELECT * FROM watch WHERE id = 3",
    "SELECT * FROM watch",
    "SELECT (SELECT 1), EXISTS (SELECT 1 FROM vessel WHERE id = 9999)",
    "SELECT v.* FROM vessel v WHERE EXISTS (SELECT 1 FROM port_call c WHERE c.vessel_id = v.id)",
    "SELECT * FROM vessel v FULL JOIN berth b ON b.id = v.id",
    "SELECT goods, count(*) FROM manifest GROUP BY goods ORDER BY goods",
    "SELECT sum(id) FROM manifest",
    "VALUES (1, 2), (3, 4)",
]
OPTIONS = [
    "",
    "ANALYZE, BUFFERS",
    "COSTS OFF",
    "ANALYZE, VERBOSE, TIMING OFF",
    "ANALYZE, COSTS OFF, TIMING OFF, SUMMARY OFF",
]
WAYS = ["SET jit = off", "SET jit = on; SET jit_above_cost = 0; SET parallel_setup_cost = 0; SET parallel_tuple_cost = 0",
        "SET enable_hashjoin = off; SET enable_mergejoin = off", "SET enable_seqscan = off"]  # fmt: skip
Explain = Callable[..., Any]


@pytest.fixture(scope="module")
def explain(postgresql: servers.Server) -> Iterator[Explain]:
    """EXPLAIN on a real server: `explain(statement, options, form)`."""
    with closing(postgresql.connect("postgres")) as admin:
        admin.execute("CREATE DATABASE plans")
    with closing(postgresql.connect("plans")) as db:
        for statement in OFFICE.split(";"):
            db.execute(statement)

        def explained(statement: str, options: str = "", form: str = "TEXT", way: str = "") -> str:
            for setting in filter(None, way.split(";")):
                db.execute(setting)
            with db.transaction(force_rollback=True):
                chosen = ", ".join(part for part in (options, f"FORMAT {form}") if part)
                rows = db.execute(f"EXPLAIN ({chosen}) {statement}").fetchall()
            return json.dumps(rows[0][0]) if form == "JSON" else "\n".join(row[0] for row in rows)

        yield explained


def form(node: Node) -> Any:
    """What a node is, without its numbers."""
    return (
        node.kind,
        node.detail,
        node.name,
        node.table,
        node.index,
        node.searched,
        node.outer,
        [form(child) for child in node.children],
    )


@pytest.mark.parametrize("way", WAYS)
def test_text_and_json_of_a_plan_are_one_tree(way: str, explain: Explain) -> None:
    kinds = set()
    for statement in STATEMENTS:
        for options in OPTIONS:
            text, saved = (
                explain(statement, options, "TEXT", way),
                explain(statement, options, "JSON"),
            )
            (system, (one,)), (_, (other,)) = plans.read_saved(text), plans.read_saved(saved)
            assert system == "postgresql" and form(one) == form(other), text
            if "ANALYZE" not in options:
                assert [node.estimate for node in one.walk()] == [
                    node.estimate for node in other.walk()
                ], text
            else:
                assert [node.actual is None for node in one.walk()] == [
                    node.actual is None for node in other.walk()
                ]
            kinds |= {node.kind for node in one.walk()}
    assert tree.OTHER not in kinds and len(kinds) >= 15, kinds


def test_numbers_are_read(explain: Explain) -> None:
    text = explain("SELECT *, (SELECT count(*) FROM tug_job t WHERE t.port_call_id = c.id) FROM port_call c WHERE status = 'due'", "ANALYZE, BUFFERS", way="RESET ALL; SET max_parallel_workers_per_gather = 0")  # fmt: skip
    (scan,) = postgresql.read_text(text)
    assert scan.kind == tree.FULL_SCAN and scan.filtered == "(status = 'due'::text)"
    assert scan.actual is not None and scan.estimate is not None
    assert (scan.actual.rows, scan.actual.loops, scan.actual.removed) == (500, 1, 4500)
    assert (
        scan.actual.blocks_hit > 0 and 250 < scan.estimate.rows < 1000 and scan.estimate.width_bytes
    )
    (subquery,) = scan.children
    assert (
        subquery.kind == tree.SUBQUERY_PER_ROW
        and subquery.actual is not None
        and subquery.actual.loops == 500
    )
    assert (
        scan.own_ms is not None
        and scan.actual.total_ms is not None
        and scan.own_ms <= scan.actual.total_ms
    )
    found = {
        observation.slug: observation.text
        for observation in observe_measured((scan,), "postgresql")
    }
    assert "runs again for every row of the query around it (500 times)" in found["per-row"]
    assert found["reads-many"].startswith(
        "reads 5,000 rows to keep 500 rows: (status = 'due'::text)"
    )


def test_what_spills_and_what_was_estimated_wrongly(explain: Explain) -> None:
    way = "RESET ALL; SET work_mem = '64kB'; SET max_parallel_workers_per_gather = 0"
    (sort,) = postgresql.read_text(
        explain("SELECT * FROM manifest ORDER BY goods", "ANALYZE", way=way)
    )
    (spill,) = [o for o in observe_measured((sort,), "postgresql") if o.slug == "spills"]
    assert (
        spill.node is sort
        and "to disk" in spill.text
        and sort.actual is not None
        and sort.actual.spilled_bytes > 400_000
    )
    wrong = explain("SELECT * FROM port_call WHERE lower(status) = 'due' ORDER BY eta", "ANALYZE")
    (top,) = postgresql.read_text(wrong)
    (off,) = [o for o in observe_measured((top,), "postgresql") if o.slug == "estimate-off"]
    assert off.node.kind == tree.FULL_SCAN, "the node where it began, not those above it"
    assert "expected 25 rows and got 500 rows: 20 times more" in off.text
    (cut,) = postgresql.read_text(explain("SELECT * FROM vessel LIMIT 3", "ANALYZE"))
    assert observe_measured((cut,), "postgresql") == [], (
        "a LIMIT stops its scan; that is no wrong estimate"
    )


PASTED = """
                                QUERY PLAN
--------------------------------------------------------------------------
 Limit  (cost=0.28..0.36 rows=1 width=18) (actual time=0.025..0.028 rows=1 loops=1)
   ->  Index Scan using vessel_pkey on harbour.vessel v  (cost=0.28..8.30 rows=1 width=18) (never executed)
         Index Cond: (v.id = 3)
 Planning Time: 0.750 ms
 Execution Time: 0.070 ms
(5 rows)
"""


@pytest.mark.parametrize(
    "text", [PASTED, "\n".join(f"| {line:80} |" for line in PASTED.strip("\n").splitlines()[2:-1])]
)
def test_a_plan_as_people_paste_it(text: str, tmp_path: Path) -> None:
    file = tmp_path / "plan.txt"
    file.write_text(text)
    ran = run("plan", "--file", file)
    assert (
        ran.code == 0
        and "index search on vessel as v by vessel_pkey" in ran.out
        and "never run" in ran.out
    ), ran.err
    (row,) = run("plan", "--file", file, "--json").json["statements"]
    (limit,) = row["plan"]
    assert limit["actual_rows"] == 1 and limit["children"][0]["loops"] == 0
    assert limit["children"][0]["condition"] == "(v.id = 3)"


@pytest.mark.parametrize(
    "text, says",
    [
        ("", "line 1: it is not a plan"),
        ("hello\nworld", "line 1: it is not a plan"),
        ('{"Plan": [}', "line 1: it is not valid JSON"),
        ('[{"Plan": 3}]', "the JSON contains no Plan"),
        ("Seq Scan on x  (cost=0.00..1.00 rows=1 width=4)\n  ->  (what)", "line 2: this is not a"),
    ],
)
def test_a_plan_that_cant_be_read_says_where_and_why(text: str, says: str, tmp_path: Path) -> None:
    file = tmp_path / "plan.txt"
    file.write_text(text)
    ran = run("plan", "--file", file)
    assert ran.code == 2 and says in ran.err and "Traceback" not in ran.err
    assert run("plan", "--file", tmp_path / "none.txt").code == 2
    assert "--file can't be combined" in run("plan", "--file", file, "--db", "sqlite:///x.db").err
    assert "with --db" in run("plan", "--sql", "SELECT 1").err


lines = st.one_of(
    st.text(max_size=40),
    st.sampled_from([
        "Seq Scan on x  (cost=0.00..1.00 rows=1 width=4)", "  ->  Hash Join  (cost=1.00..2.00 rows=3 width=8)", "        Filter: (a > 1)",
        "  SubPlan 1", "  InitPlan 1 (returns $0)", "Planning Time: 0.1 ms", "      ->  Sort", "(1 row)", "  CTE due", "    Sort Method: external merge  Disk: 9kB",
    ]),
)  # fmt: skip


@settings(max_examples=300)
@given(st.lists(lines, max_size=12))
def test_any_text_gives_a_tree_or_says_why_not(text: list[str]) -> None:
    try:
        found = postgresql.read_text("\n".join(text))
    except UnreadablePlan as error:
        assert error.reason and 1 <= error.line <= max(len("\n".join(text).splitlines()), 1)
    else:
        assert found


WRAPPED = [
    # A web page's invisible breaks and spaces, a server log's head, psql's frame around JSON.
    "                QUERY PLAN\n-------------\u200b--------\n Seq Scan on\u00a0berth  (cost=0.00..1.24 rows=24 width=12)\n   Filter: (id > 3)\n(2 rows)\n",
    "LOG:  duration: 3.651 ms  plan:\n  Query Text: SELECT *\n              FROM berth WHERE id > 3;\n  Seq Scan on berth  (cost=0.00..1.24 rows=24 width=12)\n    Filter: (id > 3)\n",
    """ QUERY PLAN
------------------------------
 [                            +
   {                          +
     "Plan": {                +
       "Node Type": "Seq Scan",+
       "Relation Name": "berth",+
       "Alias": "berth", +
       "Total Cost": 1.24, "Plan Rows": 24, "Plan Width": 12,+
       "Filter": "(id > 3)"+
     }                        +
   }                          +
 ]
(1 row)
""",
]


@pytest.mark.parametrize("text", WRAPPED)
def test_what_is_wrapped_around_a_plan_is_taken_off(text: str) -> None:
    system, (node,) = plans.read_saved(text)
    assert system == "postgresql" and (node.kind, node.table, node.filtered) == (
        tree.FULL_SCAN,
        "berth",
        "(id > 3)",
    )
    assert node.estimate is not None and node.estimate.rows == 24


@pytest.mark.parametrize(
    "text, form_",
    [('- Plan: \n    Node Type: "Seq Scan"', "YAML"), ("\n<explain xmlns='x'>", "XML")],
)
def test_other_forms_are_named(text: str, form_: str) -> None:
    with pytest.raises(UnreadablePlan) as caught:
        plans.read_saved(text)
    assert form_ in caught.value.reason and caught.value.line == (1 if form_ == "YAML" else 2)
