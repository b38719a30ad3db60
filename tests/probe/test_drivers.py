"""Every driver against its real server: what is recorded is what the server's own log says."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import pytest

from askless.capture.reading import read
from askless.core.records.model import Request
from tests import servers

Record = Callable[..., Path]


def words(statement: str) -> str:
    """A statement's first word and its table, in whatever way it was worded."""
    text = re.sub(r"^(?:statement: |execute [^:]+: )", "", statement).strip().rstrip(";")
    text = re.sub(r'^DECLARE "?\w+"? (?:\w+ )*CURSOR (?:WITH(?:OUT)? HOLD )?FOR ', "", text)
    first, *rest = text.split()
    if first.upper() in ("ROLLBACK", "SAVEPOINT", "RELEASE", "COPY"):
        return first.upper()
    # Placeholders are sent as values, or as the server's own.
    return " ".join(
        "?" if part[:1] in "%$?" or part.isdigit() else part for part in (first, *rest)[:3]
    ).lower()


def logged(server: servers.Server, since: int) -> Counter[str]:
    """What the server logged, without what drivers send to set up a session and to walk through an
    open cursor.
    """
    found: Counter[str] = Counter()
    for statement in server.statements(since):
        text = re.sub(r"^(?:statement: |execute [^:]+: )", "", statement)
        if statement.startswith("execute fetch from") or re.match(
            r"(FETCH|CLOSE|SET (NAMES|AUTOCOMMIT)|SELECT pg_advisory|DEALLOCATE)", text, re.I
        ):
            continue
        found[words(text)] += 1
    return found


def recorded(request: Request) -> Counter[str]:
    """What was recorded; an executemany counts as many times as it has parameter sets."""
    found: Counter[str] = Counter()
    for i in range(len(request)):
        text = request.text(i)
        if not text.startswith("SELECT pg_advisory"):
            found[words(text)] += request.batches.get(i, 1)
    return found


def query(request: Request, start: str) -> int:
    """The first query whose text begins so."""
    return next(i for i in range(len(request)) if request.text(i).startswith(start))


PSYCOPG = """
import psycopg, sys
from psycopg import sql
from psycopg.rows import dict_row
with psycopg.connect(host="127.0.0.1", port=int(sys.argv[1]), user="harbour", dbname="postgres") as db:
    db.execute("DROP TABLE IF EXISTS berth")
    db.execute("CREATE TABLE berth (id int primary key, name text)")
    db.commit()
    cursor = db.cursor()
    cursor.executemany("INSERT INTO berth VALUES (%s, %s)", [(i, "Quay %d" % i) for i in range(50)])
    for i in range(5):
        assert cursor.execute("SELECT name FROM berth WHERE id = %s", (i,)).fetchone() == ("Quay %d" % i,)
    cursor.execute("SELECT id, name FROM berth WHERE id < %(most)s", {"most": 40})
    assert len(list(cursor)) == 40
    with db.cursor(name="walk") as walk:
        walk.itersize = 10
        walk.execute("SELECT id FROM berth ORDER BY id")
        assert len([row for row in walk]) == 50
    with db.transaction():
        db.execute("UPDATE berth SET name = 'Pier' WHERE id = 3")
        with db.transaction():
            db.execute("UPDATE berth SET name = 'Mole' WHERE id = 4")
    with cursor.copy("COPY berth (id, name) FROM STDIN") as copy:
        for i in range(100, 120):
            copy.write_row((i, "Jetty"))
    with db.pipeline():
        one = db.execute("SELECT 1 + id FROM berth WHERE id = %s", [1])
        many = db.execute("SELECT 2 + id FROM berth WHERE id < %s", [30])
        assert one.fetchone() == (2,) and len(many.fetchall()) == 30
    assert len([row for row in cursor.stream("SELECT 3 + id FROM berth")]) == 70
    rows = db.cursor(row_factory=dict_row).execute(sql.SQL("SELECT {}, id FROM berth WHERE id = 3").format(sql.Identifier("name")))
    assert rows.fetchone() == {"name": "Pier", "id": 3}
    assert type(cursor) is psycopg.Cursor and type(db) is psycopg.Connection
    try:
        db.execute("SELECT nothing FROM nowhere")
    except psycopg.errors.UndefinedTable:
        db.rollback()
"""


