"""How large the advisor says that an index will be, over what the server made of it:
`python benchmarks/index_sizes.py [--rows 200000]`.

A table of the harbour office is filled on SQLite, PostgreSQL and MariaDB; twelve indexes are built
on it one by one, and measured in the server's own pages.
"""

from __future__ import annotations

import argparse
import sys
import tempfile
from collections.abc import Callable
from contextlib import ExitStack
from pathlib import Path

import sqlalchemy
from sqlalchemy.engine import Connection

ROOT = Path(__file__).parent.parent
sys.path[:0] = [str(ROOT), str(ROOT / "benchmarks")]

from advice import url_of  # noqa: E402

from askless.core.indexing.sizes import size_bytes  # noqa: E402
from askless.core.records.index_ddl import create_index  # noqa: E402
from askless.database.connecting import connect, parse_url  # noqa: E402
from askless.database.reflecting import reflect  # noqa: E402
from askless.database.servers import Limits  # noqa: E402

INDEXES = (
    ("vessel_id",), ("status",), ("eta",), ("agent",), ("note",), ("vessel_id", "eta"),
    ("status", "eta"), ("berth_id", "status"), ("vessel_id", "id"), ("eta", "vessel_id"),
    ("paid", "berth_id"), ("agent", "status", "eta"),
)  # fmt: skip
WITHIN = 0.1


def fill(connection: Connection, rows: int) -> None:
    """Port calls as an office has them: keys, a few words, times, notes of different length."""
    metadata = sqlalchemy.MetaData()
    table = sqlalchemy.Table(
        "size_call",
        metadata,
        sqlalchemy.Column("id", sqlalchemy.Integer, primary_key=True),
        sqlalchemy.Column("vessel_id", sqlalchemy.Integer, nullable=False),
        sqlalchemy.Column("berth_id", sqlalchemy.Integer),
        sqlalchemy.Column("status", sqlalchemy.String(20), nullable=False),
        sqlalchemy.Column("agent", sqlalchemy.String(60), nullable=False),
        sqlalchemy.Column("note", sqlalchemy.String(120), nullable=False),
        sqlalchemy.Column("eta", sqlalchemy.DateTime, nullable=False),
        sqlalchemy.Column("paid", sqlalchemy.Boolean, nullable=False),
    )
    from datetime import datetime, timedelta

    metadata.drop_all(connection)
    metadata.create_all(connection)
    start = datetime(2026, 1, 1)
    words = ("due", "berthed", "departed", "cancelled")
    for first in range(0, rows, 20_000):
        batch = [
            {
                "id": i + 1,
                "vessel_id": 1 + (i * 7919) % 4000,
                "berth_id": 1 + (i * 31) % 22,
                "status": words[(i * 13) % 17 % 4],
                "agent": f"Agency {(i * 97) % 300:03}" + " & Sons" * (i % 3),
                "note": f"{(i * 104729) % 1_000_003:07} " + "tide " * (i % 9),
                "eta": start + timedelta(seconds=((i * 7907) % rows) * 61),
                "paid": i % 3 == 0,
            }
            for i in range(first, min(first + 20_000, rows))
        ]
        connection.execute(table.insert(), batch)
    connection.commit()


def sqlite_bytes(connection: Connection, name: str) -> int:
    sql = "SELECT SUM(pgsize) FROM dbstat WHERE name = ?"
    return int(connection.exec_driver_sql(sql, (name,)).scalar_one())


def postgresql_bytes(connection: Connection, name: str) -> int:
    return int(connection.exec_driver_sql(f"SELECT pg_relation_size('{name}')").scalar_one())


def mariadb_bytes(connection: Connection, name: str) -> int:
    connection.exec_driver_sql("ANALYZE TABLE size_call").all()
    sql = (
        "SELECT stat_value * @@innodb_page_size FROM mysql.innodb_index_stats WHERE "
        f"table_name = 'size_call' AND index_name = '{name}' AND stat_name = 'size'"
    )
    return int(connection.exec_driver_sql(sql).scalar_one())


MEASURED: dict[str, Callable[[Connection, str], int]] = {
    "sqlite": sqlite_bytes,
    "postgresql": postgresql_bytes,
    "mariadb": mariadb_bytes,
}


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--rows", type=int, default=200_000)
    options = parser.parse_args()
    good = count = 0
    with ExitStack() as stack:
        folder = Path(stack.enter_context(tempfile.TemporaryDirectory()))
        for system in MEASURED:
            url = url_of(system, folder, stack)
            engine = sqlalchemy.create_engine(url)
            with engine.connect() as connection:
                fill(connection, options.rows)
                if system == "postgresql":
                    connection.exec_driver_sql("ANALYZE size_call")
                    connection.commit()
                elif system == "mariadb":
                    connection.exec_driver_sql("ANALYZE TABLE size_call").all()
                with connect(parse_url(url), Limits()) as reading:
                    schema = reflect(reading)
                table = schema.table("size_call")
                assert table is not None
                for columns in INDEXES:
                    name = "s_" + "_".join(columns)
                    ddl = create_index(name, "size_call", columns, system, types=table.types)
                    connection.exec_driver_sql(ddl)
                    connection.commit()
                    real = MEASURED[system](connection, name)
                    said = size_bytes(table, columns, schema)
                    count += 1
                    good += abs(said / real - 1) <= WITHIN
                    print(
                        f"{system:11} {', '.join(columns):24} {said:>12,} {real:>12,} {said / real:6.2f}"
                    )
            engine.dispose()
    print(f"within {100 * WITHIN:.0f} %: {good} of {count}")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
