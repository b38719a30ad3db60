"""Small statistics: quantiles that merge, medians, and a confidence interval for a ratio of
medians.
"""

from __future__ import annotations

import math
from array import array
from bisect import bisect_right
from collections.abc import Iterable, Sequence
from itertools import pairwise

import msgspec

_SORT_LEAST = 256
SAME_WITHIN = 1.02  # a ratio that near to 1 is not a difference, however often it was measured
BLOCKS_MOST = 10
# Quantiles of Student's t for two-sided intervals of 99 %, by degrees of freedom (Student, The
# Probable Error of a Mean, 1908).
_STUDENT = {
    1: 63.66,
    2: 9.925,
    3: 5.841,
    4: 4.604,
    5: 4.032,
    6: 3.707,
    7: 3.499,
    8: 3.355,
    9: 3.250,
}
EXACT_MOST = 256  # values kept as they are; beyond that they are counted in buckets


def median(values: Sequence[float]) -> float:
    """The median. Raises ValueError if there are not values. (The standard library's module costs 3
    MB to import.)
    """
    if not values:
        raise ValueError("no values")
    ordered = sorted(values)
    middle = len(ordered) // 2
    return float(
        ordered[middle] if len(ordered) % 2 else (ordered[middle - 1] + ordered[middle]) / 2
    )


def _bucket(value: int) -> int:
    """8 buckets an octave: a value is derived from its bucket to within 6.3 %."""
    if value < 16:
        return max(value, 0)
    bits = value.bit_length()
    return (bits << 3) | ((value >> (bits - 4)) & 7)


def _last_of(bucket: int) -> int:
    """The largest value of a bucket."""
    if bucket < 16:
        return bucket
    shift = (bucket >> 3) - 4
    return ((9 + (bucket & 7)) << shift) - 1


def _middle(bucket: int) -> float:
    if bucket < 16:
        return float(bucket)
    bits = bucket >> 3
    return ((8 + (bucket & 7)) + 0.5) * 2.0 ** (bits - 4)


_NO_BUCKETS: dict[int, int] = {}


class Quantiles:
    """Quantiles of whole numbers in bounded memory.

    Exact up to 256 values, then to within 6.3 %. Merging is associative and commutative: the state
    depends only on the values that went in.
    """

    __slots__ = ("_buckets", "_exact", "_median", "count")

    def __init__(self, values: Iterable[int] = ()) -> None:
        self.count = 0
        self._median: tuple[int, float] = (0, 0.0)  # of so many values: values only ever come
        self._exact = array("q")
        self._buckets: dict[int, int] = _NO_BUCKETS  # shared until there are any
        self.extend(values)

    def extend(self, values: Iterable[int]) -> None:
        """Add values."""
        before = len(self._exact)
        self._exact.extend(values)
        self.count += len(self._exact) - before
        if self.count > EXACT_MOST and len(self._exact) >= _SORT_LEAST:
            self._spill()

    def _spill(self) -> None:
        """Count the kept values in buckets: sorted first, so that a bucket is found once for its
        whole run.
        """
        buckets = self._buckets = self._buckets or {}
        values = sorted(self._exact)
        start, end = 0, len(values)
        while start < end:
            key = _bucket(values[start])
            stop = bisect_right(values, _last_of(key), start)
            buckets[key] = buckets.get(key, 0) + stop - start
            start = stop
        del self._exact[:]

    def merge(self, other: Quantiles) -> None:
        """Add what another has counted."""
        if other.count > EXACT_MOST and other._exact:
            other._spill()
        if other._buckets:
            self._buckets = self._buckets or {}
        for key, count in other._buckets.items():
            self._buckets[key] = self._buckets.get(key, 0) + count
        self.count += other.count - len(other._exact)
        self.extend(other._exact)
        if self._buckets and self._exact:
            self._spill()

    def at(self, share: float) -> float:
        """The value below which `share` (0 to 1) of the values lie; 0 if there are none."""
        if self.count > EXACT_MOST and self._exact:
            self._spill()
        if self._exact or not self.count:
            ordered = sorted(self._exact)
            if not ordered:
                return 0.0
            if share == 0.5:
                return float(median(ordered))
            return float(ordered[min(int(share * len(ordered)), len(ordered) - 1)])
        wanted = share * self.count
        seen = 0
        for key in sorted(self._buckets):
            seen += self._buckets[key]
            if seen >= wanted:
                return _middle(key)
        return _middle(max(self._buckets))

    @property
    def median(self) -> float:
        """The median."""
        if self._median[0] != self.count:
            self._median = self.count, self.at(0.5)
        return self._median[1]

    def spread_out(self, most: int = 400) -> list[float]:
        """At most so many values that stand for all of them, evenly by rank."""
        n = min(self.count, most)
        return [self.at((i + 0.5) / n) for i in range(n)] if n else []

    def ratio_to(self, after: Quantiles) -> Ratio:
        """Median of this over the median of `after`, with an interval. Raises ValueError if a side
        is empty.
        """
        return ratio_of_medians(self.spread_out(), after.spread_out())


