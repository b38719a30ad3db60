"""How fast a capture is added up and judged, against merely decoding the same queries as plain JSON
objects; and the memory it takes.

`python benchmarks/analysis.py [--case NAME] [--rounds N] [--keep FOLDER]`. Cases: `million` (300
shapes, half of them with their literals in the text, on 40 routes), `ten-million`, `shapes` (50,000
of them), `giant` (one request), `routes` (20,000). Each side runs in a process of its own, in
turns; the ratio of the fastest runs is printed, with one process and with two, with what was parsed
kept from the run before and without, and the peak memory of the one process. Aims: 1.5 times the
floor, two processes 1.8 times as fast, 80 MiB.
"""

from __future__ import annotations

import argparse
import json
import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

FLOOR = """
import sys, time, msgspec
sys.path.insert(0, sys.argv[2])
from generate import PlainQuery
decode = msgspec.json.Decoder(PlainQuery).decode
start = time.perf_counter()
count = 0
with open(sys.argv[1], 'rb') as file:
    for line in file:
        decode(line)
        count += 1
print(time.perf_counter() - start, count, 0, 0)
"""
OURS = """
import sys, time
from pathlib import Path
from askless import executors
from askless.reports.findings import judged_from
from askless.reports.loading import load
if __name__ == '__main__':
    start = time.perf_counter()
    with executors.wished(executors.ExecutorOptions(int(sys.argv[2]))):
        summary, _ = load(Path(sys.argv[1]))
    found = judged_from(summary).findings
    taken = time.perf_counter() - start
    count = sum(stats.count for route in summary.routes.values() for stats in route.shapes.values())
    peak = next(int(line.split()[1]) / 1024 for line in open('/proc/self/status') if line.startswith('VmHWM'))
    print(taken, count, peak, len(found))
"""
EACH = 25
CASES = {  # queries, queries of a request, shapes, routes
    "million": (1_000_000, EACH, 300, 40),
    "ten-million": (10_000_000, EACH, 300, 40),
    "shapes": (1_000_000, EACH, 50_000, 2_000),
    "giant": (1_000_000, 1_000_000, 300, 40),
    "routes": (1_000_000, EACH, 300, 20_000),
}


def _run(script: Path, words: list[object], cache: Path) -> tuple[float, int, float, int]:
    done = subprocess.run(
        [sys.executable, str(script), *map(str, words)], capture_output=True, text=True, check=True,
        env={**os.environ, "XDG_CACHE_HOME": str(cache)},
    )  # fmt: skip
    taken, count, peak, found = done.stdout.split()
    return float(taken), int(count), float(peak), int(found)


def measure(case: str, rounds: int, folder: Path) -> dict[str, float]:
    """Generate, run both sides in turns, and return the figures."""
    queries, each, shapes, routes = CASES[case]
    sys.path.insert(0, str(Path(__file__).parent))
    from generate import write

    capture, plain = folder / "generated.jsonl", folder / "plain.jsonl"
    if not plain.exists():
        write(folder, queries // each, each, shapes=shapes, routes=routes)
    floor_script, ours_script, cache = folder / "floor.py", folder / "ours.py", folder / "cache"
    floor_script.write_text(FLOOR)
    ours_script.write_text(OURS)
    shutil.rmtree(cache, ignore_errors=True)
    first = _run(ours_script, [capture, 1], cache)
    floors, ones, twos = [], [], []
    for _ in range(rounds):
        floors.append(_run(floor_script, [plain, Path(__file__).parent], cache))
        ones.append(_run(ours_script, [capture, 1], cache))
        twos.append(_run(ours_script, [capture, 2], cache))
    assert {run[1] for run in (*floors, *ones, *twos, first)} == {queries}, (
        "both sides must see every query"
    )
    floor, one, two = (min(run[0] for run in runs) for runs in (floors, ones, twos))
    return {
        "queries": queries,
        "floor_us": floor / queries * 1e6,
        "ours_us": one / queries * 1e6,
        "ratio": one / floor,
        "ratio_first_run": first[0] / floor,
        "two_processes": one / two,
        "peak_mib": max(run[2] for run in ones),
        "findings": ones[0][3],
        "capture_bytes": capture.stat().st_size / queries,
    }


if __name__ == "__main__":
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--case", choices=list(CASES), action="append")
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument(
        "--keep", type=Path, help="a folder for what is generated, used again if it is there"
    )
    parser.add_argument("--json", action="store_true")
    options = parser.parse_args()
    for name in options.case or ("million", "shapes", "giant", "routes"):
        with tempfile.TemporaryDirectory() as made:
            kept = options.keep / name if options.keep else Path(made)
            kept.mkdir(parents=True, exist_ok=True)
            figures = measure(name, options.rounds, kept)
        if options.json:
            print(json.dumps({"case": name, **figures}))
        else:
            print(name + "".join(f"\n  {key:16} {value:12,.2f}" for key, value in figures.items()))
