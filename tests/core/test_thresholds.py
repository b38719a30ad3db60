"""Numbers and conditions that nothing else would notice if they were others: each where it makes a
difference.
"""

from __future__ import annotations

import json
from decimal import Decimal

import msgspec
import pytest

from askless.core.advice.rewriting import statements
from askless.core.advice.rewriting.statements import LookUp
from askless.core.aggregation.route_rows import RouteRow
from askless.core.aggregation.shape_stats import ShapeStats, UseTotals
from askless.core.aggregation.summary import RouteStats
from askless.core.comparison.captures import (
    RouteComparison,
    compare_findings,
    controls_of,
    drift_of,
)
from askless.core.findings.finding import Cost, Finding
from askless.core.indexing import cost
from askless.core.indexing.advisor import advise
from askless.core.indexing.needs import needs_of
from askless.core.inference.lineage import Source, is_convincing
from askless.core.patterns.discarded_rows import _split
from askless.core.plans import mysql, tree
from askless.core.records.model import Statement, Used
from askless.core.records.schema import Index, Schema
from askless.core.sql.guarantees import ResultGuarantees
from askless.core.sql.shape import shape_of
from askless.core.sql.structure import Column, Output
from askless.core.sql.structure_store import structure_of
from askless.core.statistics import Ratio, ratio_of_medians
from askless.core.systems import Traits
from askless.core.trials.result_comparison import difference
from askless.core.verdicts import Outcome, Verdict
from tests.core.test_indexing import asked, columns, schema

SOURCE = Source(1, "rank", "tariff", 9, 1, 5, 5, named=False, close=False, in_order=True, first=0)


@pytest.mark.parametrize(
    "matched, named, close, in_order, convincing",
    [
        (5, False, False, True, True), (4, False, False, True, False), (5, False, False, False, False),
        (2, True, True, False, True), (1, True, True, True, False), (3, True, False, True, True),
        (2, True, False, True, False), (9, True, False, False, False),
    ],
)  # fmt: skip
def test_what_makes_a_source_convincing(
    matched: int, named: bool, close: bool, in_order: bool, convincing: bool
) -> None:
    source = msgspec.structs.replace(
        SOURCE, matched=matched, named=named, close=close, in_order=in_order
    )
    assert is_convincing(source) is convincing


def test_the_last_digits_of_a_float_are_no_other_order() -> None:
    before, after = [(0.1 + 0.2, "a"), (0.7, "b")], [(0.3, "a"), (0.7, "b")]
    assert difference(before, after, ResultGuarantees(order=(0,))) is None
    assert difference(before, [after[1], after[0]], ResultGuarantees(order=(0,))) is not None
    assert difference([(0.3001, "a")], [(0.3, "a")]) is not None


def test_a_float_beside_an_exact_number_counts_to_the_digits_that_it_holds() -> None:
    exact = Decimal("1234567890123.25")
    assert difference([(exact,)], [(1234567890123.75,)]) is not None
    assert difference([(exact,)], [(1234567890123.25,)]) is None
    assert difference([(Decimal("1.3333333333333333"),)], [(4 / 3,)]) is None
    assert difference([(sum([0.1] * 10),)], [(1.0,)]) is None, "a sum of floats, in another order"


def test_an_interval_is_one_of_95_percent() -> None:
    before, after = [10.0 + i % 7 for i in range(40)], [8.0 + i % 5 for i in range(40)]
    usual = ratio_of_medians(before, after)
    assert usual == ratio_of_medians(before, after, confidence=0.95) and usual.confidence == 0.95
    narrow, wide = (ratio_of_medians(before, after, confidence=share) for share in (0.5, 0.999))
    assert narrow.high - narrow.low < usual.high - usual.low < wide.high - wide.low


def test_what_a_request_still_asks_takes_time_still() -> None:
    route = RouteStats("GET /calls", "http")
    route.durations.extend([50_000_000] * 3)
    route.queries.extend([20] * 3)
    for sql, median_ns in (("SELECT 1", 4_000_000), ("SELECT a FROM b", 1_500_000)):
        stats = ShapeStats(shape_of(sql), Statement(1, (sql,), shape_of(sql)))
        stats.durations.extend([median_ns])
        route.shapes[stats.shape.digest] = stats
    assert route.most_saved_ms(2, 0.0) == 50 - 2 * 1.5
    assert route.most_saved_ms(2, 1.0) == 50 + 20 - 2 * 2.5
    assert route.most_saved_ms(40, 0.0) == 0