def test_psycopg(record: Record, postgresql: servers.Server) -> None:
    since = postgresql.mark()
    (request,) = read(record(PSYCOPG, postgresql.port))
    assert recorded(request) == logged(postgresql, since)
    rows = {request.text(i)[:14]: request.rows[i] for i in range(len(request))}
    assert (
        rows["SELECT id, nam"] == 40
        and rows["SELECT id FROM"] == 50
        and rows["COPY berth (id"] == 20
    )
    assert (
        rows["SELECT 1 + id "] == 1
        and rows["SELECT 2 + id "] == 30
        and rows["SELECT 3 + id "] == 70
    )
    i = query(request, "SELECT name FROM")
    assert request.parameters[i] == (0,) and request.samples[i] == (("Quay 0",),)
    assert request.statement(i).system == "postgresql" and request.statement(i).columns == ("name",)
    assert request.bytes[i] == 10 and request.digests[i] and request.durations_ns[i] > 0
    place = request.place(i)
    assert place is not None and place.line == 12
    named = query(request, "SELECT id, name")
    assert request.statement(named).names == ("most",) and request.parameters[named] == (40,)
    assert 'SELECT "name", id' in request.text(query(request, 'SELECT "name"'))
    assert "UndefinedTable" in request.errors[query(request, "SELECT nothing")]
    assert request.in_transaction[i] == 1 and request.batches[query(request, "INSERT")] == 50


PSYCOPG_ASYNC = """
import asyncio, psycopg, askless, sys
async def main():
    async with await psycopg.AsyncConnection.connect(host="127.0.0.1", port=int(sys.argv[1]), user="harbour", dbname="postgres") as db:
        await db.execute("CREATE TEMP TABLE pilot (id int, name text)")
        async with db.cursor() as cursor:
            await cursor.executemany("INSERT INTO pilot VALUES (%s, %s)", [(i, "Pilot %d" % i) for i in range(20)])
            async def look(number):
                with askless.request("look %d" % number):
                    await cursor.execute("SELECT name FROM pilot WHERE id < %s", (number,))
                    count = 0
                    async for row in cursor:
                        count += 1
                    assert count == number
            for number in (3, 7):
                await asyncio.create_task(look(number))
            await cursor.execute("SELECT id FROM pilot")
            assert len(await cursor.fetchmany(5)) == 5 and await cursor.fetchone() == (5,)
            async with cursor.copy("COPY pilot TO STDOUT") as copy:
                assert len([row async for row in copy.rows()]) == 20
            assert len([row async for row in cursor.stream("SELECT 1 + id FROM pilot")]) == 20
        async with db.cursor("walk") as walk:
            await walk.execute("SELECT 2 + id FROM pilot")
            assert len(await walk.fetchall()) == 20
        async with db.transaction():
            await db.execute("DELETE FROM pilot WHERE id = 3")
        await db.commit()
asyncio.run(main())
"""


def test_psycopg_async(record: Record, postgresql: servers.Server) -> None:
    since = postgresql.mark()
    requests = list(read(record(PSYCOPG_ASYNC, postgresql.port)))
    assert sum((recorded(request) for request in requests), Counter()) == logged(postgresql, since)
    by_route = {request.route: request for request in requests}
    assert by_route["look 7"].rows == [7] and by_route["look 3"].rows == [3]
    rest = by_route["script.py"]
    counts = {rest.text(i): rest.rows[i] for i in range(len(rest))}
    assert counts["SELECT 2 + id FROM pilot"] == 20 and counts["SELECT 1 + id FROM pilot"] == 20
    place = by_route["look 7"].place(0)
    assert place is not None and place.function == "look"


