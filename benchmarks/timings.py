"""How often an interval of a trial's is wrong: timings of a known ratio, on a machine that is kept
busy.

    python benchmarks/timings.py [--trials 200] [--load 4]

Each trial measures two statements in turn on SQLite, as `askless trial` does, that count to numbers of a known ratio (1, 1.1,
1.5); `--load` processes keep the processors busy meanwhile, and stop and go. Prints, for each ratio: how often the interval
held it, and how often one side was called faster or slower although both are the same statement. Exit code 1 where an
interval held less than 95 %, or more than 1 in 200 identical statements were called faster.
"""

from __future__ import annotations

import argparse
import multiprocessing
import random
import sqlite3
import time
from collections.abc import Callable

from askless.core.statistics import ratio_of_turns
from askless.database.timing import interleaved

COUNT = (
    "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n LIMIT ?) SELECT count(*) FROM n"
)
STEPS = 20_000
RATIOS = (1.0, 1.1, 1.5)


def _busy() -> None:
    """Work and rest by turns, as other programs do."""
    while True:
        until = time.monotonic() + random.uniform(0.01, 0.4)
        while time.monotonic() < until:
            sum(range(1000))
        time.sleep(random.uniform(0.01, 0.4))


def _counter(db: sqlite3.Connection, steps: int) -> Callable[[], object]:
    return lambda: db.execute(COUNT, (steps,)).fetchall()


def measure(trials: int, load: int, budget_s: float) -> list[tuple[float, float, float, float]]:
    """By ratio: the share of intervals that held it, and of trials that called the second faster,
    and slower.
    """
    others = [multiprocessing.Process(target=_busy, daemon=True) for _ in range(load)]
    for other in others:
        other.start()
    results = []
    try:
        for known in RATIOS:
            held = faster = slower = 0
            for _ in range(trials):
                before, after = (sqlite3.connect(":memory:") for _ in range(2))
                ratio = ratio_of_turns(
                    *interleaved(
                        [_counter(before, int(STEPS * known)), _counter(after, STEPS)], budget_s
                    )
                )
                # Starting a statement takes a little too: what is measured lies that much nearer to
                # 1.
                held += ratio.low <= known * 1.005 and ratio.high >= known * 0.985
                faster += ratio.certain and ratio.value > 1
                slower += ratio.certain and ratio.value < 1
            results.append((known, held / trials, faster / trials, slower / trials))
    finally:
        for other in others:
            other.terminate()
    return results


if __name__ == "__main__":
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--trials", type=int, default=200)
    parser.add_argument("--load", type=int, default=4)
    parser.add_argument("--budget", type=float, default=0.3, help="seconds for one trial")
    options = parser.parse_args()
    print(f"{'ratio':>6}{'interval held it':>18}{'called faster':>15}{'called slower':>15}")
    wrong = False
    for known, held, faster, slower in measure(options.trials, options.load, options.budget):
        print(f"{known:6.2f}{held:18.1%}{faster:15.1%}{slower:15.1%}")
        wrong |= held < 0.95 or (known == 1.0 and faster > 0.005)
    raise SystemExit(int(wrong))
