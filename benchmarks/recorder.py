"""What the recorder adds to a query: the same program bare and recorded, in turns, in processes of their own.

`python benchmarks/recorder.py`. Prints microseconds a query and the ratio, for a select by key (from a connection and
from a cursor) and for a select of 1,000 rows of 8 columns (fetched at once and iterated over).
"""

from __future__ import annotations

import argparse
import json
import os
import subprocess
import sys
import tempfile
from pathlib import Path
from statistics import median

PROBE = Path(__file__).resolve().parent.parent / "src" / "askless" / "probe"

PROGRAM = """
import sqlite3, time, json, sys
db = sqlite3.connect(":memory:")
db.execute("CREATE TABLE vessel (id INTEGER PRIMARY KEY, name TEXT, call_sign TEXT, flag TEXT, length REAL, tons INT, berth INT, owner TEXT)")
db.executemany("INSERT INTO vessel VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
    [(i, "Vessel %d" % i, "H%05d" % i, "NO", i * 1.5, i * 7, i % 20 or None, "Tern Shipping") for i in range(1000)])
db.commit()
cursor = db.cursor()
def by_key():
    for i in range(2000):
        db.execute("SELECT id, name FROM vessel WHERE id = ?", (i % 1000,)).fetchone()
def by_key_wide():
    for i in range(2000):
        db.execute("SELECT * FROM vessel WHERE id = ?", (i % 1000,)).fetchone()
def by_key_cursor():
    for i in range(2000):
        cursor.execute("SELECT id, name FROM vessel WHERE id = ?", (i % 1000,))
        cursor.fetchone()
def rows_at_once():
    for i in range(20):
        db.execute("SELECT * FROM vessel").fetchall()
def rows_iterated():
    for i in range(20):
        for row in db.execute("SELECT * FROM vessel"):
            pass
found = {}
for work, queries in ((by_key, 2000), (by_key_wide, 2000), (by_key_cursor, 2000), (rows_at_once, 20), (rows_iterated, 20)):
    times = []
    for turn in range(int(sys.argv[1])):
        start = time.perf_counter()
        work()
        times.append((time.perf_counter() - start) / queries * 1e6)
    found[work.__name__] = min(times)
print(json.dumps(found))
"""


def _run(program: Path, folder: Path | None, turns: int) -> dict[str, float]:
    env = {key: value for key, value in os.environ.items() if not key.startswith("ASKLESS")}
    if folder is not None:
        env |= {"PYTHONPATH": str(PROBE / "inject"), "ASKLESS_CAPTURE": str(folder)}
    done = subprocess.run(
        [sys.executable, str(program), str(turns)], env=env, capture_output=True, text=True, check=True
    )
    found: dict[str, float] = json.loads(done.stdout)
    return found


def measure(rounds: int = 7, turns: int = 8) -> dict[str, dict[str, float]]:
    """Bare and recorded runs in turns; the fastest of each, the time added, and the ratio with its spread over rounds."""
    with tempfile.TemporaryDirectory() as folder:
        program = Path(folder) / "program.py"
        program.write_text(PROGRAM)
        bare, recorded = [], []
        for turn in range(rounds):
            capture = Path(folder) / f"capture-{turn}"
            capture.mkdir()
            bare.append(_run(program, None, turns))
            recorded.append(_run(program, capture, turns))
            assert any(capture.iterdir()), "nothing was recorded"
    return {
        name: {
            "bare_us": min(run[name] for run in bare),
            "recorded_us": min(run[name] for run in recorded),
            "added_us": min(run[name] for run in recorded) - min(run[name] for run in bare),
            "ratio": median(r[name] / b[name] for r, b in zip(recorded, bare, strict=True)),
        }
        for name in bare[0]
    }


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rounds", type=int, default=7)
    parser.add_argument("--json", action="store_true")
    options = parser.parse_args()
    figures = measure(options.rounds)
    if options.json:
        print(json.dumps(figures))
    else:
        print(f"{'one query':16}{'bare µs':>10}{'recorded µs':>13}{'added µs':>10}{'ratio':>8}")
        for name, row in figures.items():
            print(
                f"{name:16}{row['bare_us']:10.2f}{row['recorded_us']:13.2f}{row['added_us']:10.2f}{row['ratio']:8.2f}"
            )
