"""Two results are called equal when an application would see the same, and never otherwise."""

from __future__ import annotations

import random
from datetime import UTC, date, datetime, timedelta, timezone
from decimal import Decimal
from typing import Any
from uuid import UUID

import pytest
from hypothesis import given, strategies as st

from askless.core.sql.guarantees import ResultGuarantees, question_of
from askless.core.sql.sum_tolerance import magnitudes
from askless.core.trials.result_comparison import Difference, difference, is_rounding

Row = tuple[Any, ...]
NOON = datetime(2026, 11, 23, 12, 0)
VALUES = (
    st.none() | st.booleans() | st.integers(-(10**12), 10**12) | st.text(max_size=5) | st.binary(max_size=4)
    | st.floats(allow_nan=False, allow_infinity=False, width=32) | st.decimals(allow_nan=False, allow_infinity=False, places=2)
    | st.datetimes() | st.dates() | st.uuids()
)  # fmt: skip
ROWS = st.lists(st.tuples(VALUES, VALUES), max_size=12)


@given(ROWS, st.randoms(use_true_random=False))
def test_the_order_does_not_matter_unless_it_was_promised(
    rows: list[Row], dice: random.Random
) -> None:
    moved = rows.copy()
    dice.shuffle(moved)
    assert difference(rows, moved) is None
    assert difference(rows, rows, ResultGuarantees(order=(0, 1))) is None


@given(ROWS, st.tuples(VALUES, VALUES))
def test_a_row_more_or_less_is_seen(rows: list[Row], row: Row) -> None:
    lost, gained = difference([*rows, row], rows), difference(rows, [*rows, row])
    assert lost is not None and lost.text.startswith("1 row lost (")
    assert gained is not None and gained.text.startswith("1 row gained (")


SAME = [
    (1, 1.0),
    (1, Decimal("1.00")),
    (Decimal("1.50"), Decimal("1.5")),
    (0.1, Decimal("0.1")),
    (0.1 + 0.2, 0.3),
    (-0.0, 0),
    (float("nan"), float("nan")),
    (NOON.replace(tzinfo=UTC), NOON.astimezone(timezone(timedelta(hours=2))).replace(hour=14, tzinfo=timezone(timedelta(hours=2)))),
    (b"tern", memoryview(b"tern")),
    ({"a": 1, "b": [1, 2]}, {"b": [1.0, 2], "a": 1}),
    ([1, None], (1, None)),
    (UUID(int=7), UUID(int=7)),
]  # fmt: skip
OTHER = [
    (None, 0, "is NULL on one side and 0 on the other"),
    (None, "", "is NULL on one side"),
    (0, False, ""),
    (1, "1", "is a text on one side and a number on the other"),
    (NOON, NOON.replace(tzinfo=UTC), "with a time zone on one side only"),
    (NOON, NOON + timedelta(hours=1), "is one of them in another time zone?"),
    (date(2026, 11, 23), NOON, ""),
    (Decimal("10.50"), Decimal("10.5049"), "after the decimal point"),
    (10.5, 10.51, "after the decimal point"),
    (0.1, 0.2, "different values in the same rows"),
    ("Tern", "tern", "different values in the same rows"),
    (b"tern", "tern", ""),
    ([1, 2], [2, 1], ""),
    (Decimal("12345678901234.56"), Decimal("12345678901234.57"), "after the decimal point"),
    (10**15, 10**15 + 1, ""),
    (float("nan"), None, "is NULL on one side"),
]


@pytest.mark.parametrize("one, other", SAME)
def test_equal_values_in_other_clothes_are_equal(one: Any, other: Any) -> None:
    rows, others = [(7, one), (8, "x")], [(8, "x"), (7, other)]
    assert difference(rows, others) is None and difference(others, rows) is None


@pytest.mark.parametrize("one, other, cause", OTHER)
def test_values_that_an_application_tells_apart_are_different(
    one: Any, other: Any, cause: str
) -> None:
    for found in (difference([(7, one)], [(7, other)]), difference([(7, other)], [(7, one)])):
        assert found is not None and found.text == "1 row lost, 1 row gained (1 before, 1 after)"
        assert cause in found.cause and found.lost and found.gained


CALLS = [(1, "Tern"), (2, "Skua"), (3, None)]


def caused(
    before: list[Row], after: list[Row], question: ResultGuarantees | None = None
) -> Difference:
    found = difference(before, after, question)
    assert found is not None
    return found


