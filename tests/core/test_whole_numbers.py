"""Digits that `int` refuses, wherever a text may hold a number."""

from __future__ import annotations

import pytest
from hypothesis import given, strategies as st

from askless.core.sql.parsing import parse
from askless.core.sql.slots import slot_number, slots_of, values_of
from askless.core.whole_numbers import whole_number

LONG = "9" * 5000


@given(st.text(alphabet="0123456789²٣-+ _", max_size=30))
def test_what_it_gives_is_what_is_written(text: str) -> None:
    number = whole_number(text)
    if number is not None:
        assert text.isascii() and text.isdigit() and int(text) == number
    else:
        assert not (text.isascii() and text.isdigit()) or len(text) > 18


@pytest.mark.parametrize("digits", [LONG, "²", "٣", "0", "1", "3"])
def test_a_placeholders_number_may_be_any(digits: str) -> None:
    slots = slots_of(f"SELECT id FROM vessel WHERE id = ${digits}", "postgresql")
    expected = [42] if digits == "1" else [None]
    assert values_of(slots, (42,)) in (expected, []), "²: no placeholder at all"


@pytest.mark.parametrize("text", [f"~slot{LONG}~", f"slot{LONG}", "slot²", "slot", LONG, "²"])
def test_no_mark_of_ours(text: str) -> None:
    assert slot_number(text) is None


def test_a_statement_with_such_numbers_is_read() -> None:
    text = f"SELECT id FROM vessel WHERE id = {LONG} AND name = '~slot{LONG}~' LIMIT 5"
    parsed = parse(text, "postgresql")
    assert parsed is None or LONG in parsed.written(parsed.tree)
