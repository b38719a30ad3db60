"""Leaving some of the traffic out, so that recording may stay on for days: the options of all
sources, and what they mean.
"""

from __future__ import annotations

import re

from askless.core.errors import AskLessError
from askless.core.records.sampling import SamplingRules
from askless.sources import Option

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping
    from typing import Any

KEEP_LEAST_BYTES = 1024**2
_SIZE = re.compile(r"(\d+(?:\.\d+)?)\s*(|B|KiB|MiB|GiB|TiB|kB|MB|GB|TB)", re.IGNORECASE)
_UNITS = {
    "": 1,
    "b": 1,
    "kib": 1024,
    "mib": 1024**2,
    "gib": 1024**3,
    "tib": 1024**4,
    "kb": 1000,
    "mb": 1000**2,
    "gb": 1000**3,
    "tb": 1000**4,
}
_TIME = re.compile(r"(\d+(?:\.\d+)?)\s*(us|µs|ms|s)")
_NS = {"us": 1e3, "µs": 1e3, "ms": 1e6, "s": 1e9}

SPARING = (
    Option(
        "--max-size",
        "maximum capture size, e.g. 2GiB; the oldest files are deleted and counted",
        "SIZE",
        default="",
    ),
    Option(
        "--sample",
        "record one request in N at random (by trace ID if it has one)",
        "1/N",
        default="",
    ),
    Option(
        "--min-duration",
        "record only requests that take longer; others are counted",
        "TIME",
        default="",
    ),
    Option("--max-queries", "record at most N queries per request; others are counted", "N", int),
)


def sparing_of(values: Mapping[str, Any]) -> SamplingRules:
    """What the options ask for. Raises AskLessError: bad-sample, bad-time, bad-size,
    bad-max-queries.
    """
    at_most = values.get("max_queries")
    if at_most is not None and at_most < 1:
        raise AskLessError(
            "bad-max-queries",
            "--max-queries takes a whole number from 1",
            "omit it to record all queries",
        )
    return SamplingRules(
        _sample(values.get("sample") or ""),
        _time(values.get("min_duration") or ""),
        at_most or 0,
        size_of(values.get("max_size") or "", "--max-size"),
    )


def _sample(word: str) -> int:
    numerator, slash, rest = word.partition("/")
    if not word:
        return 1
    if numerator.strip() != "1" or not slash or not rest.strip().isdigit() or int(rest) < 1:
        raise AskLessError(
            "bad-sample", f"--sample takes 1/N, not {word!r}", "as in: --sample 1/50"
        )
    return int(rest)


def _time(word: str) -> int:
    match = _TIME.fullmatch(word.strip())
    if word and match is None:
        raise AskLessError(
            "bad-time",
            f"--min-duration takes a time with a unit, not {word!r}",
            "as in: --min-duration 200ms",
        )
    return int(float(match[1]) * _NS[match[2]]) if match is not None else 0


def size_of(word: str, option: str, least_bytes: int = KEEP_LEAST_BYTES) -> int:
    """Bytes from a size as people write it; 0 for none. Raises AskLessError bad-size."""
    match = _SIZE.fullmatch(word.strip())
    if not word:
        return 0
    size = int(min(float(match[1]), 2.0**60) * _UNITS[match[2].lower()]) if match is not None else 0
    if size < least_bytes:
        least = f"{least_bytes // 1024**2}MiB" if least_bytes >= 1024**2 else f"{least_bytes}B"
        raise AskLessError(
            "bad-size", f"{option} takes a size from {least}, not {word!r}", f"as in: {option} 2GiB"
        )
    return size
