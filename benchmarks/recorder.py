"""What the recorder adds to a query: the same program bare and recorded, in turns, in processes of
their own.

`python benchmarks/recorder.py [--track-use] [--sample] [--only sqlite3|psycopg|orm]`. Prints
microseconds a query and the ratio; with `--sample`, of queries in requests that a recording of one
in 50 omits (aim: 1 µs for sqlite3 and psycopg):

- sqlite3: a select by key (from a connection and from a cursor), 1,000 rows of 8 columns (fetched at once, iterated
  over), the select by key on four threads;
- psycopg over loopback, on a PostgreSQL of its own (Debian's package): a select by key, 1,000 rows, four threads, and
  asyncio with 50 tasks;
- orm: SQLAlchemy on sqlite3, an object loaded and two of its columns read, one by one and a thousand at once.
"""

from __future__ import annotations

import argparse
import json
import os
import subprocess
import sys
import tempfile
from contextlib import ExitStack
from pathlib import Path
from statistics import median

ROOT = Path(__file__).resolve().parent.parent
PROBE = ROOT / "src" / "askless" / "probe"

VESSELS = """
import asyncio, json, sys, threading, time
VESSELS = [(i, "Vessel %d" % i, "H%05d" % i, "NO", i * 1.5, i * 7, i % 20 or None, "Tern Shipping") for i in range(1000)]
COLUMNS = "id INTEGER PRIMARY KEY, name TEXT, call_sign TEXT, flag TEXT, length FLOAT, tons INT, berth INT, owner TEXT"
def on_threads(work):
    threads = [threading.Thread(target=work, args=(n,)) for n in range(4)]
    [thread.start() for thread in threads]
    [thread.join() for thread in threads]
try:
    from askless import request
except ImportError:
    from contextlib import nullcontext as request
if sys.argv[2] == "outside":
    from contextlib import nullcontext as request
def measure(works):
    found = {}
    for work, queries in works:
        times = []
        for turn in range(int(sys.argv[1])):
            with request("bench"):
                start = time.perf_counter()
                work()
                times.append((time.perf_counter() - start) / queries * 1e6)
        found[work.__name__] = min(times)
    print(json.dumps(found))
"""
SQLITE = """
import sqlite3
def opened():
    db = sqlite3.connect(":memory:", check_same_thread=False)
    db.execute("CREATE TABLE vessel (%s)" % COLUMNS)
    db.executemany("INSERT INTO vessel VALUES (?, ?, ?, ?, ?, ?, ?, ?)", VESSELS)
    db.commit()
    return db
db = opened()
cursor = db.cursor()
each = [opened() for _ in range(4)]
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
def four_threads():
    def work(n):
        for i in range(500):
            each[n].execute("SELECT id, name FROM vessel WHERE id = ?", (i,)).fetchone()
    on_threads(work)
measure([(by_key, 2000), (by_key_wide, 2000), (by_key_cursor, 2000), (rows_at_once, 20), (rows_iterated, 20), (four_threads, 2000)])
"""
PSYCOPG = """
import psycopg
URL = "host=127.0.0.1 user=harbour dbname=postgres port=" + sys.argv[3]
db = psycopg.connect(URL, autocommit=True)
db.execute("CREATE TABLE IF NOT EXISTS vessel (%s)" % COLUMNS)
db.execute("TRUNCATE vessel")
db.cursor().executemany("INSERT INTO vessel VALUES (%s, %s, %s, %s, %s, %s, %s, %s)", VESSELS)
each = [psycopg.connect(URL, autocommit=True) for _ in range(4)]
cursor = db.cursor()
def psycopg_by_key():
    for i in range(500):
        cursor.execute("SELECT id, name FROM vessel WHERE id = %s", (i,))
        cursor.fetchone()
def psycopg_rows():
    for i in range(10):
        cursor.execute("SELECT * FROM vessel")
        cursor.fetchall()
def psycopg_four_threads():
    def work(n):
        cursor = each[n].cursor()
        for i in range(200):
            cursor.execute("SELECT id, name FROM vessel WHERE id = %s", (i,))
            cursor.fetchone()
    on_threads(work)
loop = asyncio.new_event_loop()
async def connect():
    return [await psycopg.AsyncConnection.connect(URL, autocommit=True) for _ in range(50)]
tasks = loop.run_until_complete(connect())
def psycopg_fifty_tasks():
    async def work(db):
        cursor = db.cursor()
        for i in range(20):
            await cursor.execute("SELECT id, name FROM vessel WHERE id = %s", (i,))
            await cursor.fetchone()
    async def every():
        await asyncio.gather(*(work(db) for db in tasks))
    loop.run_until_complete(every())
measure([(psycopg_by_key, 500), (psycopg_rows, 10), (psycopg_four_threads, 800), (psycopg_fifty_tasks, 1000)])
"""
ORM = """
from sqlalchemy import create_engine, select
from sqlalchemy.orm import DeclarativeBase, Mapped, Session, mapped_column
class Base(DeclarativeBase):
    pass
class Vessel(Base):
    __tablename__ = "vessel"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    flag: Mapped[str]
    owner: Mapped[str]
engine = create_engine("sqlite://")
Base.metadata.create_all(engine)
with Session(engine) as session:
    session.add_all(Vessel(id=i, name="Vessel %d" % i, flag="NO", owner="Tern") for i in range(1000))
    session.commit()
def orm_by_key():
    with Session(engine) as session:
        for i in range(200):
            vessel = session.scalars(select(Vessel).where(Vessel.id == i)).one()
            vessel.name, vessel.flag
def orm_rows():
    with Session(engine) as session:
        for vessel in session.scalars(select(Vessel)):
            vessel.name, vessel.flag
measure([(orm_by_key, 200), (orm_rows, 1)])
"""
PROGRAMS = {"sqlite3": SQLITE, "psycopg": PSYCOPG, "orm": ORM}


