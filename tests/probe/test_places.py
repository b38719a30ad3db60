"""Whose line it is: the application's wherever it is installed, if a query was built, never one
that only passes on.
"""

from __future__ import annotations

import sqlite3
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

from askless.capture.reading import read
from askless.core.records.model import Request
from tests.conftest import run

Record = Callable[..., Path]

INSTALLED = """
import sqlite3
from harbour_store import load
def main():
    load(sqlite3.connect(":memory:"))
    own = sqlite3.connect(":memory:")
    own.execute("SELECT 'own'").fetchone()
"""
STORE = """
def load(db):
    return db.execute("SELECT 'stored'").fetchone()
"""
STUB = """#!/usr/bin/python3
import sys
from harbour_office.cli import main
if __name__ == "__main__":
    sys.exit(main())
"""


def functions(request: Request, i: int) -> list[str]:
    place = request.place(i)
    return (
        [f"{Path(step.file).name}:{step.function}" for step in place.path()]
        if place is not None
        else []
    )


@pytest.fixture
def installed(tmp_path: Path) -> tuple[Path, dict[str, str]]:
    """An application and a library of its, both in site-packages, and the console script that
    starts it.
    """
    library = tmp_path / "site-packages"
    package = library / "harbour_office"
    package.mkdir(parents=True)
    (package / "__init__.py").touch()
    (package / "cli.py").write_text(INSTALLED)
    (package / "__main__.py").write_text("from harbour_office.cli import main\nmain()\n")
    (library / "harbour_store.py").write_text(STORE)
    stub = tmp_path / "bin" / "harbour-office"
    stub.parent.mkdir()
    stub.write_text(STUB)
    return stub, {"PYTHONPATH": str(library)}


@pytest.mark.parametrize("start", ["console script", "module"])
def test_an_installed_application_has_lines(
    start: str, installed: tuple[Path, dict[str, str]], tmp_path: Path
) -> None:
    stub, env = installed
    words = [stub] if start == "console script" else ["-m", "harbour_office"]
    ran = run("capture", "app", "-o", tmp_path / "c", "--", sys.executable, *words, env=env)
    assert ran.code == 0 and "the application's code: harbour_office, as installed" in ran.err
    (request,) = read(tmp_path / "c")
    assert functions(request, 0)[0] == "cli.py:main" and functions(request, 1)[0] == "cli.py:main"
    assert all("harbour-office" not in step for i in range(2) for step in functions(request, i)), (
        "a stub is no line"
    )


def test_whoever_records_may_name_the_code(
    installed: tuple[Path, dict[str, str]], tmp_path: Path
) -> None:
    stub, env = installed
    words = ["--app-package", "harbour_store", "--", sys.executable, stub]
    assert run("capture", "app", "-o", tmp_path / "c", *words, env=env).code == 0
    (request,) = read(tmp_path / "c")
    assert functions(request, 0)[:2] == ["harbour_store.py:load", "cli.py:main"]


def test_where_all_code_is_a_librarys_the_nearest_line_counts(
    record: Record, tmp_path: Path
) -> None:
    library = tmp_path / "site-packages"
    library.mkdir()
    (library / "harbour_store.py").write_text(STORE)
    code = "import sys; sys.path.insert(0, 'site-packages')\nimport sqlite3, harbour_store\n"
    code += "class Middleware:\n    def __init__(self, get_response):\n        self.get_response = get_response\n"
    code += "    def __call__(self, request):\n        answer = self.get_response(request)\n        return answer\n"
    code += "Middleware(harbour_store.load)(sqlite3.connect(':memory:'))\n"
    (request,) = read(record(code))
    assert (
        functions(request, 0) == ["harbour_store.py:load"]
        or functions(request, 0)[0] == "script.py:<module>"
    )
    place = request.place(0)
    assert place is not None and place.function != "__call__"


