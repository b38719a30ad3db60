"""Queries that ran at the same time: what they took together counts once."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from operator import add, le


def union_ns(starts_ns: Sequence[int], durations_ns: Sequence[int]) -> int:
    """How long at least one of some queries ran. Their starts are in order."""
    total = end_ns = 0
    for start_ns, duration_ns in zip(starts_ns, durations_ns, strict=True):
        begins_ns, ends_ns = max(start_ns, end_ns), start_ns + duration_ns
        if ends_ns > begins_ns:
            total += ends_ns - begins_ns
            end_ns = ends_ns
    return total


def overlap_ns(starts_ns: Sequence[int], durations_ns: Sequence[int]) -> int:
    """What the queries of a request take in sum beyond how long any of them ran; 0 where they came
    one after the other, as they nearly always do. Their starts are in order.
    """
    ends_ns = list(map(add, starts_ns, durations_ns))
    if all(map(le, ends_ns, starts_ns[1:])):
        return 0
    return sum(durations_ns) - union_ns(starts_ns, durations_ns)


def at_once(starts_ns: Sequence[int], durations_ns: Sequence[int]) -> int:
    """The most queries that ran at the same moment."""
    changes = [(start_ns, 1) for start_ns in starts_ns]
    changes += [
        (start + duration, -1) for start, duration in zip(starts_ns, durations_ns, strict=True)
    ]
    running = most = 0
    for _, change in sorted(changes):
        running += change
        most = max(most, running)
    return most


def lower_gap_ns(starts: Sequence[int], durations: Sequence[int], indices: Iterable[int]) -> int:
    """The lower quartile of the times from the end of the interval before to each of these; 0 for
    none.
    """
    gaps = sorted(max(starts[i] - starts[i - 1] - durations[i - 1], 0) for i in indices if i)
    return gaps[len(gaps) // 4] if gaps else 0