PSYCOPG2 = """
import io, psycopg2, psycopg2.extras, sys
from psycopg2 import sql
class Own(psycopg2.extensions.connection):
    pass
db = psycopg2.connect(host="127.0.0.1", port=int(sys.argv[1]), user="harbour", dbname="postgres", connection_factory=Own)
assert isinstance(db, Own)
cursor = db.cursor()
cursor.execute("CREATE TEMP TABLE tug (id int primary key, name text)")
db.commit()
cursor.executemany("INSERT INTO tug VALUES (%s, %s)", [(i, "Tug %d" % i) for i in range(5)])
psycopg2.extras.execute_values(cursor, "INSERT INTO tug VALUES %s", [(i, "Bull %d" % i) for i in range(10, 260)])
for i in range(4):
    cursor.execute("SELECT name FROM tug WHERE id = %s", (i,))
    assert cursor.fetchone() == ("Tug %d" % i,)
cursor.execute(sql.SQL("SELECT {} FROM tug WHERE id < %(n)s").format(sql.Identifier("name")), {"n": 3})
assert len(list(cursor)) == 3
for factory in (psycopg2.extras.RealDictCursor, psycopg2.extras.DictCursor, psycopg2.extras.NamedTupleCursor):
    other = db.cursor(cursor_factory=factory)
    assert isinstance(other, factory) and type(other).__name__ == factory.__name__
    other.execute("SELECT id, name FROM tug WHERE id IN (2, 3)")
    rows = other.fetchall()
    assert (rows[0].id if hasattr(rows[0], "id") else rows[0]["id"]) == 2 and len(rows) == 2
walk = db.cursor("walk")
walk.itersize = 100
walk.execute("SELECT 1 + id FROM tug")
assert len(walk.fetchmany(10)) == 10 and len([row for row in walk]) == 245
walk.close()
cursor.copy_expert("COPY tug (id, name) FROM STDIN", io.StringIO("1000\\tx\\n1001\\ty\\n"))
with db:
    cursor.execute("DELETE FROM tug WHERE id = 1")
try:
    cursor.execute("SELECT nothing FROM nowhere")
except psycopg2.errors.UndefinedTable:
    db.rollback()
db.close()
"""


def test_psycopg2(record: Record, postgresql: servers.Server) -> None:
    since = postgresql.mark()
    (request,) = read(record(PSYCOPG2, postgresql.port))
    assert recorded(request) == logged(postgresql, since)
    rows = {request.text(i)[:14]: request.rows[i] for i in range(len(request))}
    assert (
        rows["SELECT 1 + id "] == 255
        and rows["COPY tug (id, "] == 2
        and rows["DELETE FROM tu"] == 1
    )
    batch = query(request, "INSERT INTO tug VALUES (%s")
    assert request.batches[batch] == 5
    i = query(request, "SELECT name")
    assert request.parameters[i] == (0,) and request.samples[i] == (("Tug 0",),)
    twos = [i for i in range(len(request)) if request.text(i).startswith("SELECT id, name")]
    assert [request.samples[i] for i in twos] == [((2, "Tug 2"), (3, "Tug 3"))] * 3
    assert "UndefinedTable" in request.errors[query(request, "SELECT nothing")]


ASYNCPG = """
import asyncio, asyncpg, askless, sys
async def main():
    url = "postgresql://harbour@127.0.0.1:%s/postgres" % sys.argv[1]
    db = await asyncpg.connect(url)
    await db.execute("DROP TABLE IF EXISTS crane")
    await db.execute("CREATE TABLE crane (id int primary key, name text)")
    await db.executemany("INSERT INTO crane VALUES ($1, $2)", [(i, "Crane %d" % i) for i in range(200)])
    assert await db.execute("INSERT INTO crane VALUES ($1, $2)", 500, "Old") == "INSERT 0 1"
    assert len(await db.fetch("SELECT id, name FROM crane WHERE id < $1", 40)) == 40
    assert await db.fetchval("SELECT count(*) FROM crane") == 201
    assert (await db.fetchrow("SELECT name, id FROM crane WHERE id = $1", 3))["name"] == "Crane 3"
    look = await db.prepare("SELECT name FROM crane WHERE id = $1")
    for i in range(4):
        assert await look.fetchval(i) == "Crane %d" % i
    async with db.transaction():
        assert len([row async for row in db.cursor("SELECT 1 + id FROM crane")]) == 201
        cursor = await db.cursor("SELECT 2 + id FROM crane ORDER BY id")
        assert len(await cursor.fetch(20)) == 20 and (await cursor.fetchrow())[0] == 22
        async with db.transaction():
            await db.execute("UPDATE crane SET name = 'New' WHERE id = 3")
    await db.copy_records_to_table("crane", records=[(1000 + i, "n") for i in range(7)])
    try:
        await db.fetch("SELECT nothing FROM nowhere")
    except asyncpg.UndefinedTableError:
        pass
    await db.close()
    async with asyncpg.create_pool(url, min_size=1, max_size=3) as pool:
        async def job(number):
            with askless.request("job %d" % number):
                for i in range(3):
                    await pool.fetchval("SELECT %d + id FROM crane WHERE id = $1" % number, i)
        await asyncio.gather(*(job(number) for number in range(4)))
asyncio.run(main())
"""


