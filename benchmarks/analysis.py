"""How fast a capture is read and analysed, against merely decoding the same queries as plain JSON objects.

`python benchmarks/analysis.py [--queries N]`. Each side runs in a process of its own, in turns; the ratio of the
fastest runs is printed with the peak memory of the analysing process.
"""

from __future__ import annotations

import argparse
import json
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
import sys, time, resource
from pathlib import Path
from askless.capture.reading import read
from askless.core.analysis import findings_of, summarise
start = time.perf_counter()
summary = summarise(read(Path(sys.argv[1])))
found = findings_of(summary)
taken = time.perf_counter() - start
count = sum(stats.count for route in summary.routes.values() for stats in route.shapes.values())
peak = next(int(line.split()[1]) / 1024 for line in open('/proc/self/status') if line.startswith('VmHWM'))
print(taken, count, peak, len(found))
"""


def _run(code: str, path: Path) -> tuple[float, int, float, int]:
    done = subprocess.run(
        [sys.executable, "-c", code, str(path), str(Path(__file__).parent)], capture_output=True, text=True, check=True
    )
    taken, count, peak, found = done.stdout.split()
    return float(taken), int(count), float(peak), int(found)


def measure(queries: int, rounds: int = 5) -> dict[str, float]:
    """Generate, run both sides in turns, and return the figures."""
    each = 25
    with tempfile.TemporaryDirectory() as folder:
        sys.path.insert(0, str(Path(__file__).parent))
        from generate import write

        capture, plain = write(Path(folder), queries // each, each)
        floors, ours = [], []
        for _ in range(rounds):
            floors.append(_run(FLOOR, plain))
            ours.append(_run(OURS, capture))
        assert {run[1] for run in floors + ours} == {queries // each * each}, "both sides must see every query"
        return {
            "queries": queries // each * each,
            "floor_us": min(run[0] for run in floors) / queries * 1e6,
            "ours_us": min(run[0] for run in ours) / queries * 1e6,
            "ratio": min(run[0] for run in ours) / min(run[0] for run in floors),
            "peak_mib": max(run[2] for run in ours),
            "findings": ours[0][3],
            "capture_bytes": capture.stat().st_size / queries,
            "plain_bytes": plain.stat().st_size / queries,
        }


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--queries", type=int, default=1_000_000)
    parser.add_argument("--json", action="store_true")
    options = parser.parse_args()
    figures = measure(options.queries)
    if options.json:
        print(json.dumps(figures))
    else:
        for name, value in figures.items():
            print(f"{name:14} {value:12,.2f}")
