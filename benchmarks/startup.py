"""How long commands take to start, as CPU time over that of `python -c "import argparse"`, all in
one run.

The commands take turns, so that a machine that slows down slows all of them; the ratios are of
medians.
"""

from __future__ import annotations

import compileall
import os
import resource
import subprocess
import sys
import tempfile
from pathlib import Path
from statistics import median

import askless

ROUNDS = 15
AIMS = {  # at most so many times the floor
    "--help": 2.0, "--version": 2.0, "a usage error": 2.0, "shell completion": 2.0, "findings --help": 2.0,
    "requests": 8.0, "findings": 8.0,
}  # fmt: skip
OFFICE = """
import sqlite3, askless
db = sqlite3.connect(":memory:")
db.execute("CREATE TABLE vessel (id INTEGER PRIMARY KEY, name TEXT, flag TEXT)")
db.executemany("INSERT INTO vessel VALUES (?, ?, ?)", [(n, "Tern %d" % n, "NO") for n in range(200)])
for request in range(64):
    with askless.request("page %d" % (request % 8)):
        for key in [row[0] for row in db.execute("SELECT id FROM vessel WHERE flag = ? LIMIT 6", ("NO",)).fetchall()]:
            db.execute("SELECT id, name FROM vessel WHERE id = ?", (key,)).fetchone()
        db.execute("SELECT count(*) FROM vessel WHERE flag = ?", ("NO",)).fetchone()
"""
PLAN = "Seq Scan on vessel  (cost=0.00..35.50 rows=2550 width=4)\n"


def cpu_s(words: list[str], env: dict[str, str]) -> float:
    """The CPU time of one run, its children's included."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    subprocess.run(
        words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, env=env, check=False
    )
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


def main() -> None:
    """Record a small capture, then measure. Our modules are compiled first, as an installer does."""
    compileall.compile_dir(Path(askless.__file__).parent, quiet=1)
    with tempfile.TemporaryDirectory() as folder:
        capture, script, plan = (
            Path(folder) / "calls",
            Path(folder) / "office.py",
            Path(folder) / "plan.txt",
        )
        script.write_text(OFFICE)
        plan.write_text(PLAN)
        program = [sys.executable, "-m", "askless"]
        subprocess.run(
            [*program, "capture", "app", "-o", str(capture), "--", sys.executable, str(script)],
            check=True, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        completion = {
            "_ARGCOMPLETE": "1", "_ARGCOMPLETE_IFS": "\n", "_ARGCOMPLETE_STDOUT_FILENAME": os.devnull,
            "COMP_LINE": "askless findings --", "COMP_POINT": "19", "_ARGCOMPLETE_SUPPRESS_SPACE": "1",
        }  # fmt: skip
        commands: dict[str, tuple[list[str], dict[str, str]]] = {
            "floor": ([sys.executable, "-c", "import argparse"], {}),
            "--help": ([*program, "--help"], {}),
            "--version": ([*program, "--version"], {}),
            "a usage error": ([*program, "nowhere"], {}),
            "shell completion": (program, completion),
            "findings --help": ([*program, "findings", "--help"], {}),
            "requests": ([*program, "requests", str(capture)], {}),
            "findings": (
                [*program, "findings", str(capture)],
                {"XDG_CACHE_HOME": str(Path(folder) / "cache")},
            ),
            "findings, first look": (
                [*program, "findings", str(capture)],
                {"XDG_CACHE_HOME": os.devnull},
            ),
            "plan --file": ([*program, "plan", "--file", str(plan)], {}),
            "import sqlglot": ([sys.executable, "-c", "import sqlglot"], {}),
            "import rich.table": ([sys.executable, "-c", "import rich.table"], {}),
            "import sqlalchemy": ([sys.executable, "-c", "import sqlalchemy"], {}),
        }
        taken: dict[str, list[float]] = {name: [] for name in commands}
        for _ in range(ROUNDS):
            for name, (words, more) in commands.items():
                taken[name].append(cpu_s(words, {**os.environ, **more}))
    floor = median(taken["floor"])
    print(f"{'command':20} {'CPU ms':>8} {'x floor':>8}  aim")
    for name, times in taken.items():
        aim = AIMS.get(name)
        print(
            f"{name:20} {median(times) * 1e3:8.0f} {median(times) / floor:8.1f}  {f'at most {aim:g}' if aim else ''}"
        )


if __name__ == "__main__":
    main()