def test_asyncpg(record: Record, postgresql: servers.Server) -> None:
    since = postgresql.mark()
    requests = list(read(record(ASYNCPG, postgresql.port)))
    counted = sum((recorded(request) for request in requests), Counter())
    assert counted.pop("select nothing from") == 1, (
        "the server never ran it: it failed when it was prepared"
    )
    assert counted == logged(postgresql, since)
    by_route = {request.route: request for request in requests}
    for number in range(4):
        job = by_route[f"job {number}"]
        texts = {job.text(i) for i in range(len(job)) if "pg_advisory" not in job.text(i)}
        assert texts == {f"SELECT {number} + id FROM crane WHERE id = $1"}
    main = by_route["script.py"]
    counts = {main.text(i): main.rows[i] for i in range(len(main))}
    assert (
        counts["SELECT 1 + id FROM crane"] == 201
        and counts["SELECT 2 + id FROM crane ORDER BY id"] == 21
    )
    assert counts["COPY crane FROM STDIN"] == 7
    i = query(main, "SELECT id, name")
    assert main.statement(i).columns == ("id", "name") and main.parameters[i] == (40,)
    assert (main.samples[i] or ())[3] == (3, "Crane 3")
    place = main.place(i)
    assert place is not None and place.function == "main"


MYSQL = """
import sys
if sys.argv[2] == "pymysql":
    import pymysql as driver
    from pymysql.cursors import DictCursor, SSCursor
else:
    import MySQLdb as driver
    from MySQLdb.cursors import DictCursor, SSCursor
db = driver.connect(host="127.0.0.1", port=int(sys.argv[1]), user="harbour", password="tide", database="drivers")
cursor = db.cursor()
cursor.execute("DROP TABLE IF EXISTS berth")
cursor.execute("CREATE TABLE berth (id int primary key, name text)")
assert cursor.executemany("UPDATE berth SET name = %s WHERE id = %s", [("a", i) for i in range(4)]) == 0
for i in range(50):
    cursor.execute("INSERT INTO berth VALUES (%s, %s)", (i, "Quay %d" % i))
db.commit()
for i in range(5):
    cursor.execute("SELECT name FROM berth WHERE id = %s", (i,))
    assert cursor.fetchone() == ("Quay %d" % i,)
cursor.execute("SELECT 1 + id FROM berth WHERE id < %(n)s", {"n": 3})
assert len([row for row in cursor]) == 3
named = db.cursor(DictCursor)
named.execute("SELECT id, name FROM berth WHERE id IN (3, 4)")
assert [row["id"] for row in named.fetchall()] == [3, 4]
walk = db.cursor(SSCursor)
walk.execute("SELECT 2 + id FROM berth")
assert len(walk.fetchmany(10)) == 10 and len([row for row in walk]) == 40
walk.close()
try:
    cursor.execute("SELECT nothing FROM nowhere")
except driver.Error:
    db.rollback()
db.begin()
cursor.execute("DELETE FROM berth WHERE id = 1")
db.commit()
db.close()
"""


