"""A short run of the fuzzer: whatever is put into a reader, it reads it or refuses it in its own
words.
"""

from __future__ import annotations

import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent
sys.path.insert(0, str(ROOT / "benchmarks"))
import fuzz  # noqa: E402
from fuzz_cases import seeds  # noqa: E402
from fuzz_cases.targets import TARGETS  # noqa: E402

INPUTS = 120


@pytest.mark.parametrize("kind", TARGETS)
def test_a_reader_reads_or_refuses(kind: str) -> None:
    result = fuzz.run(kind, INPUTS, seed=26)
    assert result.inputs == INPUTS and not result.uncaught, result.examples.keys()


@pytest.mark.parametrize("kind", TARGETS)
def test_the_seeds_are_sound(kind: str) -> None:
    """What is fuzzed is what is read, not the first check."""
    result = fuzz.run(kind, len(seeds.SEEDS[kind]()), seed=26)
    assert (
        result.inputs
        and not result.uncaught
        and not (result.refused and kind not in ("url", "sql"))
    )


def test_the_fuzzer_notices_what_nobody_foresaw() -> None:
    result = fuzz.Result()
    result.put(lambda data, _: 1 // len(data), b"", ROOT)
    assert result.uncaught.total() == 1 and result.examples