@pytest.mark.parametrize(
    "access, loops, never", [("ref", 0, True), ("ref", 1, False), ("const", 0, False), ("ALL", 0, True), ("ref", None, False)]
)  # fmt: skip
def test_a_step_of_mysql_that_was_never_run(access: str, loops: int | None, never: bool) -> None:
    table = {
        "table_name": "vessel",
        "access_type": access,
        "rows": 1,
        "r_rows": 0,
        "r_total_time_ms": 0,
    }
    if loops is not None:
        table["r_loops"] = loops
    (node,) = mysql.read_json(
        json.dumps({"query_block": {"select_id": 1, "nested_loop": [{"table": table}]}})
    )
    assert [step.never for step in tree.walk((node,)) if step.table == "vessel"] == [never]


def test_what_later_indexes_have_made_superfluous_goes() -> None:
    workload = [
        asked("SELECT * FROM port_call WHERE status = 'due' AND agent = ? ORDER BY eta", 5),
        asked("SELECT count(*) FROM port_call WHERE status = 'due'", 50),
        asked(
            "SELECT id, eta FROM port_call WHERE agent = ? AND vessel_id = ? AND eta > ? ORDER BY eta",
            5,
            0.05,
        ),
    ]
    found = columns(advise(workload, schema()))
    assert ("status", "agent") in found and ("status",) not in found


def kept(sql: str, of: Schema | None = None) -> float:
    structure = structure_of(sql, "postgresql")
    assert structure is not None
    needs = needs_of(structure, of or schema(), lambda table, predicates: None)
    return next(need.share_kept for need in needs if need.table.name == "port_call")


@pytest.mark.parametrize(
    "condition, share",
    [
        ("agent LIKE ?", 0.1), ("lower(agent) = ?", 0.1), ("eta > ?", 0.3), ("eta BETWEEN ? AND ?", 0.1), ("agent IS NULL", 0.05),
        ("agent IS NOT NULL", 1.0), ("vessel_id = ?", 1 / 4000), ("vessel_id IN (?, ?, ?)", 3 / 4000),
        ("id = ?", 1 / 60_000), ("agent LIKE ? AND eta > ?", 0.03),
    ],
)  # fmt: skip
def test_what_a_condition_keeps_where_nobody_measured(condition: str, share: float) -> None:
    assert kept(f"SELECT * FROM port_call WHERE {condition}") == pytest.approx(share)


def scanned_in_order(index: Index, correlation: float, entries: float = 1.0) -> float:
    """The cost of reading many rows in the order of an index whose first column lies so on disk."""
    made = schema()
    (call, vessel) = made.tables
    laid = tuple(
        msgspec.structs.replace(c, correlation=correlation) if c.name == "eta" else c
        for c in call.columns
    )
    made = Schema("postgresql", (msgspec.structs.replace(call, columns=laid), vessel))
    structure = structure_of("SELECT * FROM port_call WHERE eta > ? ORDER BY eta", "postgresql")
    assert structure is not None
    (need,) = needs_of(structure, made, lambda table, predicates: 0.2)
    paths = cost.search(need, index, frozenset(), Traits(4.0, True, False), made, True)
    return max(path.cost for path in paths if path.ordered)


def test_rows_that_lie_in_the_order_of_an_index_cost_less() -> None:
    one, two = Index("a", ("eta",)), Index("b", ("eta", "agent"))
    assert scanned_in_order(one, 1.0) < scanned_in_order(one, 0.9) < scanned_in_order(one, 0.0)
    assert scanned_in_order(one, -1.0) == scanned_in_order(one, 1.0)
    # what the wider entry costs by itself
    spread = scanned_in_order(two, 0.0) - scanned_in_order(one, 0.0)
    more = scanned_in_order(two, 1.0) - scanned_in_order(one, 1.0) - spread
    whole = scanned_in_order(one, 0.0) - scanned_in_order(one, 1.0)
    assert more == pytest.approx(whole * (1 - 0.75**2), rel=0.05), (
        "a second column mixes the order up"
    )


@pytest.mark.parametrize("drop, expected", [(False, ""), (True, "vessel.id IN (:keys)")])
def test_a_batch_keeps_no_limit(drop: bool, expected: str) -> None:
    text = "SELECT vessel.id, vessel.name FROM vessel WHERE vessel.id = ? LIMIT 21"
    batch = statements.batched(LookUp(text, "sqlite", "vessel", "id"), drop)
    assert expected in batch and bool(batch) == drop and "LIMIT" not in batch
    assert "IN (:keys)" in statements.batched(
        LookUp(text.replace(" LIMIT 21", ""), "sqlite", "vessel", "id")
    )
    named = statements.batched(
        LookUp("SELECT vessel.name FROM vessel WHERE vessel.id = ?", "sqlite", "vessel", "id")
    )
    assert named.split("FROM")[0].split() == ["SELECT", "vessel.name,", "vessel.id"], (
        "the key that stitches comes along"
    )


