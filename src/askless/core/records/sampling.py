"""What a recording omitted, and what that makes of totals: numbers for all requests, each with its
error.

Requests omitted by chance are like those that were kept: totals are scaled up by how many there
were (a simple random sample without replacement; Cochran, Sampling Techniques, 3rd edition, 1977,
chapter 2). Those omitted for being quick are not: they are counted, and nothing else is known of
them.
"""

from __future__ import annotations

import math
import operator
from collections.abc import Sequence
from typing import TypeVar

import msgspec

UNTOLD_MOST = 100  # requests that a recorder omits before it says of them, or a second's
_SURE = 1.96  # standard errors: 95 of 100 intervals hold the true value


def untold() -> str:
    """What a recorder that did not end in good order has not told, in words."""
    return (
        f"up to {UNTOLD_MOST} requests, or a second's, that it did not record last are not "
        "counted, so totals are too low by that amount"
    )


class SamplingRules(msgspec.Struct, frozen=True):
    """What may be omitted: all but one in `sample` requests, those quicker than `slower_ns`,
    queries beyond `at_most` of one.

    Of what was kept, the oldest goes where it is more than `keep_bytes`. 0 stands for no limit.
    """

    sample: int = 1
    slower_ns: int = 0
    at_most: int = 0
    keep_bytes: int = 0


Numbers = TypeVar("Numbers", bound=msgspec.Struct)


def _summed(one: Numbers, other: Numbers) -> Numbers:
    """Two structs of numbers, field by field."""
    return type(one)(
        *map(operator.add, msgspec.structs.astuple(one), msgspec.structs.astuple(other))
    )


class Counts(msgspec.Struct, array_like=True, frozen=True):
    """Requests of one route that were omitted: by chance, for being quick, while recording was
    paused or the disk full.

    Of the quick ones, also their queries and the ns these took in the database.
    """

    by_chance: int = 0
    quick: int = 0
    stopped: int = 0
    quick_queries: int = 0
    quick_ns: int = 0

    def plus(self, other: Counts) -> Counts:
        """Both together."""
        return _summed(self, other)

    @property
    def requests(self) -> int:
        """How many requests, whatever the reason."""
        return self.by_chance + self.quick + self.stopped


class Evicted(msgspec.Struct, array_like=True, frozen=True):
    """The oldest files of a capture of limited size that a process has removed so far, as far as
    they state their content.
    """

    files: int = 0
    requests: int = 0
    queries: int = 0
    bytes: int = 0

    def plus(self, other: Evicted) -> Evicted:
        """Both together."""
        return _summed(self, other)


class Estimate(msgspec.Struct, frozen=True):
    """A total of all requests, those omitted by chance included. `margin` is what it may be off by,
    19 times out of 20; 0: exact.
    """

    value: float
    margin: float = 0.0


def total_of(recorded: int, left_out: int, total: float, squares: float) -> Estimate:
    """The total over `recorded` + `left_out` requests, of which the kept ones add up to `total`,
    their squares to `squares`.
    """
    if not left_out or not recorded:
        return Estimate(total)
    everything = recorded + left_out
    mean = total / recorded
    # Of one request nothing is known of how they differ: as much as it is, then.
    variance = (
        max(squares / recorded - mean * mean, 0.0) * recorded / (recorded - 1)
        if recorded > 1
        else mean * mean
    )
    error = everything * math.sqrt(variance / recorded * (1 - recorded / everything))
    return Estimate(mean * everything, _SURE * error)


def sum_of(totals: Sequence[Estimate]) -> Estimate:
    """Totals of different routes together: their errors are independent of each other."""
    return Estimate(sum(one.value for one in totals), math.hypot(*(one.margin for one in totals)))