def test_the_usual_causes_are_named() -> None:
    inner = ResultGuarantees(inner_join_added=True)
    assert (
        caused(CALLS, CALLS[:2], inner).cause
        == "an inner join drops parents without children: make it a LEFT JOIN"
    )
    assert "a to-many join repeats its parent" in caused(CALLS, [*CALLS, CALLS[0], CALLS[0]]).cause
    assert "DISTINCT" in caused([*CALLS, CALLS[0]], CALLS).cause
    assert "column lists" in caused(CALLS, [(1, "Tern", 3)]).cause
    assert (
        "tie"
        in caused(
            CALLS, [(1, "Tern"), (2, "Skua"), (4, "Gull")], ResultGuarantees(limited=True)
        ).cause
    )
    assert caused(CALLS, CALLS[:1]).lost == ("(2, 'Skua')", "(3, NULL)")


def test_rows_that_tie_may_come_in_any_order() -> None:
    rows, tied = [(1, "a"), (1, "b"), (2, "c")], [(1, "b"), (1, "a"), (2, "c")]
    assert difference(rows, tied, ResultGuarantees(order=(0,))) is None
    moved = caused(rows, [rows[2], rows[0], rows[1]], ResultGuarantees(order=(0,)))
    assert (
        moved.text == "the same rows in another order, from row 1 on" and "ORDER BY" in moved.cause
    )
    assert "may be a tie" in caused(rows, tied, ResultGuarantees(order=())).text
    assert difference(rows, tied) is None


ORDERS = [
    ("SELECT id, name FROM vessel", None), ("SELECT id, name FROM vessel ORDER BY name, id", (1, 0)),
    ("SELECT id, name FROM vessel ORDER BY 2 DESC, 1", (1, 0)), ("SELECT id, name FROM vessel ORDER BY lower(name)", ()),
    ("SELECT id, lower(name) AS name FROM vessel ORDER BY lower(name)", (1,)), ("SELECT v.id, v.name FROM vessel v ORDER BY v.id", (0,)),
    ("SELECT * FROM vessel ORDER BY name", (1,)), ("SELECT id, name FROM vessel ORDER BY flag", ()), ("not SQL (", None),
]  # fmt: skip


@pytest.mark.parametrize("sql, order", ORDERS)
def test_the_order_that_a_statement_promises(sql: str, order: tuple[int, ...] | None) -> None:
    assert question_of(sql, sql, "postgresql", ["id", "name"]).order == order


def test_what_a_rewriting_changes_is_known() -> None:
    before = "SELECT b.id FROM berth b LEFT JOIN port_call c ON c.berth_id = b.id"
    found = question_of(
        before,
        before.replace("LEFT ", "").replace("SELECT", "SELECT DISTINCT") + " LIMIT 3",
        "sqlite",
        ["id"],
    )
    assert found.inner_join_added and found.limited


@given(st.lists(st.floats(-1e12, 1e12), min_size=2, max_size=60), st.randoms())
def test_two_orders_of_adding_are_rounding(numbers: list[float], chance: random.Random) -> None:
    shuffled = chance.sample(numbers, len(numbers))
    size = sum(map(abs, numbers))
    assert is_rounding([(sum(numbers), "a")], [(sum(shuffled), "a")], [(size, "a")])
    moved = sum(numbers) + 1e-6 * size
    assert moved == sum(numbers) or not is_rounding([(sum(numbers),)], [(moved,)], [(size,)])
    assert not is_rounding([(1, "a")], [(2, "a")], [(1e30, "a")]), "no float"
    assert not is_rounding([(1.5,)], [], [(1.5,)])


def test_absolute_values_are_added_up_for_the_size() -> None:
    assert (
        magnitudes("SELECT flag, sum(draught) FROM vessel GROUP BY flag", "sqlite")
        == "SELECT flag, SUM(ABS(draught)) FROM vessel GROUP BY flag"
    )
    assert (
        magnitudes("SELECT avg(a - ?) / 2 FROM vessel WHERE b = %s", "mysql")
        == "SELECT AVG(ABS(a - ?)) / 2 FROM vessel WHERE b = %s"
    )
    assert (
        magnitudes("SELECT count(*) FROM vessel", "sqlite")
        == magnitudes("SELECT sum(DISTINCT a) FROM b", "sqlite")
        == ""
    )
