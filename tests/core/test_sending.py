"""Captured statements in the form that drivers take: every style of placeholders, every kind of
value.
"""

from __future__ import annotations

import json
import sqlite3
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from typing import Any
from uuid import UUID

import pytest
from hypothesis import given, strategies as st

from askless.core.errors import AskLessError
from askless.core.sql.slots import Value
from askless.database.driver_query import bound, native

STYLES = [
    ("SELECT ?, ?, 'a ? 100 %'", "sqlite", ()), ("SELECT %s, %s, 'a ? 100 %%'", "mysql", ()),
    ("SELECT $1, $2, 'a ? 100 %'", "postgresql", ()), ("SELECT $2, $1, 'a ? 100 %'", "postgresql", ()),
    ("SELECT %(b)s, %(a)s, 'a ? 100 %%'", "postgresql", ("b", "a")), ("SELECT :a, :b, 'a ? 100 %'", "sqlite", ("a", "b")),
    ("SELECT ?2, ?1, 'a ? 100 %'", "sqlite", ()),
]  # fmt: skip


@pytest.mark.parametrize("text, system, names", STYLES)
@given(
    first=st.integers(-(2**60), 2**60) | st.text(max_size=9),
    second=st.none() | st.floats(allow_nan=False),
)
def test_every_style_reaches_the_driver(
    text: str, system: str, names: tuple[str, ...], first: Value, second: Value
) -> None:
    """What comes back from SQLite is what went in, in the order of the text; literals stay as they
    are.
    """
    query = bound(text, system, (first, second), names, "qmark", "sqlite")
    db = sqlite3.connect(":memory:")
    try:
        row = db.execute(query.sql, query.arguments).fetchone()
    finally:
        db.close()
    swapped = "$2, $1" in text or "?2, ?1" in text
    assert row == ((second, first) if swapped else (first, second)) + ("a ? 100 %",)
    formatted = bound(text, system, (first, second), names, "format", "postgresql")
    assert formatted.sql == "SELECT %s, %s, 'a ? 100 %%'" and formatted.arguments == query.arguments


KINDS: list[tuple[tuple[str, str], Any]] = [
    (("datetime", "2026-11-23 12:00:00+00:00"), datetime.fromisoformat("2026-11-23 12:00:00+00:00")),
    (("date", "2026-11-23"), date(2026, 11, 23)), (("time", "12:30:01"), time(12, 30, 1)),
    (("Decimal", "12.50"), Decimal("12.50")), (("UUID", str(UUID(int=7))), UUID(int=7)), (("bytes", "00ff"), b"\x00\xff"),
    (("timedelta", str(timedelta(1, 5, 250))), timedelta(1, 5, 250)), (("timedelta", str(timedelta(-1, 5))), timedelta(-1, 5)),
    (("float", "inf"), float("inf")), (("list", "[1, \"a\", null]"), [1, "a", None]),
]  # fmt: skip


@pytest.mark.parametrize("value, expected", KINDS)
def test_every_kind_of_value_is_what_it_was(value: tuple[str, str], expected: Any) -> None:
    assert native(value, "postgresql") == expected


@given(st.timedeltas(min_value=timedelta(-999), max_value=timedelta(999)))
def test_spans_of_time(span: timedelta) -> None:
    assert native(("timedelta", str(span)), "postgresql") == span


@given(st.lists(st.integers() | st.text(max_size=5) | st.none(), min_size=1, max_size=5))
def test_a_list_for_in_stands_for_its_values(values: list[Any]) -> None:
    given_ = ("tuple", json.dumps(values))
    query = bound(
        "SELECT 1 WHERE 1 IN %s AND 2 IN (%s)", "mysql", (given_, given_), (), "format", "mariadb"
    )
    marks = ", ".join(["%s"] * len(values))
    assert query.sql == f"SELECT 1 WHERE 1 IN ({marks}) AND 2 IN ({marks})" and query.arguments == (
        *values,
        *values,
    )
    array = bound(
        "SELECT 1 = ANY(%s)",
        "postgresql",
        (("list", json.dumps(values)),),
        (),
        "format",
        "postgresql",
    )
    assert array.arguments == (values,)


def test_what_a_capture_could_not_keep() -> None:
    for value, slug in (
        (("cut str", "x"), "value-cut"), (("Jsonb", "<Jsonb>"), "value-unknown"), (("Decimal", "high"), "value-unknown"),
    ):  # fmt: skip
        with pytest.raises(AskLessError) as caught:
            bound("SELECT ?", "sqlite", (value,), (), "qmark", "postgresql")
        assert caught.value.slug == slug and "--parameters" in caught.value.remedy
    with pytest.raises(AskLessError, match="2 placeholders without a value"):
        bound("SELECT ?, ?, ?", "sqlite", (1,), (), "qmark")