def test_a_join_keeps_parents_without_children() -> None:
    text = "SELECT id FROM port_call WHERE status = 'due'"
    outputs = [Output(Column("vessel", name), name) for name in ("id", "name")]
    jobs = [Output(Column("tug_job", "id"), "id")]
    joined = statements.joined(
        text, "sqlite", ("port_call", "vessel_id"), "vessel", "id", outputs, to_many=False
    )
    assert "LEFT JOIN vessel" in joined and "vessel.id = port_call.vessel_id" in " ".join(
        joined.split()
    )
    limited = text + " LIMIT 5"
    assert statements.joined(
        limited, "sqlite", ("port_call", "vessel_id"), "vessel", "id", outputs, to_many=False
    )
    assert (
        statements.joined(
            limited, "sqlite", ("port_call", "id"), "tug_job", "port_call_id", jobs, to_many=True
        )
        == ""
    )


def test_a_finding_on_a_route_that_the_other_side_never_asked_is_neither_gone_nor_new() -> None:
    def finding(key: str, route: str) -> Finding:
        return Finding(
            key,
            "duplicate",
            "",
            "minor",
            route,
            "",
            "traced",
            (),
            Cost(),
            1,
            "",
            "",
            (),
            (),
            (),
            (),
        )

    before, after = (
        [finding("a", "/a"), finding("b", "/b")],
        [finding("b", "/b"), finding("c", "/c"), finding("d", "/b")],
    )
    changes = compare_findings(before, after, {"/a", "/b"}, {"/b", "/c"})
    assert [[f.key for f in some] for some in (changes.fixed, changes.new, changes.remaining)] == [
        [],
        ["d"],
        ["b"],
    ]


def measured(name: str, before: float, after: float, rows_after: int = 1) -> RouteComparison:
    one, two = (
        RouteRow(name, "http", 5, 0, *[1.0] * 8, rows, 1.0, 0.0, 0.0, 0) for rows in (1, rows_after)
    )
    ratio = Ratio(before / after, 0.0, 9.0, 0.95)
    same = rows_after == 1
    return RouteComparison(
        name, one, two, None, None, ratio, same, verdict=Verdict(Outcome.UNDECIDED, "")
    )


def drift(rows: list[RouteComparison]) -> float | None:
    return drift_of(controls_of(rows))


def test_what_became_slower_by_itself_is_drift_too() -> None:
    assert drift([measured("/a", 10, 12), measured("/b", 10, 14)]) == pytest.approx(1.4), (
        "slower by as much counts as much"
    )
    assert drift([measured("/a", 14, 10), measured("/b", 10, 12)]) == pytest.approx(1.4)
    changed = [measured("/a", 90, 10, rows_after=2), measured("/b", 10, 12)]
    assert drift(changed) == pytest.approx(1.2), "another work is no control"
    assert drift([]) is None


def test_a_control_far_from_the_others_has_changed() -> None:
    """As by an index: the same statements, in a twelfth of the time."""
    rows = [measured("/a", 10, 10.4), measured("/b", 69, 5.6), measured("/c", 10, 11)]
    assert set(controls_of(rows)) == {"/a", "/c"} and drift(rows) == pytest.approx(1.1)
    assert set(controls_of(rows[:2])) == {"/a"}
    assert set(controls_of(rows[1:2])) == {"/b"}, "nothing to hold it against"
    noisy = [measured(str(n), 10, time) for n, time in enumerate((11, 14, 8, 17, 13))]
    assert len(controls_of(noisy)) == 5, "all of them vary"


@pytest.mark.parametrize(
    "columns, tested, kept",
    [
        ({"t.a": 95, "t.b": 12}, ["t.a"], 12), ({"t.a": 95, "t.b": 50}, ["t.a"], None), ({"t.a": 89, "t.b": 12}, [], None),
        ({"t.a": 100}, ["t.a"], None), ({"t.a": 90, "t.b": 90, "t.c": 1}, ["t.a", "t.b"], 1),
    ],
)  # fmt: skip
def test_which_columns_only_decided_what_is_thrown_away(
    columns: dict[str, int], tested: list[str], kept: int | None
) -> None:
    totals = UseTotals()
    totals.add(Used("Vessel", 100, 100, columns, {}))
    assert _split(totals, 0.2) == (tested, kept)
