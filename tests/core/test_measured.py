"""What is said of a plan's own numbers, and what is not."""

from __future__ import annotations

import pytest

from askless.core import plans
from askless.core.plans.observations import observe
from askless.core.plans.runtime_observations import observe_measured
from askless.core.plans.tree import FULL_SCAN, Node
from askless.core.records.schema import Index, Schema, Table, TableColumn
from askless.core.sql.structure_store import structure_of

SCAN = "Seq Scan on port_call c  (cost=0.00..220.00 rows={} width=16) (actual time=0.1..0.9 rows={} loops={})"


def said(text: str) -> dict[str, str]:
    system, plan = plans.read_saved(text)
    return {one.slug: one.text for one in observe_measured(plan, system)}


def loop(kind: str, expected: int, seen: int, condition: str = "") -> str:
    return (
        f"Nested Loop{kind}  (cost=0.00..900.00 rows=9 width=20) (actual time=0.3..90.1 rows=9 loops=1)\n"
        + (f"  Join Filter: ({condition})\n" if condition else "")
        + "  ->  Seq Scan on berth b  (cost=0.00..1.00 rows=2000 width=4) (actual time=0.1..0.9 rows=2000 loops=1)\n"
        + "  ->  " + SCAN.format(expected, seen, 2000)
    )  # fmt: skip


def test_an_estimate_far_off_is_told_with_its_cure() -> None:
    off = "Seq Scan on port_call c  (cost=0.00..9.00 rows=3 width=9) (actual time=0.1..0.9 rows=900 loops=1)\n  Filter: {}"
    assert (
        "first update the statistics (ANALYZE)"
        in said(off.format("(status = 'due'::text)"))["estimate-off"]
    )
    both = said(off.format("((status = 'due'::text) AND (agent = 'Tern'::text))"))["estimate-off"]
    assert "CREATE STATISTICS on the columns" in both
    assert (
        "no statistics of an expression"
        in said(off.format("(lower(status) = 'due'::text)"))["estimate-off"]
    )


@pytest.mark.parametrize(
    ("condition", "cure"),
    [
        ("(c.`status` = 'due')", "UPDATE HISTOGRAM"),
        ("((c.`status` = 'due') and (c.berth_id = 3))", "taken to be independent"),
        ("(lower(c.`status`) = 'due')", "until a functional index is made on it"),
    ],
)
def test_each_server_has_a_cure_of_its_own(condition: str, cure: str) -> None:
    text = (
        f"-> Filter: {condition}  (cost=303 rows=30) (actual time=0.1..2.1 rows=900 loops=1)\n"
        "    -> Table scan on c  (cost=303 rows=3000) (actual time=0.05..1.8 rows=3000 loops=1)"
    )
    off = said(text)["estimate-off"]
    assert cure in off and "CREATE STATISTICS" not in off
    assert "estimate-off" not in said(
        text.replace("rows=30)", "rows=3000)").replace("rows=900", "rows=3")
    )


def test_a_spill_is_what_the_step_itself_wrote_and_its_remedy_is_told_once() -> None:
    hashed = (
        "Hash Join  (cost=1.00..9.00 rows=9 width=9) (actual time=0.1..9.0 rows=9 loops=1)\n"
        "  Buffers: temp read=100 written=330\n"
        "  ->  Seq Scan on vessel v  (cost=0.00..1.00 rows=9 width=9) (actual time=0.1..0.2 rows=9 loops=1)\n"
        "  ->  Hash  (cost=1.00..1.00 rows=9 width=9) (actual time=0.1..0.2 rows=9 loops=1)\n"
        "        Buckets: 4  Batches: 2  Memory Usage: 1311kB\n"
        "        Buffers: temp written=330\n"
        "        ->  Sort  (cost=1.00..1.00 rows=9 width=9) (actual time=0.1..0.2 rows=9 loops=3)\n"
        "              Sort Method: external merge  Disk: 1024kB\n"
        "              Buffers: temp written=202\n"
        "              Worker 0:  Sort Method: external merge  Disk: 512kB\n"
        "              Worker 1:  Sort Method: quicksort  Memory: 25kB\n"
    )
    texts = [
        one.text
        for one in observe_measured(plans.read_saved(hashed)[1], "postgresql")
        if one.slug == "spills"
    ]
    assert [text.partition("; ")[0].partition("wrote ")[2] for text in texts] == [
        "1.0 MiB to disk",
        "1.5 MiB to disk",
    ]
    assert ["more work memory" in text for text in texts] == [True, False]
    grouped = (
        "HashAggregate  (cost=1.00..9.00 rows=9 width=9) (actual time=0.1..9.0 rows=9 loops=1)\n"
        "  Planned Partitions: 32  Batches: 33  Memory Usage: 2065kB  Disk Usage: 30720kB\n"
        "  Buffers: temp read=3021 written=6690\n"
    )
    assert "wrote 30.0 MiB to disk" in said(grouped)["spills"]


