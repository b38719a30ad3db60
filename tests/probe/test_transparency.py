"""Programs come out the same, bare and recorded: Python's own tests of `sqlite3`, and what each
driver's classes give.
"""

from __future__ import annotations

import os
import re
import subprocess
import sys
from fnmatch import fnmatchcase
from pathlib import Path

import pytest

from askless.capture.reading import read
from tests import servers
from tests.conftest import HARBOUR, run
from tests.probe.test_recorder import INTERPRETERS, asked, version

PARTS = [
    "dbapi",
    "factory",
    "hooks",
    "regression",
    "transactions",
    "types",
    "userfunctions",
    "backup",
    "dump",
]


def modules(python: str) -> list[str]:
    """The modules of Python's tests of sqlite3, if they are installed."""
    old, new = (
        [f"sqlite3.test.{part}" for part in PARTS],
        [f"test.test_sqlite3.test_{part}" for part in PARTS],
    )
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
    bare = subprocess.run(
        command, capture_output=True, text=True, cwd=tmp_path, env=dict(os.environ), check=False
    )
    recorded = run("capture", "app", "-o", tmp_path / "c", "--", *command, cwd=tmp_path)
    tests, failed = outcome(bare.stderr)
    tests_recorded, failed_recorded = outcome(recorded.err)
    assert (tests_recorded, failed_recorded) == (tests, failed)
    assert "could not be recorded" not in recorded.err and "recording stopped" not in recorded.err
    assert (
        len(asked(tmp_path / "c")) >= 3 * tests / 2
        if tests > 100
        else len(asked(tmp_path / "c")) > 20
    )


def test_no_code_of_the_programs_own_runs_because_of_us(tmp_path: Path) -> None:
    """Values, rows and parameters that shout when they are touched are touched as often as without
    us.
    """
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


CLASSES = """
import logging, sys
import MySQLdb, MySQLdb.cursors, psycopg, psycopg2, psycopg2.extensions as extensions, psycopg2.extras as extras
import pymysql, pymysql.cursors
postgresql = dict(host="127.0.0.1", port=int(sys.argv[1]), user="harbour", dbname="postgres")
mariadb = dict(host="127.0.0.1", port=int(sys.argv[2]), user="harbour", password="tide", database="harbour")
CALLS = "SELECT g AS call FROM generate_series(1, 50) g"

class Default(extensions.connection):
    def cursor(self, *args, **kwargs):
        kwargs.setdefault("cursor_factory", extras.RealDictCursor)
        return super().cursor(*args, **kwargs)

class Listed(extensions.cursor):
    def fetchone(self):
        return list(super().fetchone())

class ByName(extensions.connection):
    def cursor(self, *args, **kwargs):
        return psycopg2._psycopg.connection.cursor(self, *args, **kwargs)

for factory in (None, extras.DictConnection, extras.RealDictConnection, extras.NamedTupleConnection,
                extras.LoggingConnection, extras.MinTimeLoggingConnection, Default, ByName):
    db = psycopg2.connect(connection_factory=factory, **postgresql)
    if isinstance(db, extras.LoggingConnection):
        db.initialize(logging.getLogger("calls"))
    cursor = db.cursor()
    print(type(db).__name__, type(cursor).__name__, iter(cursor) is cursor)
    cursor.execute("SELECT 1 AS berth, 2 AS quay")
    print(cursor.fetchone())
    cursor.execute(CALLS)
    print([row for row in cursor])
    cursor = db.cursor(cursor_factory=Listed)
    cursor.execute(CALLS)
    print(cursor.fetchone(), cursor.fetchmany(3))
    walk = db.cursor("walk", cursor_factory=extras.DictCursor, withhold=True, scrollable=True)
    walk.execute(CALLS)
    print([row for row in walk], walk.scrollable, walk.withhold)
    db.commit()
db = psycopg2.connect(cursor_factory=extras.DictCursor, **postgresql)
print(db.cursor_factory.__name__, type(db.cursor()).__name__)
with psycopg.connect(**postgresql) as db:
    for cursor in (db.cursor(), db.cursor("walk")):
        cursor.execute(CALLS)
        print(type(cursor).__name__, iter(cursor) is cursor, list(cursor), cursor.fetchone())
for driver, cursors in (pymysql, pymysql.cursors), (MySQLdb, MySQLdb.cursors):
    for name in "Cursor", "DictCursor", "SSCursor", "SSDictCursor":
        cursor = driver.connect(cursorclass=getattr(cursors, name), **mariadb).cursor()
        cursor.execute("SELECT 1 AS berth UNION SELECT 2")
        print(name, iter(cursor) is cursor, next(cursor), list(cursor), cursor.fetchone())
"""


def test_every_class_that_a_driver_ships_gives_what_it_gives_without_us(
    tmp_path: Path, postgresql: servers.Server, mariadb: servers.Server
) -> None:
    script = tmp_path / "classes.py"
    script.write_text(CLASSES)
    command = [sys.executable, str(script), str(postgresql.port), str(mariadb.port)]
    bare = subprocess.run(command, capture_output=True, text=True, check=True)
    recorded = run("capture", "app", "-o", tmp_path / "c", "--", *command)
    assert recorded.out == bare.stdout
    assert "can't record cursors of cursor, which ByName makes" in recorded.err
    (request,) = read(tmp_path / "c")
    rows = [request.rows[i] for i in range(len(request)) if "generate_series" in request.text(i)]
    assert rows == [50] * 25, "each row is counted, however it is fetched"


