"""What is said of a plan's own numbers, and what is not."""

from __future__ import annotations

import pytest

from askless.core import plans
from askless.core.model import Schema, Table, TableColumn
from askless.core.plans.measured import observe_measured
from askless.core.plans.observations import observe
from askless.core.sql.structure import structure_of

SCAN = "Seq Scan on port_call c  (cost=0.00..220.00 rows={} width=16) (actual time=0.1..0.9 rows={} loops={})"


def said(text: str) -> dict[str, str]:
    return {one.slug: one.text for one in observe_measured(plans.read_saved(text)[1])}


def loop(kind: str, expected: int, seen: int, condition: str = "") -> str:
    return (
        f"Nested Loop{kind}  (cost=0.00..900.00 rows=9 width=20) (actual time=0.3..90.1 rows=9 loops=1)\n"
        + (f"  Join Filter: ({condition})\n" if condition else "")
        + "  ->  Seq Scan on berth b  (cost=0.00..1.00 rows=2000 width=4) (actual time=0.1..0.9 rows=2000 loops=1)\n"
        + "  ->  " + SCAN.format(expected, seen, 2000)
    )  # fmt: skip


def test_an_estimate_far_off_is_told_with_its_cure() -> None:
    off = "Seq Scan on port_call c  (cost=0.00..9.00 rows=3 width=9) (actual time=0.1..0.9 rows=900 loops=1)\n  Filter: {}"
    assert "fresh statistics (ANALYZE)" in said(off.format("(status = 'due'::text)"))["estimate-off"]
    both = said(off.format("((status = 'due'::text) AND (agent = 'Tern'::text))"))["estimate-off"]
    assert "CREATE STATISTICS on the columns" in both
    assert "of an expression there are none" in said(off.format("(lower(status) = 'due'::text)"))["estimate-off"]


@pytest.mark.parametrize("kind", [" Semi Join", " Anti Join"])
def test_where_one_match_is_enough_fewer_rows_are_no_error(kind: str) -> None:
    assert "estimate-off" not in said(loop(kind, 3000, 1))
    assert "estimate-off" in said(loop(" Left Join", 3000, 1)) and "estimate-off" in said(loop(kind, 1, 3000))


def test_a_hash_join_is_promised_for_equal_columns_only() -> None:
    assert said(loop("", 1, 1, "b.id = c.berth_id"))["inner-loops"].endswith("a hash join would read it once")
    for condition in ("", "b.id <> c.berth_id", "b.depth >= c.draught"):
        assert "hash join" not in said(loop("", 1, 1, condition))["inner-loops"], condition


def test_where_the_planner_had_no_guess_none_is_off() -> None:
    """MariaDB without a histogram takes a condition to keep every row; of a table that it makes itself it knows nothing."""
    table = (
        '{"query_block": {"table": {"table_name": "c", "access_type": "ALL", "rows": 3000, "r_rows": 3000, "r_loops": 1,'
        ' "filtered": %d, "r_filtered": 2, "attached_condition": "c.status = 3"}}}'
    )
    assert "estimate-off" not in said(table % 100) and "estimate-off" in said(table % 50)
    made = "-> Index lookup on x using {} (id = v.id)  (cost=9 rows=500) (actual time=0.1..0.9 rows=1 loops=40)"
    assert "estimate-off" not in said(made.format("<auto_key0>")) and "estimate-off" in said(made.format("by_id"))


def test_no_name_of_the_parsers_own_is_shown() -> None:
    schema = Schema("postgresql", (Table("port_call", (TableColumn("eta", "TEXT"),), rows=5000),))
    for sql, condition, shown in (
        (
            "SELECT * FROM port_call WHERE date_trunc('day', eta) = '2026-01-01'",
            "(date_trunc('day', eta) = 1)",
            "a function around eta",
        ),
        ("SELECT * FROM port_call WHERE eta::date = '2026-01-01'", "((eta)::date = 1)", "around eta"),
    ):
        structure = structure_of(sql, "postgresql")
        text = SCAN.format(5, 5, 1) + "\n  Filter: " + condition
        texts = [one.text for one in observe(plans.read_saved(text)[1], structure, schema) if one.slug == "unservable"]
        assert (
            texts and shown in texts[0] and not [name for name in ("tsordsto", "timestamptrunc") if name in texts[0]]
        ), texts
