"""Puts mutated inputs through every reader, in this process: nothing may raise what is no
AskLessError, hang, or take all memory.

    python benchmarks/fuzz.py                          20,000 inputs of each kind, some ten minutes
    python benchmarks/fuzz.py --inputs 1000000         so many in all, shared out evenly
    python benchmarks/fuzz.py --kind otlp-json --seed 7
    python benchmarks/fuzz.py --guided --kind plans    by coverage, if the package atheris is installed

A seed and a kind give the same inputs again. What it prints: inputs, errors that no one foresaw by
the line that raised them, inputs that took over ten seconds, the most memory. Exit code 1 where
there is any.
"""

from __future__ import annotations

import argparse
import io
import json
import random
import resource
import signal
import sys
import tempfile
import time
import traceback
from collections import Counter
from collections.abc import Callable
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
sys.path[:0] = [str(ROOT), str(ROOT / "benchmarks")]
from fuzz_cases import seeds  # noqa: E402
from fuzz_cases.targets import TARGETS  # noqa: E402

from askless.core.errors import AskLessError  # noqa: E402

LONGEST_S, MEMORY_MOST_MIB = 10.0, 500
# What breaks readers: numbers of thousands of digits, no numbers at all, halves of characters, ends
# in the middle.
PIECES = [
    b"9" * 400, b"9" * 5000, b"-1", b"1e999", b"NaN", b"Infinity", b"-Infinity", b"0", b"null", b"true", b"{}", b"[]", b'""', b"{", b"}", b"[", b"]",
    b'"', b"'", b"\\", b"\x00", b"\xff\xfe", b"\xed\xa0\x80", "²".encode(), "٣".encode(), b"\\ud800", b"\n", b"\r\n", b"\t", b",", b";", b":", b"%", b"$1", b"?",
    b"23:59:60", b"0000-00-00", b"9999-99-99", b"+99:99", b"2026-13-45T25:61:61Z", b"\x1f\x8b", b"--", b"/*", b"*/", b"$$", b"\x80" * 9, b"\x7f\xff\xff\xff", b"18446744073709551616",
]  # fmt: skip


def mutated(seed: bytes, dice: random.Random, corpus: list[bytes]) -> bytes:
    """An input like a seed, with a few things wrong."""
    data = bytearray(seed[:20_000])
    for _ in range(dice.choice((1, 1, 1, 2, 3, 8))):
        at = dice.randrange(len(data) + 1)
        kind = dice.randrange(7)
        if kind == 0 and data:
            data[at % len(data)] = dice.randrange(256)
        elif kind == 1:
            data[at:at] = dice.choice(PIECES)
        elif kind == 2:
            del data[at : at + dice.choice((1, 2, 10, 200))]
        elif kind == 3:
            other = dice.choice(corpus)
            start = dice.randrange(len(other) + 1)
            data[at:at] = other[start : start + dice.choice((5, 50, 500))]
        elif kind == 4:
            del data[at:]
        elif kind == 5:
            end = at + dice.choice((1, 8, 40))
            data[at:end] = data[at:end] * dice.choice((2, 30))
        else:
            digits = [i for i, byte in enumerate(data) if 48 <= byte <= 57]
            if digits:
                place = dice.choice(digits)
                data[place : place + 1] = dice.choice(PIECES)
    return bytes(data)


class HungError(BaseException):
    """An input took several times as long as any may: it is given up."""


def _give_up(number: int, frame: object) -> None:
    raise HungError