@pytest.mark.parametrize(
    ("sql", "node", "columns"),
    [
        ("SELECT * FROM port_call WHERE status = 'due' EXCEPT SELECT * FROM port_call WHERE berth = 3", "port_call", ""),
        ("SELECT * FROM port_call a JOIN port_call b ON a.id = b.next WHERE a.status = 'due' AND b.berth = 3", "a", "status"),
        ("SELECT * FROM port_call a JOIN port_call b ON a.id = b.next WHERE a.status = 'due' AND b.berth = 3", "b", "berth"),
        ("SELECT * FROM port_call c WHERE c.status = 'due' AND c.next > (SELECT AVG(x.next) FROM port_call x WHERE x.berth = 3)", "x", "berth"),
        ("SELECT * FROM port_call c WHERE status = 'due' AND id IN (SELECT next FROM port_call WHERE berth = 3)", "c", "status"),
        ("SELECT * FROM berth LEFT JOIN port_call c ON c.berth = berth.id AND c.status = 'due' AND berth.open = 1", "c", "status"),
        ("SELECT * FROM port_call c LEFT JOIN berth ON c.berth = berth.id AND c.status = 'due'", "c", ""),
    ],
)  # fmt: skip
def test_a_condition_belongs_to_the_reading_of_a_table_not_to_its_name(
    sql: str, node: str, columns: str
) -> None:
    schema = Schema("postgresql", (Table("port_call", (TableColumn("eta", "TEXT"),), rows=5000),))
    scan = Node(FULL_SCAN, "Seq Scan", node, "port_call")
    found = observe((scan,), structure_of(sql, "postgresql"), schema)
    assert [one.text.rpartition("answers ")[2] for one in found] == ([columns] if columns else [])


@pytest.mark.parametrize("kind", [" Semi Join", " Anti Join"])
def test_where_one_match_is_enough_fewer_rows_are_no_error(kind: str) -> None:
    assert "estimate-off" not in said(loop(kind, 3000, 1))
    assert "estimate-off" in said(loop(" Left Join", 3000, 1)) and "estimate-off" in said(
        loop(kind, 1, 3000)
    )


def test_a_hash_join_is_promised_for_equal_columns_only() -> None:
    assert said(loop("", 1, 1, "b.id = c.berth_id"))["inner-loops"].endswith(
        "a hash join would read it once"
    )
    for condition in ("", "b.id <> c.berth_id", "b.depth >= c.draught"):
        assert "hash join" not in said(loop("", 1, 1, condition))["inner-loops"], condition


def test_where_the_planner_had_no_guess_none_is_off() -> None:
    """MariaDB without a histogram takes a condition to keep every row; of a table that it makes
    itself it knows nothing.
    """
    table = (
        '{"query_block": {"table": {"table_name": "c", "access_type": "ALL", "rows": 3000, "r_rows": 3000, "r_loops": 1,'
        ' "filtered": %d, "r_filtered": 2, "attached_condition": "c.status = 3"}}}'
    )
    assert "estimate-off" not in said(table % 100) and "estimate-off" in said(table % 50)
    made = "-> Index lookup on x using {} (id = v.id)  (cost=9 rows=500) (actual time=0.1..0.9 rows=1 loops=40)"
    assert "estimate-off" not in said(made.format("<auto_key0>")) and "estimate-off" in said(
        made.format("by_id")
    )