@pytest.mark.parametrize("driver", ["pymysql", "mysqlclient"])
def test_drivers_of_mariadb(driver: str, record: Record, mariadb: servers.Server) -> None:
    since = mariadb.mark()
    (request,) = read(record(MYSQL, mariadb.port, driver))
    assert recorded(request) == logged(mariadb, since)
    rows = {request.text(i)[:14]: request.rows[i] for i in range(len(request))}
    assert (
        rows["SELECT 1 + id "] == 3 and rows["SELECT 2 + id "] == 50 and rows["DELETE FROM be"] == 1
    )
    assert request.batches[query(request, "UPDATE")] == 4
    i = query(request, "SELECT name")
    assert request.statement(i).system == "mariadb"
    assert request.parameters[i] == (0,) and request.samples[i] == (("Quay 0",),)
    assert request.samples[query(request, "SELECT id, name")] == ((3, "Quay 3"), (4, "Quay 4"))
    assert "nowhere" in request.errors[query(request, "SELECT nothing")]
    inside = {request.text(i)[:6]: request.in_transaction[i] for i in range(len(request))}
    assert inside["DELETE"] == 1 and inside["INSERT"] == 1


def test_many_rows_of_one_insert_are_one_query(record: Record, mariadb: servers.Server) -> None:
    """Both drivers of MariaDB turn an executemany of INSERT into one statement."""
    code = """
    import pymysql, sys
    db = pymysql.connect(host="127.0.0.1", port=int(sys.argv[1]), user="harbour", password="tide", database="drivers")
    cursor = db.cursor()
    cursor.execute("CREATE TEMPORARY TABLE tug (id int, name text)")
    assert cursor.executemany("INSERT INTO tug VALUES (%s, %s)", [(i, "Tug %d" % i) for i in range(50)]) == 50
    """
    since = mariadb.mark()
    (request,) = read(record(code, mariadb.port))
    i = query(request, "INSERT")
    assert request.batches[i] == 50 and request.rows[i] == 50
    assert sum("INSERT" in statement for statement in mariadb.statements(since)) == 1


AIOSQLITE = """
import aiosqlite, askless, asyncio
async def main():
    async with aiosqlite.connect(":memory:") as db:
        await db.execute("CREATE TABLE berth (id int, name text)")
        await db.executemany("INSERT INTO berth VALUES (?, ?)", [(i, "Quay") for i in range(100)])
        await db.commit()
        async def job(number):
            with askless.request("job %d" % number):
                for i in range(3):
                    async with db.execute("SELECT name FROM berth WHERE id = ?", (i + number,)) as cursor:
                        await cursor.fetchone()
                assert len(await db.execute_fetchall("SELECT %d, id FROM berth" % number)) == 100
        await asyncio.gather(*(job(number) for number in range(3)))
asyncio.run(main())
"""


def test_aiosqlite_keeps_requests_and_lines_apart(record: Record) -> None:
    requests = {request.route: request for request in read(record(AIOSQLITE))}
    for number in range(3):
        job = requests[f"job {number}"]
        assert sorted(p for p in job.parameters if p) == [(number,), (number + 1,), (number + 2,)]
        assert f"SELECT {number}, id FROM berth" in {job.text(i) for i in range(len(job))}
        places = {str(place.function) for i in range(len(job)) if (place := job.place(i))}
        assert places == {"job"}


def test_sqlalchemy_and_peewee_over_real_drivers(
    record: Record, postgresql: servers.Server
) -> None:
    code = """
    import sys
    from sqlalchemy import create_engine, text
    url = "postgresql+%s://harbour@127.0.0.1:" + sys.argv[1] + "/postgres"
    for driver in ("psycopg", "psycopg2"):
        with create_engine(url % driver).connect() as db:
            assert db.execute(text("SELECT :a + 40"), {"a": 2}).scalar() == 42
    import asyncio
    from sqlalchemy.ext.asyncio import create_async_engine
    async def main():
        engine = create_async_engine(url % "asyncpg")
        async with engine.connect() as db:
            assert (await db.execute(text("SELECT CAST(:a AS int) + 41"), {"a": 1})).scalar() == 42
        await engine.dispose()
    asyncio.run(main())
    import peewee
    db = peewee.PostgresqlDatabase("postgres", host="127.0.0.1", port=int(sys.argv[1]), user="harbour")
    class Lamp(peewee.Model):
        name = peewee.TextField()
        class Meta:
            database, temporary = db, True
    with db:
        db.create_tables([Lamp])
        Lamp.create(name="Pier head")
        assert [lamp.name for lamp in Lamp.select()] == ["Pier head"]
    """
    since = postgresql.mark()
    (request,) = read(record(code, postgresql.port))
    sent = [
        re.sub(r"^(?:statement: |execute [^:]+: )", "", text)
        for text in postgresql.statements(since)
    ]
    assert recorded(request) == Counter(words(text) for text in sent)
    places = {
        place.line
        for i in range(len(request))
        if "+ 4" in request.text(i) and (place := request.place(i))
    }
    assert places == {7, 13}


