"""Statistics: merging does not depend on order, medians are right, intervals are honest."""

from __future__ import annotations

from statistics import median

import pytest
from hypothesis import given, strategies as st

from askless.core.statistics import EXACT_MOST, Quantiles, ratio_of_medians, ratio_of_turns

numbers = st.lists(st.integers(min_value=0, max_value=10**12), max_size=700)


@given(numbers, numbers, numbers)
def test_merging_is_associative_and_commutative(a: list[int], b: list[int], c: list[int]) -> None:
    one = Quantiles(a)
    one.merge(Quantiles(b))
    one.merge(Quantiles(c))
    right = Quantiles(c)
    right.merge(Quantiles(b))
    other = Quantiles(a)
    other.merge(right)
    for share in (0.0, 0.25, 0.5, 0.9, 1.0):
        assert one.at(share) == other.at(share) == Quantiles(a + b + c).at(share)


@given(numbers.filter(bool))
def test_the_median_is_near_the_true_one(values: list[int]) -> None:
    found, true = Quantiles(values).median, median(values)
    if len(values) <= EXACT_MOST:
        assert found == true
    else:
        low, high = sorted(values)[len(values) // 2 - 1], sorted(values)[len(values) // 2]
        assert low * 0.93 - 1 <= found <= high * 1.07 + 1


def test_a_ratio_tells_a_difference_from_noise() -> None:
    slow, fast = [10.0 + i % 3 for i in range(30)], [2.0 + i % 2 * 0.1 for i in range(30)]
    found = ratio_of_medians(slow, fast)
    assert found.certain and found.low <= found.value <= found.high and 4 < found.value < 6
    assert not ratio_of_medians(slow, list(reversed(slow))).certain
    with pytest.raises(ValueError):
        ratio_of_medians([], fast)


def test_what_slows_neighbours_down_is_one_witness() -> None:
    """A spell of load hits half of the turns: as single repetitions they would be a hundred
    witnesses.
    """
    quiet = [10.0 + i % 7 / 10 for i in range(200)]
    spell = [ms * (1.5 if i < 104 else 1.0) for i, ms in enumerate(quiet)]
    assert ratio_of_medians(spell, quiet).certain and not ratio_of_turns(spell, quiet).certain
    found = ratio_of_turns([ms * 3 for ms in quiet], quiet)
    assert (
        found.certain and found.low == pytest.approx(3) == found.high and found.confidence == 0.99
    )
    assert not ratio_of_turns([ms * 1.015 for ms in quiet], quiet).certain, (
        "two sides are never quite alike"
    )
    assert not ratio_of_turns([9.0], [3.0]).certain, "one timing is no measurement"
    with pytest.raises(ValueError):
        ratio_of_turns([], quiet)