def test_no_name_of_the_parsers_own_is_shown() -> None:
    schema = Schema("postgresql", (Table("port_call", (TableColumn("eta", "TEXT"),), rows=5000),))
    for sql, condition, shown in (
        (
            "SELECT * FROM port_call WHERE date_trunc('day', eta) = '2026-01-01'",
            "(date_trunc('day', eta) = 1)",
            "a function around eta",
        ),
        (
            "SELECT * FROM port_call WHERE eta::date = '2026-01-01'",
            "((eta)::date = 1)",
            "around eta",
        ),
    ):
        structure = structure_of(sql, "postgresql")
        text = SCAN.format(5, 5, 1) + "\n  Filter: " + condition
        texts = [
            one.text
            for one in observe(plans.read_saved(text)[1], structure, schema)
            if one.slug == "unservable"
        ]
        assert (
            texts
            and shown in texts[0]
            and not [name for name in ("tsordsto", "timestamptrunc") if name in texts[0]]
        ), texts


COUNTED_TWICE = """Aggregate  (cost=354.18..354.19 rows=1 width=8) (actual time=16.207..18.420 rows=1 loops=1)
  CTE x
    ->  Gather  (cost=0.00..157.88 rows=60 width=57) (actual time=1.082..1.689 rows=60 loops=1)
          ->  Parallel Seq Scan on port_call  (cost=0.00..157.88 rows=25 width=57) (actual time=0.319..0.326 rows=20 loops=3)
                Filter: ((status)::text = 'due'::text)
  InitPlan 2 (returns $3)
    ->  Finalize Aggregate  (cost=193.02..193.03 rows=1 width=8) (actual time=12.377..14.196 rows=1 loops=1)
          ->  Gather  (cost=193.00..193.01 rows=2 width=32) (actual time=12.514..14.179 rows=3 loops=1)
                ->  Partial Aggregate  (cost=193.00..193.01 rows=1 width=32) (actual time=6.881..6.884 rows=1 loops=3)
                      ->  Parallel Seq Scan on port_call p  (cost=0.00..148.50 rows=3750 width=12) (actual time=0.005..4.203 rows=3000 loops=3)
  ->  Hash Join  (cost=1.60..3.22 rows=20 width=0) (actual time=16.164..16.200 rows=127 loops=1)
        Hash Cond: (b.berth_id = a.berth_id)
        ->  CTE Scan on x b  (cost=0.00..1.20 rows=60 width=4) (actual time=1.684..1.691 rows=60 loops=1)
        ->  Hash  (cost=1.35..1.35 rows=20 width=4) (actual time=14.455..14.457 rows=36 loops=1)
              ->  CTE Scan on x a  (cost=0.00..1.35 rows=20 width=4) (actual time=14.389..14.433 rows=36 loops=1)
                    Filter: (draught_m > $3)"""
IN_WORKERS = """Aggregate  (cost=9.00..9.01 rows=1 width=8) (actual time=9.00..20.00 rows=1 loops=1)
  InitPlan 1 (returns $0)
    ->  Seq Scan on berth  (cost=0.00..1.00 rows=24 width=4) (actual time=0.1..7.0 rows=1 loops=1)
  ->  Gather  (cost=1.00..2.00 rows=1 width=8) (actual time=12.0..19.5 rows=3 loops=1)
        Params Evaluated: $0
        ->  Parallel Seq Scan on port_call c  (cost=0.00..148.50 rows=3750 width=12) (actual time=0.005..9.0 rows=3000 loops=3)
              Filter: (berth_id > $0)"""


@pytest.mark.parametrize("text", [COUNTED_TWICE, IN_WORKERS])
def test_times_are_counted_once(text: str) -> None:
    """A CTE and a subquery are waited for where they are read first; workers run side by side."""
    (root,) = plans.read_saved(text)[1]
    own = [node.own_ms for node in root.walk() if node.kind not in ("subquery", "materialize")]
    assert sum(ms or 0 for ms in own) == pytest.approx(root.total_ms, rel=0.01)
    (slow,) = [
        node
        for node in root.walk()
        if node.detail == "Parallel Seq Scan" and node.filtered.startswith("(berth")
    ] or [node for node in root.walk() if node.detail.startswith("Partial")]
    assert slow.total_ms == pytest.approx(9.0 if "berth" in slow.filtered else 6.884)


