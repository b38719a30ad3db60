"""All figures in one table: `python benchmarks/figures.py`. Takes some minutes."""

from __future__ import annotations

import argparse
import platform
import sys
import tempfile
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))

import analysis
import recorder

NAMES = {
    "by_key": "recorder: select of 2 columns by key",
    "by_key_wide": "recorder: select of 8 columns by key",
    "by_key_cursor": "recorder: the same cursor, 2 columns by key",
    "rows_at_once": "recorder: 1,000 rows of 8 columns, fetchall",
    "rows_iterated": "recorder: 1,000 rows of 8 columns, iterated",
    "four_threads": "recorder: 2 columns by key, on 4 threads",
    "psycopg_by_key": "psycopg: select of 2 columns by key",
    "psycopg_rows": "psycopg: 1,000 rows of 8 columns, fetchall",
    "psycopg_four_threads": "psycopg: 2 columns by key, on 4 threads",
    "psycopg_fifty_tasks": "psycopg: 2 columns by key, 50 asyncio tasks",
    "orm_by_key": "SQLAlchemy on sqlite3: an object by key",
    "orm_rows": "SQLAlchemy on sqlite3: 1,000 objects",
}


def main() -> None:
    """Measure and print."""
    print(f"Python {platform.python_version()}, {platform.machine()}\n")
    print(f"{'what':46}{'floor µs':>10}{'ours µs':>10}{'added µs':>10}{'ratio':>7}")
    for track_use in (False, True):
        if track_use:
            print("with --track-use:")
        for name, row in recorder.measure(track_use=track_use).items():
            bare, ours = row["bare_us"], row["recorded_us"]
            print(
                f"{NAMES[name]:46}{bare:10.2f}{ours:10.2f}{row['added_us']:10.2f}{row['ratio']:7.2f}"
            )
    with tempfile.TemporaryDirectory() as folder:
        found = analysis.measure("million", 3, Path(folder))
    what = f"analysis: {found['queries']:,.0f} queries, each"
    floor, ours = found["floor_us"], found["ours_us"]
    print(f"{what:46}{floor:10.2f}{ours:10.2f}{ours - floor:10.2f}{found['ratio']:7.2f}")
    print(
        f"\nanalysis: peak {found['peak_mib']:.0f} MiB, {found['capture_bytes']:.0f} bytes a query in the capture,"
    )
    print(
        f"two processes {found['two_processes']:.2f} times as fast; the floor decodes the same queries as plain JSON objects"
    )


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__)
    parser.parse_args()
    main()