def _run(
    program: Path, folder: Path | None, words: list[str], wishes: dict[str, str]
) -> dict[str, float]:
    env = {key: value for key, value in os.environ.items() if not key.startswith("ASKLESS")}
    if folder is not None:
        env |= {"PYTHONPATH": str(PROBE / "inject"), "ASKLESS_CAPTURE": str(folder), **wishes}
        env |= {"ASKLESS_FALLBACK": str(PROBE / "fallback")}
    done = subprocess.run(
        [sys.executable, str(program), *words], env=env, capture_output=True, text=True, check=True
    )
    found: dict[str, float] = json.loads(done.stdout)
    return found


def measure(
    rounds: int = 7,
    turns: int = 8,
    names: tuple[str, ...] = tuple(PROGRAMS),
    track_use: bool = False,
    sample: bool = False,
) -> dict[str, dict[str, float]]:
    """Bare and recorded runs in turns; the fastest of each, the time added, and the ratio with its
    spread over rounds.
    """
    rows: dict[str, dict[str, float]] = {}
    with tempfile.TemporaryDirectory() as folder, ExitStack() as servers:
        for name in names:
            program = Path(folder) / f"bench_{name}.py"
            program.write_text(VESSELS + PROGRAMS[name])
            words = [str(turns), "inside" if sample else "outside"]
            wishes = (
                {"ASKLESS_TRACK_USE": "1"}
                if track_use
                else {"ASKLESS_SAMPLE": "50"}
                if sample
                else {}
            )
            if name == "psycopg":
                sys.path.insert(0, str(ROOT))
                from tests.servers import postgresql

                words.append(str(servers.enter_context(postgresql(logging=False)).port))
            bare, recorded = [], []
            for turn in range(rounds):
                capture = Path(folder) / f"{name}-{turn}"
                capture.mkdir()
                bare.append(_run(program, None, words, {}))
                recorded.append(_run(program, capture, words, wishes))
                assert any(capture.iterdir()), "nothing was recorded"
            for work in bare[0]:
                rows[work] = {
                    "bare_us": min(run[work] for run in bare),
                    "recorded_us": min(run[work] for run in recorded),
                    "added_us": min(run[work] for run in recorded) - min(run[work] for run in bare),
                    "ratio": median(r[work] / b[work] for r, b in zip(recorded, bare, strict=True)),
                }
    return rows


if __name__ == "__main__":
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--rounds", type=int, default=7)
    parser.add_argument("--only", choices=list(PROGRAMS), action="append")
    parser.add_argument("--track-use", action="store_true")
    parser.add_argument(
        "--sample",
        action="store_true",
        help="keep one request in 50, and time those that are left out",
    )
    parser.add_argument("--json", action="store_true")
    options = parser.parse_args()
    figures = measure(
        options.rounds,
        names=tuple(options.only or PROGRAMS),
        track_use=options.track_use,
        sample=options.sample,
    )
    if options.json:
        print(json.dumps(figures))
    else:
        print(f"{'one query':22}{'bare µs':>10}{'recorded µs':>13}{'added µs':>10}{'ratio':>8}")
        for name, row in figures.items():
            print(
                f"{name:22}{row['bare_us']:10.2f}{row['recorded_us']:13.2f}{row['added_us']:10.2f}{row['ratio']:8.2f}"
            )
