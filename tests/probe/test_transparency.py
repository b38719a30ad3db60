"""Python's own tests of `sqlite3`, bare and recorded: the same passes and failures, but for what is known and said.

Known differences, each told in the README: a connection is of a subclass, and a warning that the module raises from C
is put down to the recorder's line. `benchmarks/` has no part in this: nothing is timed.
"""

from __future__ import annotations

import os
import re
import subprocess
import sys
from pathlib import Path

import pytest

from tests.conftest import run
from tests.probe.test_recorder import INTERPRETERS, asked, version

PARTS = ["dbapi", "factory", "hooks", "regression", "transactions", "types", "userfunctions", "backup", "dump"]
SUBCLASS = {"test_database_keyword"}
WARNED_ELSEWHERE = {
    "test_connect_positional_arguments",
    "test_execute_named_param_and_sequence",
    "test_sqlite_date",
    "test_sqlite_timestamp",
}


def modules(python: str) -> list[str]:
    """The modules of Python's tests of sqlite3, where they are installed."""
    old, new = [f"sqlite3.test.{part}" for part in PARTS], [f"test.test_sqlite3.test_{part}" for part in PARTS]
    chosen = old if version(python) < (3, 11) else new
    done = subprocess.run([python, "-c", f"import {chosen[0]}"], capture_output=True, check=False)
    return chosen if done.returncode == 0 else []


def outcome(text: str) -> tuple[int, set[str]]:
    """How many tests ran, and which failed."""
    ran = re.search(r"^Ran (\d+) tests", text, re.M)
    assert ran, text[-2000:]
    return int(ran[1]), set(re.findall(r"^(?:FAIL|ERROR): (\w+)", text, re.M))


@pytest.mark.parametrize("python", sorted({sys.executable, *INTERPRETERS}))
def test_pythons_own_tests_of_sqlite3_come_out_the_same(python: str, tmp_path: Path) -> None:
    if version(python) < (3, 9):
        pytest.skip("the recorder begins at Python 3.9")
    names = modules(python)
    if not names:
        pytest.skip(f"{python} comes without its tests of sqlite3")
    command = [python, "-m", "unittest", *names]
    bare = subprocess.run(command, capture_output=True, text=True, cwd=tmp_path, env=dict(os.environ), check=False)
    recorded = run("capture", "app", "-o", tmp_path / "c", "--", *command, cwd=tmp_path)
    tests, failed = outcome(bare.stderr)
    tests_recorded, failed_recorded = outcome(recorded.err)
    assert tests_recorded == tests and failed <= failed_recorded
    assert failed_recorded - failed <= SUBCLASS | WARNED_ELSEWHERE
    assert "could not be recorded" not in recorded.err and "recording stopped" not in recorded.err
    assert len(asked(tmp_path / "c")) >= 3 * tests / 2 if tests > 100 else len(asked(tmp_path / "c")) > 20


def test_no_code_of_the_programs_own_runs_because_of_us(tmp_path: Path) -> None:
    """Values, rows and parameters that shout when they are touched are touched as often as without us."""
    script = tmp_path / "shouts.py"
    script.write_text(
        """
import sqlite3
touched = []

class Parameters:
    def __len__(self):
        touched.append("len")
        return 1
    def __getitem__(self, i):
        touched.append("item")
        return 7

class Mapping(dict):
    def __missing__(self, key):
        touched.append("missing")
        return 3
    def __iter__(self):
        touched.append("iter")
        return super().__iter__()
    def values(self):
        touched.append("values")
        return super().values()

class Value:
    def __conform__(self, protocol):
        touched.append("conform")
        return 5
    def __str__(self):
        touched.append("str")
        return "x"
    __repr__ = __str__

class Row:
    def __init__(self, cursor, row):
        self.row = row
    def __iter__(self):
        touched.append("row")
        return iter(self.row)
    def __del__(self):
        pass

db = sqlite3.connect(":memory:")
db.execute("SELECT ?", Parameters()).fetchall()
db.execute("SELECT :a, :b", Mapping(a=1)).fetchone()
db.execute("SELECT ?", (Value(),)).fetchall()
db.execute("CREATE TABLE t (a)")
db.executemany("INSERT INTO t VALUES (?)", [(Value(),), [1], (2,)])
db.row_factory = Row
rows = db.execute("SELECT a FROM t").fetchall()
one = db.execute("SELECT a FROM t").fetchone()
print(len(rows), touched)
"""
    )
    bare = subprocess.run([sys.executable, script], capture_output=True, text=True, check=True)
    recorded = run("capture", "app", "-o", tmp_path / "c", "--", sys.executable, script)
    assert recorded.out == bare.stdout and "conform" in bare.stdout
    assert len(asked(tmp_path / "c")) >= 6
