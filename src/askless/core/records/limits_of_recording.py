"""What a recording with limits omits and how large its files are: alike in the recorder and in
every other source.

The recorder inside of programs imports nothing of ours: its module is a link to this file, which
therefore needs Python 3.9 and the standard library alone.
"""

from __future__ import annotations

RANDOM_BITS = 56  # of a trace id: what W3C's Trace Context, level 2, has for random ones
# Files that a capture of a limited size is made of, and how large each is at least: the oldest file
# goes as a whole, so a file is a small part of the limit.
SEGMENTS, SEGMENT_LEAST_BYTES = 32, 64 * 1024
TAIL_BYTES = 4096  # of a closed file, in which its last two lines are


def segment_bytes(keep_bytes: int) -> int:
    """How large a file gets before the next one begins; 0 without a limit."""
    return max(keep_bytes // SEGMENTS, SEGMENT_LEAST_BYTES) if keep_bytes else 0


def random_part(trace: str) -> int:
    """The random part of a trace id (32 hexadecimal digits), so that all services of a trace decide
    alike; 0 for none.
    """
    try:
        return int(trace[-14:], 16) if len(trace) == 32 else 0
    except ValueError:
        return 0


def kept_below(sample: int) -> int:
    """The number of RANDOM_BITS bits below which one request in `sample` is kept."""
    return (1 << RANDOM_BITS) // sample


def closed_counts(tail: bytes) -> tuple[int, int, tuple[int, ...]]:
    """How many requests and queries a closed file holds by its last TAIL_BYTES, and what it says
    was dropped before it; zeros where it does not say.
    """
    import json  # only here, as a program that is recorded may not need it

    try:
        lines = [json.loads(line) for line in tail.splitlines()[1:][-2:]]
        dropped = tuple(lines[0].get("dropped") or (0, 0, 0, 0))
        return lines[-1]["requests"], lines[-1]["queries"], dropped
    except (ValueError, LookupError, TypeError, AttributeError, RecursionError):
        return 0, 0, (0, 0, 0, 0)