ASYNC_ORM = """
import asyncio, askless, sys
from sqlalchemy import ForeignKey, select
from sqlalchemy.ext.asyncio import AsyncSession, create_async_engine
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column, relationship, selectinload
class Base(DeclarativeBase):
    pass
class Vessel(Base):
    __tablename__ = "vessel"
    id: Mapped[int] = mapped_column(primary_key=True)
    calls: Mapped[list["PortCall"]] = relationship()
class PortCall(Base):
    __tablename__ = "port_call"
    id: Mapped[int] = mapped_column(primary_key=True)
    vessel_id: Mapped[int] = mapped_column(ForeignKey("vessel.id"))
class Tug(Base):
    __tablename__ = "tug"
    id: Mapped[int] = mapped_column(primary_key=True)
async def main():
    engine = create_async_engine(sys.argv[1].replace("PORT", sys.argv[2]))
    async with engine.begin() as db:
        await db.run_sync(Base.metadata.drop_all)
        await db.run_sync(Base.metadata.create_all)
    async with AsyncSession(engine) as session:
        session.add_all([Vessel(id=n, calls=[PortCall(id=n)]) for n in range(1, 4)] + [Tug(id=1)])
        await session.commit()
    async def page(number):
        with askless.request("page %d" % number):
            async with AsyncSession(engine) as session:
                for turn in range(3):
                    if number % 2:
                        await session.scalars(select(Tug))
                    else:
                        await session.scalars(select(Vessel).options(selectinload(Vessel.calls)))
                        session.expunge_all()
    await asyncio.gather(*(page(number) for number in range(8)))
    await engine.dispose()
asyncio.run(main())
"""


@pytest.mark.parametrize(
    "url",
    [
        "postgresql+asyncpg://harbour@127.0.0.1:PORT/postgres",
        "postgresql+psycopg_async://harbour@127.0.0.1:PORT/postgres",
        "sqlite+aiosqlite:///async.db",
    ],
)
def test_tasks_do_not_mix_up_what_the_orm_said(
    url: str, record: Record, postgresql: servers.Server
) -> None:
    pages = [
        request
        for request in read(record(ASYNC_ORM, url, postgresql.port))
        if request.route.startswith("page")
    ]
    assert len(pages) == 8
    for request in pages:
        asked = [i for i in range(len(request)) if not request.statement(i).shape.noise]
        told = [
            (
                request.statement(i).shape.text.split(" from ")[1].split()[0],
                load.kind if (load := request.load(i)) else "",
                load.target if load else "",
            )
            for i in asked
        ]
        if int(request.route.split()[1]) % 2:
            assert told == [("tug", "query", "Tug")] * 3
        else:
            assert told == [("vessel", "query", "Vessel"), ("port_call", "eager", "PortCall")] * 3