def test_what_mariadb_makes_first_is_part_of_its_reading() -> None:
    inner = '{"query_block": {"table": {"table_name": "c", "access_type": "ALL", "r_rows": 9, "r_loops": 1, "r_total_time_ms": 5}}}'
    text = '{"query_block": {"table": {"table_name": "<derived2>", "access_type": "ALL", "r_rows": 9, "r_loops": 1, "r_total_time_ms": 2, "materialized": %s}}}'
    (made,) = plans.read_saved(text % inner)[1]
    assert made.total_ms == 7 and made.own_ms == 2


def test_times_that_do_not_add_up_are_told() -> None:
    odd = "-> Sort: c.eta  (cost=3 rows=9) (actual time=2..3 rows=9 loops=1)\n    -> Table scan on c  (cost=3 rows=9) (actual time=0.1..80 rows=9 loops=1)"
    assert "not understood" in said(odd)["odd-times"] and "odd-times" not in said(
        odd.replace("..80", "..2")
    )


def observed(sql: str, plan: str, schema: Schema, *values: int) -> list[str]:
    return [
        one.text
        for one in observe(
            plans.read_saved(plan)[1], structure_of(sql, "postgresql"), schema, None, values
        )
    ]


def test_a_page_far_from_the_first_is_told() -> None:
    schema, plan = (
        Schema("postgresql"),
        "Limit  (cost=0.00..1.00 rows=5 width=4)\n  ->  " + SCAN.format(5, 5, 1),
    )
    sql = "SELECT id FROM port_call ORDER BY id LIMIT ? OFFSET ?"
    assert any(
        "OFFSET 9,000 reads that many rows" in text for text in observed(sql, plan, schema, 5, 9000)
    )
    assert not any("OFFSET" in text for text in observed(sql, plan, schema, 5, 20))


def test_a_gap_in_a_composite_index_is_told() -> None:
    columns = tuple(TableColumn(name, "TEXT") for name in ("status", "agent", "eta"))
    indexes = (Index("calls", ("status", "agent", "eta")), Index("pairs", ("status", "eta")))
    schema = Schema("postgresql", (Table("port_call", columns, indexes=indexes, rows=5000),))
    plan = "Index Scan using {} on port_call  (cost=0.00..1.00 rows=5 width=4)\n  Index Cond: (status = 'due'::text)\n  Filter: (eta > 3)"
    sql = "SELECT id FROM port_call WHERE status = 'due' AND eta > 3"
    (gap,) = observed(sql, plan.format("calls"), schema)
    assert gap.endswith("eta is then checked on each row, because agent precedes it in the index")
    (none,) = observed(sql, plan.format("pairs"), schema)
    assert none.endswith("is then checked on each row")


def test_a_distinct_that_hides_what_a_join_multiplied() -> None:
    plan = (
        "HashAggregate  (cost=9.00..9.10 rows=20 width=4) (actual time=9.0..9.1 rows={} loops=1)\n"
        "  ->  Hash Join  (cost=1.00..8.00 rows=4000 width=4) (actual time=0.1..8.0 rows=4000 loops=1)\n"
        "        ->  Seq Scan on port_call c  (cost=0.00..2.00 rows=4000 width=4) (actual time=0.1..2.0 rows=4000 loops=1)\n"
        "        ->  Hash  (cost=0.00..1.00 rows=20 width=4) (actual time=0.1..0.2 rows=20 loops=1)\n"
        "              ->  Seq Scan on berth b  (cost=0.00..1.00 rows=20 width=4) (actual time=0.1..0.2 rows=20 loops=1)"
    )
    sql = "SELECT DISTINCT b.id FROM berth b JOIN port_call c ON c.berth_id = b.id"
    schema = Schema("postgresql")
    assert any(
        "4,000 rows, of which DISTINCT keeps 20" in text
        for text in observed(sql, plan.format(20), schema)
    )
    assert not any("DISTINCT keeps" in text for text in observed(sql, plan.format(3000), schema))
    assert not any(
        "DISTINCT keeps" in text
        for text in observed(sql.replace("DISTINCT ", ""), plan.format(20), schema)
    )
