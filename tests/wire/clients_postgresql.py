"""Asks a PostgreSQL in every way that its clients have, at PGHOST and PGPORT."""

import asyncio
import os
import subprocess
import sys

import asyncpg
import psycopg
import psycopg2
from psycopg.rows import scalar_row

HOST, PORT = os.environ["PGHOST"], os.environ["PGPORT"]
PLACE = f"host={HOST} port={PORT} user=harbour dbname=postgres"

with psycopg.connect(PLACE, autocommit=True) as setup:
    setup.execute("DROP TABLE IF EXISTS berth_asked")
    setup.execute(
        "CREATE TABLE berth_asked (id int PRIMARY KEY, name text, depth numeric, seen timestamptz, mark uuid)"
    )
    with setup.cursor().copy("COPY berth_asked (id, name) FROM STDIN") as copy:
        for number in range(200):
            copy.write_row((number, f"Berth {number}"))
    with setup.cursor().copy("COPY berth_asked TO STDOUT") as copy:
        assert sum(1 for _ in copy) > 0

subprocess.run(
    ["psql", "-qAt", "-U", "harbour", "-d", "postgres", "-c", "SELECT 'a;b' AS piece; SELECT count(*) FROM berth_asked",
     "-c", "BEGIN; SELECT name FROM berth_asked WHERE id = 3; COMMIT"],
    check=True, stdout=subprocess.DEVNULL,
)  # fmt: skip

with psycopg.connect(PLACE) as sync:
    for number in range(8):  # prepared from the fifth on
        assert sync.execute("SELECT name FROM berth_asked WHERE id = %s", (number,)).fetchone() == (
            f"Berth {number}",
        )
    sync.execute(
        "SELECT id FROM berth_asked WHERE id = ANY(%s)", ([1, 2, 3],), binary=True
    ).fetchall()
    assert (
        sync.cursor(binary=True, row_factory=scalar_row)
        .execute("SELECT id FROM berth_asked WHERE id < %s", (5,))
        .fetchall()
    )
    with sync.pipeline():
        for number in range(5):
            sync.execute(
                "UPDATE berth_asked SET name = %s WHERE id = %s", (f"Quay {number}", number)
            )
    sync.cursor().executemany(
        "INSERT INTO berth_asked (id, depth) VALUES (%s, %s)",
        [(number, number / 2) for number in range(900, 903)],
    )
    with sync.cursor("portions") as portions:
        portions.itersize = 50
        portions.execute("SELECT id FROM berth_asked ORDER BY id")
        assert len(portions.fetchall()) == 203
    try:
        sync.execute("SELECT 1 / (id - 3) FROM berth_asked WHERE id = %s", (3,))
    except psycopg.errors.DivisionByZero:
        sync.rollback()

with psycopg2.connect(PLACE) as older:
    older.cursor().execute("SELECT name FROM berth_asked WHERE id = %s", (7,))


async def ask() -> None:
    one = await asyncpg.connect(host=HOST, port=int(PORT), user="harbour", database="postgres")
    assert await one.fetchval("SELECT name FROM berth_asked WHERE id = $1", 9) == "Berth 9"
    statement = await one.prepare(
        "SELECT id, depth, mark FROM berth_asked WHERE id > $1 AND seen IS NULL"
    )
    await statement.fetch(190)
    async with one.transaction():
        async for _ in one.cursor("SELECT id FROM berth_asked", prefetch=64):
            pass
    await one.executemany(
        "INSERT INTO berth_asked (id) VALUES ($1)", [(number,) for number in range(950, 953)]
    )
    await one.copy_records_to_table("berth_asked", records=[(990, "c")], columns=["id", "name"])
    await one.close()
    async with await psycopg.AsyncConnection.connect(PLACE) as other:
        await other.execute("SELECT name FROM berth_asked WHERE id = %s", (11,))


asyncio.run(ask())
sys.exit(7)