OTHERS = """
import asyncio, sys
postgresql, mariadb = map(int, sys.argv[1:3])
FIRST, SECOND = "SELECT 1 + 1 AS berth UNION SELECT 3", "SELECT 5 AS berth UNION SELECT 6"
def ask(db, mark):
    cursor = db.cursor()
    cursor.execute(FIRST)
    assert sorted(row[0] for row in cursor.fetchall()) == [2, 3]
    cursor.execute("SELECT %s AS berth" % mark, (7,))
    assert cursor.fetchone()[0] == 7 and cursor.fetchone() is None
    cursor.execute(SECOND)
    assert sorted(row[0] for row in cursor) == [5, 6]
    try:
        cursor.execute("SELECT nothing FROM nowhere")
    except Exception as error:
        assert "nowhere" in str(error)
import pg8000.dbapi
db = pg8000.dbapi.connect(user="harbour", host="127.0.0.1", port=postgresql, database="postgres")
ask(db, "%s::int")
db.rollback()
import mysql.connector
login = {"host": "127.0.0.1", "port": mariadb, "user": "harbour", "password": "tide"}
more = {"database": "harbour", "use_pure": True, "charset": "utf8mb4", "collation": "utf8mb4_general_ci"}
for buffered in (False, True):
    ask(mysql.connector.connect(buffered=buffered, **login, **more), "%s")
import duckdb
db = duckdb.connect().cursor()
db.execute("SELECT ?", (4,))
assert db.fetchall() == [(4,)] and duckdb.execute("SELECT 9").fetchone() == (9,)
import apsw
db = apsw.Connection(":memory:")
assert [row for row in db.execute("SELECT 8 UNION SELECT 9")] == [(8,), (9,)]
assert db.cursor().execute("SELECT ?, 'apsw'", (3,)).fetchall() == [(3, "apsw")]
import aiomysql, asyncmy
async def main():
    for driver in (aiomysql, asyncmy):
        async with driver.create_pool(db="harbour", **login) as pool:
            async with pool.acquire() as db:
                async with db.cursor() as cursor:
                    await cursor.execute("SELECT %s AS pooled UNION SELECT 2", (1,))
                    assert sorted(await cursor.fetchall()) == [(1,), (2,)]
                    await cursor.execute("SELECT 3 AS iterated UNION SELECT 4")
                    assert sorted([row async for row in cursor]) == [(3,), (4,)]
asyncio.run(main())
"""


def test_further_drivers(
    record: Record, postgresql: servers.Server, mariadb: servers.Server
) -> None:
    (request,) = read(record(OTHERS, postgresql.port, mariadb.port))
    asked = [
        (request.text(i), request.rows[i])
        for i in range(len(request))
        if not request.statement(i).shape.noise
    ]
    errors = [
        request.errors[i]
        for i in range(len(request))
        if request.text(i) == "SELECT nothing FROM nowhere"
    ]
    assert len(errors) == 3 and all("nowhere" in error for error in errors)
    wanted = [
        ("SELECT 1 + 1 AS berth UNION SELECT 3", 2),
        ("SELECT 5 AS berth UNION SELECT 6", 2),
    ] * 3
    wanted += [("SELECT nothing FROM nowhere", 0)] * 3
    wanted += [("SELECT 8 UNION SELECT 9", 2), ("SELECT ?, 'apsw'", 1)]
    wanted += [
        ("SELECT %s AS pooled UNION SELECT 2", 2),
        ("SELECT 3 AS iterated UNION SELECT 4", 2),
    ] * 2
    assert Counter(asked) == Counter(wanted)
    bound = [
        request.values(i)[0] for i in range(len(request)) if request.text(i).startswith("SELECT %s")
    ]
    assert sorted(bound) == [1, 1, 7, 7, 7]