class Result:
    """What one kind of input came to."""

    def __init__(self) -> None:
        self.inputs = self.refused = 0
        self.uncaught: Counter[str] = Counter()
        self.examples: dict[str, bytes] = {}
        self.slow: list[tuple[float, bytes]] = []

    def put(self, target: Callable[[bytes, Path], object], data: bytes, folder: Path) -> None:
        """One input through one reader."""
        self.inputs += 1
        began_s = time.perf_counter()
        signal.signal(signal.SIGALRM, _give_up)
        signal.setitimer(signal.ITIMER_REAL, 3 * LONGEST_S)
        try:
            with redirect_stdout(io.StringIO()), redirect_stderr(io.StringIO()):
                target(data, folder)
        except AskLessError:
            self.refused += 1
        except HungError as error:
            inner = traceback.extract_tb(error.__traceback__)[-2]  # the last is the handler
            print(f"    hangs in {Path(inner.filename).name}:{inner.lineno}", flush=True)
        except Exception as error:  # noqa: BLE001  (what is looked for)
            frames = [
                frame
                for frame in traceback.extract_tb(error.__traceback__)
                if "askless" in frame.filename
            ]
            where = f"{Path(frames[-1].filename).name}:{frames[-1].lineno}" if frames else "?"
            key = f"{type(error).__name__} at {where}: {str(error)[:80]!r}"
            self.uncaught[key.split(":")[0] + ":" + key.split(":")[1]] += 1
            self.examples.setdefault(key, data)
        finally:
            signal.setitimer(signal.ITIMER_REAL, 0)
        taken_s = time.perf_counter() - began_s
        if taken_s > LONGEST_S:
            self.slow.append((taken_s, data))


def run(kind: str, inputs: int, seed: int) -> Result:
    """So many inputs of a kind."""
    target, corpus = TARGETS[kind], seeds.SEEDS[kind]()
    dice = random.Random(f"{seed} {kind}")
    result = Result()
    with tempfile.TemporaryDirectory() as where:
        for number in range(inputs):
            data = (
                dice.choice(corpus)
                if number < len(corpus)
                else mutated(dice.choice(corpus), dice, corpus)
            )
            result.put(target, data, Path(where))
    return result


def guided(kind: str) -> None:
    """By coverage, until someone stops it."""
    import atheris

    target = TARGETS[kind]
    folder = Path(tempfile.mkdtemp())

    def one(data: bytes) -> None:
        try:
            with redirect_stdout(io.StringIO()), redirect_stderr(io.StringIO()):
                target(data, folder)
        except AskLessError:
            return

    corpus = folder / "corpus"
    corpus.mkdir()
    for number, data in enumerate(seeds.SEEDS[kind]()):
        (corpus / str(number)).write_bytes(data)
    atheris.instrument_all()
    atheris.Setup([sys.argv[0], str(corpus), "-max_len=20000"], one)
    atheris.Fuzz()


def main() -> int:
    """Run what was asked for."""
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--kind", choices=list(TARGETS), action="append")
    parser.add_argument("--inputs", type=int, default=20_000 * len(TARGETS), help="in all")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--guided", action="store_true")
    parser.add_argument(
        "--examples", metavar="DIR", help="write an input of each kind of error here"
    )
    options = parser.parse_args()
    kinds = options.kind or list(TARGETS)
    if options.guided:
        guided(kinds[0])
    wrong = total = 0
    for kind in kinds:
        result = run(kind, max(options.inputs // len(kinds), 1), options.seed)
        total += result.inputs
        wrong += len(result.uncaught) + len(result.slow)
        print(
            f"{kind:16} {result.inputs:9,} inputs, {result.refused:9,} refused, {sum(result.uncaught.values()):5} uncaught in {len(result.uncaught)} places, {len(result.slow)} over {LONGEST_S:g} s",
            flush=True,
        )
        slow = {f"{taken_s:.0f} s": data for taken_s, data in result.slow}
        for number, (key, data) in enumerate({**result.examples, **slow}.items()):
            if number < 40:
                print(f"    {key}", flush=True)
            if options.examples:
                Path(options.examples).mkdir(exist_ok=True)
                (Path(options.examples) / f"{kind}-{number}").write_bytes(data)
    peak_mib = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(json.dumps({"inputs": total, "wrong": wrong, "peak_mib": round(peak_mib)}))
    return int(wrong > 0 or peak_mib > MEMORY_MOST_MIB)


if __name__ == "__main__":
    sys.exit(main())
