"""An hour's traffic in a minute: 1,000,000 queries through the recorder, and what memory they
leave; then a kill -9.

`python benchmarks/endurance.py [--queries N]`. Prints the peak memory after each tenth, the
capture's size, and how many queries of a killed program are missing from its capture.

`--hour` instead: the traffic of an hour at 2,000 queries a second, 7,200,000 of them, as fast as
they go: once with one request in 50 kept, whose scaled totals are held against the truth; once
within 16 MiB, what is kept and what is counted held against it.
"""

from __future__ import annotations

import argparse
import json
import os
import subprocess
import sys
import tempfile
from pathlib import Path

from askless.capture.lines import files_of
from askless.capture.reading import Reader

PROBE = Path(__file__).resolve().parent.parent / "src" / "askless" / "probe"

PROGRAM = """
import askless, json, os, resource, sqlite3, sys, time
queries, kill_at = int(sys.argv[1]), int(sys.argv[2])
db = sqlite3.connect(":memory:")
db.execute("CREATE TABLE vessel (id INTEGER PRIMARY KEY, name TEXT)")
db.executemany("INSERT INTO vessel VALUES (?, ?)", [(i, "Vessel %d" % i) for i in range(1000)])
db.commit()
peaks, asked, started = [], 0, time.time()
while asked < queries:
    with askless.request("GET /vessels/{id}"):
        for number in range(100):
            db.execute("SELECT id, name FROM vessel WHERE id = ?", ((asked + number) % 1000,)).fetchone()
            if asked + number == kill_at:
                print(asked + number + 1, flush=True)
                os.kill(os.getpid(), 9)
    # Another text each time: what never comes again must not be kept for ever.
    db.execute("SELECT %d + id FROM vessel LIMIT 1" % asked).fetchone()
    db.execute("SELECT 1 AS name_%d" % asked).fetchone()
    asked += 100
    if asked % (queries // 10) == 0:
        peaks.append(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss)
print(json.dumps({"peaks_kib": peaks, "seconds": time.time() - started}))
"""


HOUR = """
import askless, json, random, resource, sqlite3, sys, time
queries, dice = int(sys.argv[1]), random.Random(5)
db = sqlite3.connect(":memory:")
db.execute("CREATE TABLE vessel (id INTEGER PRIMARY KEY, name TEXT)")
db.executemany("INSERT INTO vessel VALUES (?, ?)", [(i, "Vessel %d" % i) for i in range(1000)])
db.commit()
cursor = db.cursor()
peaks, asked, requests, started, told = [], 0, {}, time.time(), 0
while asked < queries:
    route = dice.choice(("GET /calls/due", "GET /calls/{id}", "GET /berths"))
    count = dice.choice((1, 2, 3, 20, 100)) if route != "GET /calls/{id}" else 4
    with askless.request(route):
        for number in range(count):
            cursor.execute("SELECT id, name FROM vessel WHERE id = ?", (number,)).fetchone()
    asked += count
    known = requests.setdefault(route, [0, 0])
    known[0] += 1
    known[1] += count
    if asked // (queries // 10) > told:
        told = asked // (queries // 10)
        peaks.append(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss)
print(json.dumps({"peaks_kib": peaks, "seconds": time.time() - started, "routes": requests}))
"""
HOUR_QUERIES, KEEP_BYTES = 7_200_000, 16 * 1024**2


def run(
    folder: Path,
    queries: int,
    kill_at: int,
    program_text: str = PROGRAM,
    wishes: dict[str, str] | None = None,
) -> str:
    """Run the program recorded; what it printed."""
    folder.mkdir()
    program = folder.parent / "program.py"
    program.write_text(program_text)
    env = {key: value for key, value in os.environ.items() if not key.startswith("ASKLESS")}
    env |= {
        "PYTHONPATH": str(PROBE / "inject"),
        "ASKLESS_CAPTURE": str(folder),
        "ASKLESS_FALLBACK": str(PROBE / "fallback"),
    }
    env |= wishes or {}
    words = [sys.executable, str(program), str(queries), str(kill_at)]
    return subprocess.run(words, env=env, capture_output=True, text=True, check=False).stdout


def read(folder: Path) -> int:
    """Queries in a capture that can be read."""
    total = 0
    for file in files_of(folder):
        reader = Reader(file)
        for _ in reader:
            pass
        assert not reader.report.bad_lines
        total += reader.report.queries
    return total


def hour(temporary: Path) -> None:
    """An hour's traffic, sampled, and kept within a size."""
    import askless

    folder = temporary / "sampled"
    truth = json.loads(run(folder, HOUR_QUERIES, -1, HOUR, {"ASKLESS_SAMPLE": "50"}))
    size = sum(file.stat().st_size for file in folder.iterdir())
    print(f"1 of 50 requests: {truth['seconds']:.0f} s, capture {size / 2**20:.1f} MiB")
    print(
        "  peak memory after each tenth, MiB: "
        + " ".join(f"{peak / 1024:.1f}" for peak in truth["peaks_kib"])
    )
    for row in askless.read(folder).routes().routes:
        if row.route in truth["routes"]:
            requests, queries = truth["routes"][row.route]
            found = row.estimated_queries
            print(
                f"  {row.route:16} {row.total_requests:,} requests ({requests:,} asked, {row.requests:,} kept); queries "
                f"{found.value:,.0f} ± {found.margin:,.0f}, asked {queries:,}: "
                f"{'within' if abs(found.value - queries) <= found.margin + 1 else 'NOT within'} its error"
            )
    folder = temporary / "kept"
    truth = json.loads(run(folder, HOUR_QUERIES, -1, HOUR, {"ASKLESS_KEEP_BYTES": str(KEEP_BYTES)}))
    size = sum(file.stat().st_size for file in folder.iterdir())
    kept = dropped = 0
    for file in files_of(folder):
        reader = Reader(file)
        kept += sum(request.kind != "program" for request in reader)
        dropped = max(dropped, reader.report.dropped.requests)
    asked = sum(requests for requests, _ in truth["routes"].values())
    print(
        f"within {KEEP_BYTES // 2**20} MiB: {truth['seconds']:.0f} s, capture {size / 2**20:.1f} MiB"
    )
    print(
        "  peak memory after each tenth, MiB: "
        + " ".join(f"{peak / 1024:.1f}" for peak in truth["peaks_kib"])
    )
    print(
        f"  {kept:,} requests kept and {dropped:,} counted as gone (one of them the program's own), {asked:,} asked"
    )


if __name__ == "__main__":
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--queries", type=int, default=1_000_000)
    parser.add_argument(
        "--hour", action="store_true", help="an hour's traffic, sampled, and kept within a size"
    )
    options = parser.parse_args()
    if options.hour:
        with tempfile.TemporaryDirectory() as temporary:
            hour(Path(temporary))
        sys.exit()
    with tempfile.TemporaryDirectory() as temporary:
        whole = Path(temporary) / "whole"
        found = json.loads(run(whole, options.queries, -1))
        size = sum(file.stat().st_size for file in whole.iterdir())
        print(
            f"{read(whole):,} queries recorded in {found['seconds']:.0f} s, capture {size / 2**20:.0f} MiB"
        )
        print(
            "peak memory after each tenth, MiB: "
            + " ".join(f"{peak / 1024:.1f}" for peak in found["peaks_kib"])
        )
        killed = Path(temporary) / "killed"
        asked = int(run(killed, options.queries, options.queries // 2 + 57))
        before = 2 + 2 * (asked // 100)  # the table, its rows, and two queries after each request
        print(
            f"kill -9 after {asked:,} queries: {asked + before - read(killed):,} are missing from the capture"
        )