# A driver that can't run here, as PEP 249 lays it down: classes in which nothing can be changed.
STAND_IN = """
class Connection:
    __slots__ = ("autocommit", "__weakref__")
    def __init__(self):
        self.autocommit = False
    def cursor(self):
        return Cursor(self)
    def commit(self):
        pass
    def rollback(self):
        pass
    def close(self):
        pass
class Cursor:
    __slots__ = ("connection", "description", "rowcount", "rows", "arraysize")
    def __init__(self, connection):
        self.connection, self.description, self.rowcount, self.rows = connection, None, -1, []
    def execute(self, sql, *parameters):
        if "nowhere" in sql:
            raise ProgrammingError("no table nowhere")
        self.description = [("berth", None, None, None, None, None, None)]
        self.rows = [(1,), (2,)] if "UNION" in sql else [(parameters[0] if parameters else 7,)]
        return self
    def executemany(self, sql, sets):
        self.description, self.rows = None, []
    def fetchone(self):
        return self.rows.pop(0) if self.rows else None
    def fetchall(self):
        rows, self.rows = self.rows, []
        return rows
    def __iter__(self):
        return self
    def __next__(self):
        if not self.rows:
            raise StopIteration
        return self.rows.pop(0)
    def close(self):
        pass
class Error(Exception): pass
class ProgrammingError(Error): pass
paramstyle, apilevel, threadsafety, version = "qmark", "2.0", 1, "5.0"
def connect(*args, **kwargs):
    return Connection()
"""
STANDING_IN = """
import sys; sys.path.insert(0, "site-packages")
import pyodbc
db = pyodbc.connect("DSN=harbour")
assert isinstance(db, pyodbc.Connection) and db.autocommit is False
cursor = db.cursor()
assert isinstance(cursor, pyodbc.Cursor) and iter(cursor) is cursor and cursor.description is None
assert cursor.execute("SELECT berth FROM call WHERE id = ?", 7).fetchone() == (7,)
assert cursor.execute("SELECT 1 UNION SELECT 2").fetchall() == [(1,), (2,)]
assert [row for row in cursor.execute("SELECT 1 UNION SELECT 2")] == [(1,), (2,)]
cursor.executemany("INSERT INTO berth VALUES (?)", [(1,), (2,)])
try:
    cursor.execute("SELECT * FROM nowhere")
except pyodbc.ProgrammingError:
    db.rollback()
"""


def test_a_driver_whose_classes_cant_be_changed(record: Record, tmp_path: Path) -> None:
    library = tmp_path / "site-packages"
    library.mkdir()
    (library / "pyodbc.py").write_text(STAND_IN)
    (request,) = read(record(STANDING_IN))
    assert [
        (request.text(i), request.parameters[i], request.rows[i]) for i in range(len(request))
    ] == [
        ("SELECT berth FROM call WHERE id = ?", (7,), 1),
        ("SELECT 1 UNION SELECT 2", (), 2),
        ("SELECT 1 UNION SELECT 2", (), 2),
        ("INSERT INTO berth VALUES (?)", (1,), 0),
        ("SELECT * FROM nowhere", (), 0),
        ("ROLLBACK", (), 0),
    ]
    assert (
        request.batches == {3: 2}
        and "no table nowhere" in request.errors[4]
        and request.in_transaction[1] == 1
    )


UNKNOWN = """
import sys; sys.path.insert(0, "site-packages")
import made_up
from sqlalchemy import create_engine, text
from sqlalchemy.dialects import registry
from sqlalchemy.engine.default import DefaultDialect
class Dialect(DefaultDialect):
    name, driver, supports_statement_cache = "made_up", "made_up", True
    @classmethod
    def import_dbapi(cls):
        return made_up
    def do_ping(self, connection):
        return True
    def _get_default_schema_name(self, connection):
        return None
    def initialize(self, connection):
        pass
sys.modules["made_up_dialect"] = sys.modules["__main__"]
registry.register("made_up", "made_up_dialect", "Dialect")
with create_engine("made_up://").connect() as db:
    assert db.execute(text("SELECT berth FROM call WHERE id = :id"), {"id": 3}).all() == [((3,),)] or True
    db.execute(text("INSERT INTO berth VALUES (:id)"), [{"id": 1}, {"id": 2}])
    try:
        db.execute(text("SELECT * FROM nowhere"))
    except Exception:
        pass
"""


def test_an_unknown_driver_under_sqlalchemy(record: Record, tmp_path: Path) -> None:
    library = tmp_path / "site-packages"
    library.mkdir()
    (library / "made_up.py").write_text(STAND_IN)
    (request,) = read(record(UNKNOWN))
    texts = [request.text(i).split()[0:3:2] for i in range(len(request))]
    assert texts == [["SELECT", "FROM"], ["INSERT", "berth"], ["SELECT", "FROM"]]
    assert (
        request.parameters[0] == (3,)
        and request.batches == {1: 2}
        and "nowhere" in request.errors[2]
    )
