"""Asks a MySQL or MariaDB in every way that its clients have, at MYSQL_HOST and MYSQL_TCP_PORT."""

import asyncio
import os
import subprocess

import aiomysql
import asyncmy
import mysql.connector
import MySQLdb
import pymysql
from pymysql.constants import CLIENT

WHO = {
    "user": os.environ.get("OFFICE_USER", "harbour"),
    "password": os.environ.get("OFFICE_PASSWORD", "tide"),
}
PLACE = {
    "host": os.environ["MYSQL_HOST"],
    "port": int(os.environ["MYSQL_TCP_PORT"]),
    "database": "drivers",
    **WHO,
}

with pymysql.connect(**PLACE, autocommit=True) as setup:
    cursor = setup.cursor()
    cursor.execute("DROP TABLE IF EXISTS berth_asked")
    cursor.execute(
        "CREATE TABLE berth_asked (id INT PRIMARY KEY, name VARCHAR(40), depth DECIMAL(6,2), seen DATETIME, notes LONGTEXT)"
    )
    cursor.executemany(
        "INSERT INTO berth_asked (id, name) VALUES (%s, %s)",
        [(n, f"Berth {n}") for n in range(200)],
    )

words = [
    "-h",
    PLACE["host"],
    "-P",
    str(PLACE["port"]),
    "--protocol=tcp",
    "-u",
    WHO["user"],
    "drivers",
]
subprocess.run(
    ["mariadb", *words[:-1], *([f"-p{WHO['password']}"] if WHO["password"] else []), "drivers", "-e",
     "SELECT 'a;b' AS piece; SELECT count(*) FROM berth_asked"],
    check=True, stdout=subprocess.DEVNULL,
)  # fmt: skip

with pymysql.connect(**PLACE, client_flag=CLIENT.MULTI_STATEMENTS) as plain:
    cursor = plain.cursor()
    for number in range(5):
        cursor.execute("SELECT name FROM berth_asked WHERE id = %s", (number,))
    cursor.execute(
        "UPDATE berth_asked SET name = 'x;y' WHERE id = 1; SELECT name FROM berth_asked WHERE id = 1"
    )
    while cursor.nextset():
        pass
    cursor = plain.cursor(pymysql.cursors.SSCursor)
    cursor.execute("SELECT id FROM berth_asked ORDER BY id")
    assert len(cursor.fetchall()) == 200
    plain.cursor().execute("UPDATE berth_asked SET notes = %s WHERE id = 2", ("n" * 70_000,))
    plain.cursor().execute("SELECT notes FROM berth_asked WHERE id = 2")
    try:
        plain.cursor().execute("SELECT nonsense FROM berth_asked")
    except pymysql.err.OperationalError:
        plain.rollback()
    plain.ping()
    plain.select_db("drivers")

by_c = MySQLdb.connect(**PLACE)
cursor = by_c.cursor()
cursor.execute("SELECT name FROM berth_asked WHERE id = %s", (9,))
by_c.commit()
by_c.close()

prepared = mysql.connector.connect(**PLACE, use_pure=True)
cursor = prepared.cursor(prepared=True)
for number in range(4):
    cursor.execute(
        "SELECT id, name, depth, seen FROM berth_asked WHERE id = ? OR name = ?",
        (number, "Berth 7"),
    )
    assert cursor.fetchall()
cursor.execute(
    "INSERT INTO berth_asked (id, depth, seen) VALUES (?, ?, ?)",
    (901, "1.50", "2026-11-20 10:00:00"),
)
prepared.rollback()
prepared.close()


async def ask() -> None:
    one = await aiomysql.connect(**{("db" if k == "database" else k): v for k, v in PLACE.items()})
    async with one.cursor() as cursor:
        await cursor.execute("SELECT name FROM berth_asked WHERE id = %s", (11,))
    one.close()
    other = await asyncmy.connect(**PLACE)
    async with other.cursor() as cursor:
        await cursor.execute("SELECT name FROM berth_asked WHERE id = %s", (12,))
    other.close()


asyncio.run(ask())