PASSING = """
import functools, sqlite3
from concurrent.futures import ThreadPoolExecutor
db = sqlite3.connect(":memory:", check_same_thread=False)
def rows(sql, values=()):
    return db.execute(sql, values).fetchall()
def retried(function):
    @functools.wraps(function)
    def again(*args, **kwargs):
        return function(*args, **kwargs)
    return again
class Wrapper:
    def __call__(self, execute, sql, values, many, context):
        return execute(sql, values, many, context)
@retried
def listed():
    return rows("SELECT 'helper'")
def wrapped():
    def execute(sql, values, many, context):
        return db.execute(sql, values).fetchone()
    return Wrapper()(execute, "SELECT 'wrapper'", (), False, {})
def call(number):
    return db.execute("SELECT 'pool', ?", (number,)).fetchone()
def pooled():
    with ThreadPoolExecutor(1) as pool:
        return pool.submit(call, 3).result()
def looped():
    for number in range(2):
        rows("SELECT 'loop', ?", (number,))
listed(); wrapped(); pooled(); looped()
"""


def test_lines_that_only_pass_a_call_on_are_not_the_place(record: Record) -> None:
    (request,) = read(record(PASSING))
    first = {request.text(i).split("'")[1]: functions(request, i) for i in range(len(request))}
    assert first["helper"][0] == "script.py:listed"
    assert first["wrapper"][0] == "script.py:wrapped"
    assert first["pool"][:2] == ["script.py:call", "script.py:pooled"], (
        "the line that waits is its caller"
    )
    assert first["loop"][0] == "script.py:looped"


BUILT = """
from sqlalchemy import ForeignKey, create_engine, select
from sqlalchemy.orm import DeclarativeBase, Mapped, Session, joinedload, mapped_column, relationship
class Base(DeclarativeBase): pass
class Owner(Base):
    __tablename__ = "owner"
    id: Mapped[int] = mapped_column(primary_key=True)
class Vessel(Base):
    __tablename__ = "vessel"
    id: Mapped[int] = mapped_column(primary_key=True)
    owner_id: Mapped[int] = mapped_column(ForeignKey("owner.id"))
    owner: Mapped[Owner] = relationship()
engine = create_engine("sqlite://")
Base.metadata.create_all(engine)
def statement():
    return select(Vessel).options(joinedload(Vessel.owner))
def send(session, what):
    return session.scalars(what).all()
def legacy(session):
    return session.query(Owner).filter(Owner.id > 1)
with Session(engine) as session:
    send(session, statement())
    for owner in legacy(session):
        pass
    session.scalars(select(Owner.id)).all()
"""


def test_the_line_that_built_a_statement_comes_first(record: Record) -> None:
    folder = record(BUILT)
    (request,) = read(folder)
    asked = {
        request.text(i): functions(request, i)
        for i in range(len(request))
        if "FROM" in request.text(i)
    }
    joined = next(path for text, path in asked.items() if "JOIN owner" in text)
    assert joined[0] == "script.py:statement"
    assert (
        next(path for text, path in asked.items() if "owner.id > ?" in text)[0]
        == "script.py:legacy"
    )
    assert request.tables.models.keys() == {("sqlalchemy", "Vessel"), ("sqlalchemy", "Owner")}, (
        "joined ones as well"
    )


LIBRARY = """
import flask
from sqlalchemy import create_engine, select, Column, Integer
from sqlalchemy.orm import Session, declarative_base
class Vessel(declarative_base()):
    __tablename__ = "vessel"
    id = Column(Integer, primary_key=True)
engine = create_engine("sqlite://")
Vessel.metadata.create_all(engine)
app = flask.Flask("harbour")
def statement():
    return select(Vessel)
@app.get("/vessels")
def vessels():
    wanted = statement()
    with Session(engine) as session:
        return str(len(session.scalars(wanted).all()))
"""


