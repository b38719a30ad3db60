"""MySQL's tree form, in its documented forms: what EXPLAIN FORMAT=TREE and EXPLAIN ANALYZE print."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given, strategies as st

from askless.core import plans
from askless.core.plans import mysql_tree, tree
from askless.core.plans.errors import UnreadablePlan
from askless.core.plans.runtime_observations import observe_measured
from tests.conftest import refused, run

ANALYZED = """\
-> Limit: 5 row(s)  (cost=4.95 rows=5) (actual time=0.91..0.92 rows=5 loops=1)
    -> Sort: c.eta, limit input to 5 row(s) per chunk  (cost=4.95 rows=40) (actual time=0.90..0.91 rows=5 loops=1)
        -> Nested loop left join  (cost=4.95 rows=40) (actual time=0.10..0.80 rows=1200 loops=1)
            -> Filter: (c.status = 'due')  (cost=1.25 rows=40) (actual time=0.08..0.30 rows=1200 loops=1)
                -> Table scan on c  (cost=1.25 rows=30000) (actual time=0.07..0.20 rows=30000 loops=1)
            -> Single-row index lookup on v using PRIMARY (id=c.vessel_id)  (cost=0.26 rows=1) (actual time=0.01..0.01 rows=1 loops=1200)
            -> Select #2 (subquery in projection; dependent)
                -> Aggregate: count(0)  (cost=0.75 rows=1) (actual time=0.02..0.02 rows=1 loops=1200)
                    -> Covering index lookup on t using by_call (port_call_id=c.id)  (cost=0.55 rows=2) (actual time=0.01..0.01 rows=1.5 loops=1200)