class Ratio(msgspec.Struct, frozen=True):
    """A ratio of medians (before / after) with a confidence interval."""

    value: float
    low: float
    high: float
    confidence: float = 0.95

    @property
    def certain(self) -> bool:
        """Whether the interval leaves no doubt which of the two is faster.

        Two statements that do the same differ by a little on any machine, always to the same side.
        """
        return self.low > SAME_WITHIN or self.high < 1 / SAME_WITHIN


def ratio_of_medians(
    before: Sequence[float],
    after: Sequence[float],
    rounds: int = 2000,
    confidence: float = 0.95,
    seed: int = 1,
) -> Ratio:
    """median(before) / median(after), with a percentile bootstrap interval (Efron and Tibshirani
    1993, chapter 13).

    Raises ValueError if a side is empty.
    """
    if not before or not after:
        raise ValueError("both sides need at least one measurement")
    import random

    dice = random.Random(seed)
    smallest = 1e-9
    ratios = sorted(
        median(dice.choices(before, k=len(before)))
        / max(median(dice.choices(after, k=len(after))), smallest)
        for _ in range(rounds)
    )
    edge = (1 - confidence) / 2
    return Ratio(
        median(before) / max(median(after), smallest),
        ratios[int(edge * rounds)],
        ratios[min(int((1 - edge) * rounds), rounds - 1)],
        confidence,
    )


def ratio_of_turns(before: Sequence[float], after: Sequence[float]) -> Ratio:
    """median(before) / median(after) of measurements taken in turn, with a 99 % interval.

    What slows one turn down slows its neighbours too, so single repetitions are no independent
    witnesses: blocks of turns that follow each other are compared, and the interval is Student's
    for the mean of their logarithms. With few blocks, or blocks that disagree, it is wide. Raises
    ValueError if a side is empty.
    """
    turns = min(len(before), len(after))
    if not turns:
        raise ValueError("both sides need at least one measurement")
    smallest = 1e-9
    value = max(median(before), smallest) / max(median(after), smallest)
    count = min(turns, BLOCKS_MOST)
    if count < 2:
        return Ratio(value, 0.0, math.inf, 0.99)
    edges = [turns * block // count for block in range(count + 1)]
    logs = [
        math.log(
            max(median(before[start:stop]), smallest) / max(median(after[start:stop]), smallest)
        )
        for start, stop in pairwise(edges)
    ]
    mean = sum(logs) / count
    spread = math.sqrt(sum((log - mean) ** 2 for log in logs) / (count - 1) / count)
    reach = math.exp(_STUDENT[count - 1] * spread + abs(mean - math.log(value)))
    return Ratio(value, value / reach, value * reach, 0.99)


def widened(ratio: Ratio, one: Sequence[float], other: Sequence[float]) -> Ratio:
    """The ratio with an interval that allows for what two sides differ by although nothing
    distinguishes them.

    `one` and `other` are measurements of the two sides when both did the same. Two sessions of a
    server do not run alike to begin with, and repetitions do not show it: each of them has the same
    accident. Raises ValueError if one is empty.
    """
    accident = median(one) / max(median(other), 1e-9)
    factor = max(accident, 1 / max(accident, 1e-9))
    return Ratio(ratio.value, ratio.low / factor, ratio.high * factor, ratio.confidence)