def test_a_librarys_statement_is_to_be_changed_where_it_is_built(
    record: Record, tmp_path: Path
) -> None:
    """The client's line, outside of the request, is not a part of it."""
    library = tmp_path / "site-packages"
    library.mkdir()
    (library / "harbour_pages.py").write_text(LIBRARY)
    code = "import sys; sys.path.insert(0, 'site-packages')\nimport harbour_pages\n"
    folder = record(
        code + "assert harbour_pages.app.test_client().get('/vessels').status_code == 200\n"
    )
    request = next(request for request in read(folder) if request.kind == "http")
    (asked,) = (i for i in range(len(request)) if "FROM vessel" in request.text(i))
    assert functions(request, asked)[:2] == [
        "harbour_pages.py:statement",
        "harbour_pages.py:vessels",
    ]


def test_what_was_imported_and_not_recorded_is_said(tmp_path: Path) -> None:
    library = tmp_path / "site-packages"
    library.mkdir()
    (library / "cx_Oracle.py").write_text("")
    script = tmp_path / "other.py"
    script.write_text(
        "import cx_Oracle\ntry:\n    import pymssql_that_is_not_there\nexcept ImportError:\n    pass\nprint('ran')"
    )
    env = {"PYTHONPATH": str(library)}
    ran = run("capture", "app", "-o", tmp_path / "c", "--", sys.executable, script, env=env)
    assert ran.code == 0 and ran.out == "ran\n"
    assert (
        "nothing was recorded" in ran.err
        and "imported and not recorded: driver cx_Oracle\n" in ran.err
    )
    assert list((tmp_path / "c").iterdir()), "the reason stands in the capture"


LISTENING = """
import socket, sqlite3
db = sqlite3.connect(":memory:")
db.execute("CREATE TABLE vessel (id INTEGER PRIMARY KEY, name TEXT)")
db.executemany("INSERT INTO vessel VALUES (?, ?)", [(n, "Tern %d" % n) for n in range(200)])
listening = socket.socket()
listening.bind(("127.0.0.1", 0))
if SERVES:
    listening.listen()
for key, in db.execute("SELECT id FROM vessel").fetchall():
    db.execute("SELECT id, name FROM vessel WHERE id = ?", (key,)).fetchone()
"""


@pytest.mark.parametrize("serves", [True, False])
def test_what_may_be_of_many_requests_is_never_urgent(serves: bool, record: Record) -> None:
    folder = record(LISTENING.replace("SERVES", str(serves)))
    (found,) = run("findings", folder, "--network-latency", "5ms", "--json").json["findings"]
    assert found["pattern"] == "n-plus-one" and (found["severity"] == "urgent") is not serves
    assert any("identified request" in doubt for doubt in found["caveats"]) is serves


def test_long_texts_and_literals_are_cut(record: Record) -> None:
    folder = record(
        """
        import sqlite3
        db = sqlite3.connect(":memory:")
        db.execute("CREATE TABLE vessel (id INTEGER, name TEXT, note TEXT)")
        for turn in range(4):
            rows = ", ".join("(%d, 'tern %d', 'n')" % (turn * 9000 + n, n) for n in range(9000))
            db.execute("INSERT INTO vessel VALUES " + rows)
            db.execute("SELECT * FROM vessel WHERE note = '%s' AND id = %d" % ("y" * 100000, turn)).fetchall()
        """
    )
    (request,) = read(folder)
    inserts = [i for i in range(len(request)) if request.text(i).startswith("INSERT")]
    assert (
        len({request.statement(i).shape.digest for i in inserts}) == 1
        and request.rows[inserts[0]] == 9000
    )
    searched = [i for i in range(len(request)) if request.text(i).startswith("SELECT")]
    assert [request.values(i)[1] for i in searched] == [0, 1, 2, 3]
    assert sum(path.stat().st_size for path in folder.iterdir()) < 200_000
    text = request.text(searched[0])
    sqlite3.connect(folder.parent / "harbour.db").close()
    ran = run("plan", "--db", f"sqlite:///{folder.parent}/harbour.db", "--sql", text)
    assert ran.code != 0 and "too long to be stored completely" in ran.err