"""
STEPS = [
    ("Table scan on vessel", tree.FULL_SCAN), ("Table scan on <temporary>", tree.OTHER_SCAN),
    ("Index scan on vessel using by_name", tree.INDEX_SCAN), ("Covering index scan on vessel using by_name", tree.INDEX_SCAN),
    ("Index lookup on vessel using by_flag (flag='NO')", tree.INDEX_SEARCH),
    ("Index range scan on c using by_eta over ('2026' < eta < '2027'), with index condition: (c.eta > 3)", tree.INDEX_SEARCH),
    ("Covering index range scan on c using by_eta over (eta < 3)", tree.INDEX_ONLY),
    ("Single-row index lookup on v using PRIMARY (id=3)", tree.KEY_SEARCH),
    ("Single-row covering index lookup on v using by_sign (call_sign='x')", tree.INDEX_ONLY),
    ("Constant row from v", tree.KEY_SEARCH), ("Rows fetched before execution", tree.CONSTANT),
    ("Zero rows (Impossible WHERE)", tree.CONSTANT), ("Inner hash join (v.id = c.vessel_id)", tree.HASH_JOIN),
    ("Left hash join (v.id = c.vessel_id)", tree.HASH_JOIN), ("Hash", tree.HASH), ("Nested loop antijoin", tree.NESTED_LOOP),
    ("Sort: v.name", tree.SORT), ("Sort row IDs: v.name", tree.SORT), ("Group aggregate: count(0)", tree.GROUP),
    ("Aggregate using temporary table", tree.GROUP), ("Aggregate: max(c.eta)", tree.AGGREGATE),
    ("Window aggregate: rank() OVER w", tree.WINDOW), ("Remove duplicates from input sorted on by_flag", tree.DISTINCT),
    ("Materialize CTE due", tree.MATERIALIZE), ("Temporary table with deduplication", tree.MATERIALIZE),
    ("Union materialize with deduplication", tree.COMPOUND), ("Append", tree.COMPOUND), ("Stream results", tree.OTHER),
    ("Update vessel (immediate)", tree.WRITE), ("Delete from vessel (buffered)", tree.WRITE),
    ("Select #2 (subquery in condition; run only once)", tree.SUBQUERY),
    ("Select #2 (subquery in condition; dependent)", tree.SUBQUERY_PER_ROW),
]  # fmt: skip


def test_a_measured_tree_is_read_with_its_numbers() -> None:
    system, (limit,) = plans.read_saved(ANALYZED)
    assert system == "mysql" and limit.kind == tree.LIMIT
    nodes = {node.kind: node for node in limit.walk()}
    scan = nodes[tree.FULL_SCAN]
    assert (scan.table, scan.estimate and scan.estimate.rows, scan.actual and scan.actual.rows) == (
        "c",
        30000,
        30000,
    )
    key = nodes[tree.KEY_SEARCH]
    assert (key.table, key.index, key.searched) == ("v", "PRIMARY", ("id",))
    assert (
        key.actual is not None
        and key.actual.loops == 1200
        and key.actual.total_ms == pytest.approx(12.0)
    )
    assert nodes[tree.FILTER].filtered == "(c.status = 'due')" and nodes[tree.NESTED_LOOP].outer
    only = nodes[tree.INDEX_ONLY]
    assert (only.index, only.covering, only.actual and only.actual.rows) == ("by_call", True, 1.5)
    said = {o.slug: o for o in observe_measured((limit,), "mysql")}
    assert "expected 40 rows and got 1,200 rows: 30 times more" in said["estimate-off"].text
    assert said["estimate-off"].node.kind == tree.FILTER and "(1,200 times)" in said["per-row"].text


@pytest.mark.parametrize(
    "over, columns",
    [
        ("(100 < id)", ("id",)),
        ("(status = 'due' AND 3 <= eta <= 99)", ("status", "eta")),
        ("(vessel_id = 3) OR (vessel_id = 4)", ("vessel_id",)),
        ("('Tern 7' <= name <= 'Tern 7 and')", ("name",)),
        ("(NULL < berth_id)", ("berth_id",)),
    ],
)
def test_a_range_names_its_columns_on_either_side(over: str, columns: tuple[str, ...]) -> None:
    (node,) = mysql_tree.read_tree(
        f"-> Index range scan on c using by_it over {over}  (cost=0.35 rows=1)\n"
    )
    assert node.searched == columns


@pytest.mark.parametrize("words, kind", STEPS)
def test_each_step_is_known(words: str, kind: str) -> None:
    for numbers in ("", "  (cost=0.35 rows=1)", "  (cost=1.5e+6..2.5e+6 rows=1e+6) (actual time=0.1..2.5 rows=1.5 loops=3)", " (never executed)"):  # fmt: skip
        (node,) = mysql_tree.read_tree(f"-> {words}{numbers}\n")
        assert node.kind == kind, node
        assert node.never == ("never" in numbers and "Select" not in words)
        if "1e+6" in numbers and kind not in (tree.SUBQUERY, tree.SUBQUERY_PER_ROW):
            assert (
                node.estimate is not None
                and node.estimate.rows == 1e6
                and node.estimate.cost == 2.5e6
            )
            assert node.actual is not None and (
                node.actual.rows,
                node.actual.loops,
                node.actual.total_ms,
            ) == (
                1.5,
                3,
                7.5,
            )


def test_as_clients_frame_it(tmp_path: Path) -> None:
    bare = plans.read_saved(ANALYZED)[1]
    widest = max(map(len, ANALYZED.splitlines()))
    rule = "+" + "-" * (widest + 2) + "+\n"
    boxed = (
        rule
        + "| EXPLAIN"
        + " " * (widest - 6)
        + "|\n"
        + rule
        + "| "
        + ANALYZED.rstrip()
        + "\n |\n"
        + rule
        + "1 row in set (0.00 sec)\n"
    )
    listed = "*************************** 1. row ***************************\nEXPLAIN: " + ANALYZED
    escaped = ANALYZED.replace("\n", "\\n")
    for text in (boxed, listed, escaped):
        assert tree.form(plans.read_saved(text)[1]) == tree.form(bare), text
    file = tmp_path / "plan.txt"
    file.write_text(ANALYZED)
    shown = run("plan", "--file", file).out
    assert "full scan on c" in shown and "30 times more" in shown
    file.write_text("-> Limit: 5 row(s)\nnothing\n")
    assert run("plan", "--file", file).code == 0, "what stands between steps is passed over"


@given(st.text(max_size=200))
def test_any_text_is_read_or_refused(text: str) -> None:
    try:
        nodes = mysql_tree.read_tree("-> " + text)
    except UnreadablePlan as error:
        assert error.line >= 1 and error.reason
    else:
        assert nodes


def test_what_is_no_plan(tmp_path: Path) -> None:
    file = tmp_path / "plan.txt"
    file.write_text("the tide comes in\n")
    refused(run("plan", "--file", file), "line 1", "not a plan in a known format")