LOOKS = """
import importlib, inspect, re, sys
def told(call, *args):
    try:
        return re.sub("0x[0-9a-f]+", "", str(call(*args)))
    except (ValueError, TypeError) as error:
        return type(error).__name__
def show(name, value):
    looks = [getattr(value, part, None) for part in ("__name__", "__qualname__", "__module__", "__doc__")]
    looks += [told(inspect.signature, value) if callable(value) else ""]
    kind = type(value).__name__, inspect.isbuiltin(value), inspect.iscoroutinefunction(value)
    print(name, repr(looks), repr(kind), sep="\\t")
for name in sys.argv[1:]:
    module = importlib.import_module(name)
    for key, value in sorted(vars(module).items()):
        if key.startswith("__") or not callable(value):
            continue
        show(name + "." + key, value)
        if isinstance(value, type) and value.__module__.strip("_").split(".")[0] == name.split(".")[0]:
            for part in sorted(dir(value)):
                if part not in ("__dict__", "__weakref__", "__doc__", "__module__", "__class__", "__slots__"):
                    show(name + "." + key + "." + part, getattr(value, part, None))
"""
MODULES = [
    "sqlite3", "psycopg", "psycopg2", "psycopg2.extensions", "psycopg2.extras", "asyncpg", "pymysql.cursors",
    "pymysql.connections", "MySQLdb.cursors", "MySQLdb.connections", "aiosqlite", "threading", "concurrent.futures",
    "multiprocessing.pool", "os", "socket",
]  # fmt: skip
ROOT = Path(__file__).parents[2]


def test_what_differs_to_the_eye_is_what_the_docs_list(tmp_path: Path) -> None:
    """Names, signatures, documentation and kinds of everything public in the modules that are
    watched.
    """
    script = tmp_path / "looks.py"
    script.write_text(LOOKS)
    command = [sys.executable, str(script), *MODULES]
    bare = subprocess.run(command, capture_output=True, text=True, check=True).stdout
    recorded = run("capture", "app", "-o", tmp_path / "c", "--", *command).out

    def rows(text: str) -> dict[str, list[str]]:
        return {line.split("\t")[0]: line.split("\t")[1:] for line in text.splitlines()}

    before, after = rows(bare), rows(recorded)
    assert before.keys() <= after.keys() and len(before) > 1000
    assert all("_askless" in name for name in after.keys() - before.keys())
    page = (ROOT / "docs" / "transparency.md").read_text(encoding="utf-8")
    listed = page.split("```text")[1].split("```")[0].split()
    different = {name for name in before if before[name] != after[name]}
    assert [
        name for name in different if not any(fnmatchcase(name, pattern) for pattern in listed)
    ] == []
    assert [
        pattern for pattern in listed if not any(fnmatchcase(name, pattern) for name in different)
    ] == []


EXECUTIONS = """
import sys
from models import PortCall, Vessel
from sqlalchemy import create_engine, select
from sqlalchemy.orm import Session, joinedload, selectinload, subqueryload
engine = create_engine("sqlite:///" + sys.argv[1])

def shown(rows):
    return [(vessel.name, sorted(call.id for call in vessel.calls)) for vessel in rows]

def pages(db):
    both = selectinload(Vessel.calls)
    yield lambda: shown(db.query(Vessel).options(both).yield_per(3))
    yield lambda: shown(db.query(Vessel).options(both.selectinload(PortCall.vessel)).yield_per(3))
    yield lambda: shown(db.query(Vessel).yield_per(2))
    yield lambda: shown(db.query(Vessel).options(joinedload(Vessel.calls)).yield_per(3))
    yield lambda: shown(db.query(Vessel).options(subqueryload(Vessel.calls)).yield_per(3))
    yield lambda: shown(db.scalars(select(Vessel).options(both), execution_options={"yield_per": 3}))
    yield lambda: [len(rows) for rows in db.scalars(select(Vessel).options(both)).partitions(3)]
    yield lambda: shown(db.query(Vessel).options(both).execution_options(stream_results=True))
    yield lambda: shown(db.query(Vessel).options(both).populate_existing().enable_eagerloads(False))
    yield lambda: shown([db.merge(Vessel(id=2, name="Tern"), load=True)])
    kept = db.get(Vessel, 3)
    db.refresh(kept), db.expunge(kept)
    yield lambda: db.merge(kept, load=False).name

with Session(engine) as db:
    for page in pages(db):
        db.rollback()
        try:
            print(page())
        except Exception as error:
            print(type(error).__name__, error)
"""


@pytest.mark.parametrize("options", [(), ("--track-use",)])
def test_executions_of_sqlalchemy_come_out_the_same(
    options: tuple[str, ...], harbour: Path, tmp_path: Path
) -> None:
    """Streams, partitions and merges, with eager loads: an event on executions alone changes what
    some of them do.
    """
    script = tmp_path / "pages.py"
    script.write_text(EXECUTIONS)
    words, paths = [sys.executable, script, harbour], {"PYTHONPATH": str(HARBOUR)}
    env = os.environ | paths
    bare = subprocess.run(words, capture_output=True, text=True, check=True, env=env)
    ran = run("capture", "app", *options, "-o", tmp_path / "c", "--", *words, env=paths)
    assert ran.code == 0 and ran.out.startswith(bare.stdout), ran.out
    assert "can't" not in ran.err, ran.err
    lines = bare.stdout.splitlines()
    assert len(lines) == 11 and len(set(lines[:3])) == 1 and "yield_per" in lines[3], lines
