"""The tables, 150 statements of which each has one planted problem, and 80 that have none.

Indexed, next to the keys: `port_call (vessel_id)`, `port_call (status, eta, agent)`, `vessel
(name)`, `vessel (code)`, `manifest_line (port_call_id)`, `manifest_line (weight)`, `tug_job
(port_call_id)`, `tug_job (tug_id, started)`. Nothing else is.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, NamedTuple

TABLES = {
    "vessel": "id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL, code VARCHAR(12) NOT NULL, flag VARCHAR(2) NOT NULL, "
    "owner VARCHAR(40), built INTEGER NOT NULL, tonnage INTEGER NOT NULL",
    "berth": "id INTEGER PRIMARY KEY, code VARCHAR(10) NOT NULL, quay VARCHAR(10) NOT NULL",
    "port_call": "id INTEGER PRIMARY KEY, vessel_id INTEGER NOT NULL REFERENCES vessel(id), berth_id INTEGER NOT NULL, "
    "status VARCHAR(10) NOT NULL, eta INTEGER NOT NULL, agent VARCHAR(20) NOT NULL, fee INTEGER NOT NULL, note VARCHAR(60)",
    "manifest_line": "id INTEGER PRIMARY KEY, port_call_id INTEGER NOT NULL REFERENCES port_call(id), goods VARCHAR(30) NOT NULL, "
    "weight INTEGER NOT NULL, tariff INTEGER NOT NULL, mark VARCHAR(30) NOT NULL",
    "tug_job": "id INTEGER PRIMARY KEY, port_call_id INTEGER NOT NULL REFERENCES port_call(id), tug_id INTEGER NOT NULL, "
    "started INTEGER NOT NULL, minutes INTEGER NOT NULL, master VARCHAR(20) NOT NULL",
}
INDEXES = [
    "CREATE INDEX call_vessel ON port_call (vessel_id)", "CREATE INDEX call_status ON port_call (status, eta, agent)",
    "CREATE INDEX vessel_name ON vessel (name)", "CREATE INDEX vessel_code ON vessel (code)",
    "CREATE INDEX line_call ON manifest_line (port_call_id)", "CREATE INDEX line_weight ON manifest_line (weight)",
    "CREATE INDEX job_call ON tug_job (port_call_id)", "CREATE INDEX job_tug ON tug_job (tug_id, started)",
]  # fmt: skip
SIZES = {"vessel": 3000, "berth": 40, "port_call": 9000, "manifest_line": 30000, "tug_job": 12000}


def rows(table: str) -> Iterator[tuple[Any, ...]]:
    """The rows of a table; columns that are not asked together do not go together."""
    for i in range(1, SIZES[table] + 1):
        h = i * 2654435761 % 2**32
        match table:
            case "vessel":
                yield (
                    i,
                    f"Tern {h % 100_000}",
                    str(100_000 + h % 800_000),
                    ("NO", "DK", "SE", "FI")[h % 4],
                    f"Owner {h % 900}",
                    1950 + h % 70,
                    h % 90_000,
                )
            case "berth":
                yield i, f"B{i}", f"Q{i % 4}"
            case "port_call":
                yield (
                    i,
                    1 + h % 3000,
                    1 + h % 40,
                    ("due", "berthed", "left", "gone")[h // 7 % 4],
                    h % 1_000_000,
                    f"Agent {h // 11 % 700}",
                    h // 13 % 50_000,
                    f"note {h % 977}",
                )
            case "manifest_line":
                yield (
                    i,
                    1 + h % 9000,
                    f"goods {h // 3 % 1200}",
                    h // 5 % 40_000,
                    h // 17 % 5000,
                    f"M{h % 2**20}",
                )
            case _:
                yield (
                    i,
                    1 + h % 9000,
                    1 + h // 3 % 25,
                    h // 5 % 1_000_000,
                    h // 7 % 600,
                    f"Master {h // 19 % 500}",
                )


class Case(NamedTuple):
    """A statement; the kinds of observation of which one must are on a step of the table ('' any),
    none where healthy.

    `analyze`: it shows only when the statement has run. `only`: the systems on which it is a
    problem, () for all.
    """

    sql: str
    named: tuple[str, ...] = ()
    table: str = ""
    analyze: bool = False
    only: tuple[str, ...] = ()


MYSQLS = ("mariadb", "mysql")


def _scans() -> Iterator[Case]:
    """Conditions that no index answers."""
    equal = [
        ("vessel", "flag = 'NO' AND built = 1970"), ("vessel", "owner = 'Owner 7'"), ("vessel", "built = 1999 AND tonnage < 500"),
        ("vessel", "tonnage = 4711"), ("vessel", "tonnage BETWEEN 100 AND 200"), ("vessel", "owner LIKE 'Owner 77%'"),
        ("port_call", "agent = 'Agent 7'"), ("port_call", "fee = 4711"), ("port_call", "berth_id = 7 AND fee < 1000"), ("port_call", "note = 'note 8'"),
        ("port_call", "fee BETWEEN 1000 AND 1100"), ("port_call", "agent IN ('Agent 7', 'Agent 8')"), ("port_call", "fee > 49000"),
        ("manifest_line", "goods = 'goods 7'"), ("manifest_line", "tariff = 99"), ("manifest_line", "mark = 'M77'"), ("manifest_line", "tariff < 20"),
        ("manifest_line", "goods IN ('goods 1', 'goods 2', 'goods 3')"), ("manifest_line", "goods LIKE 'goods 11%'"), ("manifest_line", "tariff BETWEEN 5 AND 9"),
        ("tug_job", "master = 'Master 7'"), ("tug_job", "minutes = 77"), ("tug_job", "minutes BETWEEN 580 AND 585"), ("tug_job", "master = 'Master 8' AND minutes > 5"),
        ("tug_job", "minutes > 590"),
    ]  # fmt: skip
    for table, condition in equal:
        yield Case(f"SELECT * FROM {table} WHERE {condition}", ("reads-all",), table)
    counted = [("vessel", "owner = 'Owner 9'"), ("port_call", "agent = 'Agent 9'"), ("manifest_line", "goods = 'goods 9'"), ("tug_job", "master = 'Master 9'")]  # fmt: skip
    for table, condition in counted:
        yield Case(f"SELECT count(*) FROM {table} WHERE {condition}", ("reads-all",), table)
        yield Case(
            f"SELECT id FROM {table} x WHERE x.{condition} ORDER BY x.id LIMIT 500",
            ("reads-all",),
            table,
            only=("sqlite", "none"),
        )
        yield Case(
            f"SELECT max(id) FROM {table} WHERE {condition} AND id > 5",
            ("reads-all", "part", "reads-many"),
            table,
            only=("none",),
        )
    for table, condition in (
        ("vessel", "flag = 'DK' AND owner = 'Owner 3'"), ("port_call", "berth_id = 3 AND agent = 'Agent 3'"), ("manifest_line", "tariff = 3 AND goods = 'goods 3'"),
        ("tug_job", "minutes = 3 AND master = 'Master 3'"), ("vessel", "built < 1951"), ("port_call", "fee BETWEEN 10 AND 60"), ("manifest_line", "mark IN ('M1', 'M2')"),
        ("tug_job", "master = 'Master 499'"),
    ):  # fmt: skip
        yield Case(f"SELECT id FROM {table} WHERE {condition}", ("reads-all",), table)
    yield Case(
        "SELECT c.id FROM port_call c JOIN vessel v ON v.id = c.vessel_id WHERE c.agent = 'Agent 11'",
        ("reads-all", "part"),
        "port_call",
    )
    yield Case(
        "SELECT l.id FROM manifest_line l JOIN port_call c ON c.id = l.port_call_id WHERE l.mark = 'M9'",
        ("reads-all", "part"),
        "manifest_line",
    )
    yield Case(
        "SELECT j.id, c.status FROM tug_job j JOIN port_call c ON c.id = j.port_call_id WHERE j.master = 'Master 3'",
        ("reads-all",),
        "tug_job",
    )
    yield Case(
        "SELECT * FROM (SELECT * FROM manifest_line) t WHERE t.goods = 'goods 5'",
        ("reads-all",),
        "manifest_line",
    )
    yield Case(
        "WITH c AS (SELECT * FROM port_call WHERE agent = 'Agent 5') SELECT * FROM c",
        ("reads-all",),
        "port_call",
    )
    yield Case(
        "SELECT id FROM vessel WHERE id IN (SELECT vessel_id FROM port_call WHERE note = 'note 5')",
        ("reads-all",),
        "port_call",
    )
    yield Case(
        "SELECT id FROM port_call WHERE agent = 'Agent 5' UNION ALL SELECT id FROM vessel WHERE id = 3",
        ("reads-all",),
        "port_call",
    )
    yield Case(
        "SELECT status, count(*) FROM port_call WHERE agent = 'Agent 6' GROUP BY status",
        ("reads-all",),
        "port_call",
    )


def _functions() -> Iterator[Case]:
    """Functions around a column, or arithmetic with it, hide it from its index."""
    for condition in (
        "lower(name) = 'tern 77'", "upper(name) = 'TERN 77'", "COALESCE(name, '') = 'Tern 77'", "substr(name, 1, 7) = 'Tern 77'",
        "trim(name) = 'Tern 77'", "replace(name, 'Tern', '') = ' 77'", "length(name) = 3", "abs(id) = 77", "lower(code) = '123456'", "trim(code) = '123456'",
    ):  # fmt: skip
        yield Case(f"SELECT * FROM vessel WHERE {condition}", ("unservable",), "vessel")
        yield Case(f"SELECT count(*) FROM vessel WHERE {condition}", ("unservable",), "vessel")
    for condition in ("abs(weight) = 77", "COALESCE(weight, 0) = 77", "abs(port_call_id) = 9"):
        yield Case(
            f"SELECT * FROM manifest_line WHERE {condition}", ("unservable",), "manifest_line"
        )
    for condition in ("abs(vessel_id) = 7", "COALESCE(vessel_id, 0) = 7"):
        yield Case(f"SELECT * FROM port_call WHERE {condition}", ("unservable",), "port_call")


def _wildcards() -> Iterator[Case]:
    for table, column in (("vessel", "name"), ("vessel", "owner"), ("vessel", "code"), ("port_call", "agent"), ("manifest_line", "mark"), ("tug_job", "master")):  # fmt: skip
        yield Case(f"SELECT * FROM {table} WHERE {column} LIKE '%77%'", ("unservable",), table)
        yield Case(f"SELECT id FROM {table} WHERE {column} LIKE '_e%7'", ("unservable",), table)


def _types() -> Iterator[Case]:
    for value in ("123456", "99", "700000"):
        yield Case(
            f"SELECT * FROM vessel WHERE code = {value}", ("unservable",), "vessel", only=MYSQLS
        )
        yield Case(
            f"SELECT * FROM vessel WHERE name = {value}", ("unservable",), "vessel", only=MYSQLS
        )
    for column, table in (("vessel_id", "port_call"), ("weight", "manifest_line"), ("port_call_id", "manifest_line"), ("port_call_id", "tug_job")):  # fmt: skip
        yield Case(
            f"SELECT * FROM {table} WHERE {column} = 7.5",
            ("unservable",),
            table,
            only=("postgresql",),
        )


def _sorts() -> Iterator[Case]:
    for table, order in (("vessel", "tonnage"), ("vessel", "built, name"), ("port_call", "fee"), ("port_call", "agent"), ("manifest_line", "tariff"), ("manifest_line", "goods, id"), ("tug_job", "minutes"), ("tug_job", "master DESC")):  # fmt: skip
        yield Case(f"SELECT * FROM {table} ORDER BY {order}", ("sorts",))
    for table, order in (
        ("vessel", "tonnage"),
        ("port_call", "fee"),
        ("manifest_line", "tariff"),
        ("tug_job", "minutes"),
    ):
        yield Case(f"SELECT id, {order} FROM {table} ORDER BY {order} LIMIT 500", ("sorts",))


def _parts() -> Iterator[Case]:
    """An index answers a part of the conditions; with a gap, or next to it."""
    for condition in ("status = 'due' AND eta < 20000 AND note = 'note 7'", "status = 'due' AND eta BETWEEN 5 AND 9000 AND fee < 900", "vessel_id = 7 AND agent = 'Agent 7'", "vessel_id = 9 AND status = 'due' AND fee > 100", "vessel_id IN (7, 8) AND note = 'note 3'"):  # fmt: skip
        yield Case(
            f"SELECT * FROM port_call WHERE {condition}", ("part", "reads-many"), "port_call"
        )
    for condition in (
        "port_call_id = 7 AND goods = 'goods 3'",
        "weight = 77 AND tariff = 8",
        "weight BETWEEN 7 AND 9 AND mark = 'M8'",
    ):
        yield Case(
            f"SELECT * FROM manifest_line WHERE {condition}",
            ("part", "reads-many"),
            "manifest_line",
        )
    for condition in ("tug_id = 7 AND started < 9000 AND master = 'Master 7'", "port_call_id = 7 AND minutes > 100", "port_call_id = 8 AND master = 'Master 1'"):  # fmt: skip
        yield Case(f"SELECT * FROM tug_job WHERE {condition}", ("part", "reads-many"), "tug_job")
    yield Case(
        "SELECT * FROM port_call WHERE status = 'left' AND agent = 'Agent 9'",
        ("part", "reads-many", "reads-all"),
        "port_call",
        only=("sqlite", *MYSQLS),
    )
    yield Case(
        "SELECT id FROM tug_job WHERE tug_id = 9 AND minutes = 5", ("part", "reads-many"), "tug_job"
    )
    yield Case(
        "SELECT * FROM vessel WHERE name = 'Tern 7' AND flag = 'NO'",
        ("part", "reads-many"),
        "vessel",
    )


def _per_row() -> Iterator[Case]:
    """A subquery that runs again for each row around it."""
    for what in ("count(*)", "max(c.eta)", "sum(c.fee)", "min(c.eta)"):
        yield Case(
            f"SELECT v.id, (SELECT {what} FROM port_call c WHERE c.vessel_id = v.id) FROM vessel v",
            ("per-row",),
        )
    for what in ("count(*)", "sum(l.weight)", "max(l.weight)"):
        yield Case(
            f"SELECT c.id, (SELECT {what} FROM manifest_line l WHERE l.port_call_id = c.id) FROM port_call c",
            ("per-row",),
        )
    for what in ("sum(j.minutes)", "count(*)"):
        yield Case(
            f"SELECT c.id, (SELECT {what} FROM tug_job j WHERE j.port_call_id = c.id) FROM port_call c WHERE c.status = 'due'",
            ("per-row",),
        )
    yield Case(
        "SELECT c.id FROM port_call c WHERE c.eta = (SELECT max(x.eta) FROM port_call x WHERE x.vessel_id = c.vessel_id)",
        ("per-row",),
    )


def _joins() -> Iterator[Case]:
    """A join by a column without an index, which SQLite answers by an index built for it, others by
    reading all each time.
    """
    for one, other, on, table in (
        ("vessel", "port_call", "b.berth_id = a.id", "port_call"), ("berth", "port_call", "b.berth_id = a.id", "port_call"),
        ("berth", "tug_job", "b.minutes = a.id", "tug_job"), ("vessel", "manifest_line", "b.tariff = a.id", "manifest_line"), ("berth", "manifest_line", "b.tariff = a.id", "manifest_line"),
    ):  # fmt: skip
        yield Case(
            f"SELECT a.id, b.id FROM {one} a LEFT JOIN {other} b ON {on}",
            ("builds-index", "reads-all"),
            table,
            only=("sqlite", "mariadb"),
        )


def _offsets() -> Iterator[Case]:
    for table, order in (("vessel", "id"), ("vessel", "name"), ("port_call", "id"), ("manifest_line", "id"), ("manifest_line", "weight"), ("tug_job", "id")):  # fmt: skip
        yield Case(f"SELECT id FROM {table} ORDER BY {order} LIMIT 20 OFFSET 2500", ("offset",))
    for table in ("port_call", "manifest_line", "tug_job"):
        yield Case(
            f"SELECT * FROM {table} WHERE id > 5 ORDER BY id LIMIT 50 OFFSET 8000", ("offset",)
        )


def _fan_outs() -> Iterator[Case]:
    """Rows that a join makes and DISTINCT takes out; MariaDB's join stops at the first of each by
    itself.
    """
    for column in ("flag", "built"):
        yield Case(f"SELECT DISTINCT v.{column} FROM vessel v JOIN port_call c ON c.vessel_id = v.id JOIN manifest_line l ON l.port_call_id = c.id", ("fan-out",), analyze=True, only=("postgresql", "mysql"))  # fmt: skip
    for column in ("status", "berth_id"):
        yield Case(f"SELECT DISTINCT c.{column} FROM port_call c JOIN manifest_line l ON l.port_call_id = c.id", ("fan-out",), analyze=True, only=("postgresql", "mysql"))  # fmt: skip


PROBLEMS = [case for part in (_scans, _functions, _wildcards, _types, _sorts, _parts, _per_row, _joins, _offsets, _fan_outs) for case in part() if case.only != ("none",)]  # fmt: skip


def _healthy() -> Iterator[str]:
    for table in SIZES:
        yield f"SELECT * FROM {table} WHERE id = 7"
        yield f"SELECT * FROM {table} WHERE id IN (1, 2, 3)"
        yield f"SELECT * FROM {table} WHERE id BETWEEN 5 AND 25"
        yield f"SELECT * FROM {table} ORDER BY id LIMIT 20"
        yield f"SELECT count(*) FROM {table}"
        yield f"SELECT max(id) FROM {table}"
        yield f"SELECT * FROM {table}"
        yield f"SELECT * FROM {table} WHERE id > 100 ORDER BY id LIMIT 20"
        yield f"SELECT id FROM {table} WHERE id = 3 UNION ALL SELECT id FROM {table} WHERE id = 9"
    yield from (
        "SELECT * FROM berth WHERE quay = 'Q1'",
        "SELECT * FROM berth WHERE lower(code) = 'b7'",
        "SELECT * FROM berth ORDER BY quay",
        "SELECT quay, count(*) FROM berth GROUP BY quay",
        "SELECT * FROM vessel WHERE name = 'Tern 77'",
        "SELECT * FROM vessel WHERE code = '123456'",
        "SELECT * FROM vessel WHERE name IN ('Tern 7', 'Tern 8')",
        "SELECT name FROM vessel ORDER BY name LIMIT 20",
        "SELECT * FROM vessel WHERE name = 'Tern 7' ORDER BY id",
        "SELECT * FROM port_call WHERE vessel_id = 7",
        "SELECT * FROM port_call WHERE vessel_id IN (7, 8, 9)",
        "SELECT * FROM port_call WHERE status = 'due' AND eta = 77",
        "SELECT * FROM port_call WHERE status = 'due' AND eta BETWEEN 100 AND 2000",
        "SELECT * FROM port_call WHERE status = 'due' ORDER BY eta LIMIT 20",
        "SELECT * FROM port_call WHERE status = 'due' AND eta = 77 AND agent = 'Agent 7'",
        "SELECT count(*) FROM port_call WHERE vessel_id = 7",
        "SELECT c.*, v.name FROM port_call c JOIN vessel v ON v.id = c.vessel_id WHERE c.id = 7",
        "SELECT c.*, v.name FROM port_call c JOIN vessel v ON v.id = c.vessel_id WHERE c.vessel_id = 7",
        "SELECT v.name, c.eta FROM vessel v LEFT JOIN port_call c ON c.vessel_id = v.id WHERE v.id = 7",
        "SELECT l.* FROM manifest_line l JOIN port_call c ON c.id = l.port_call_id WHERE c.vessel_id = 7",
        "SELECT * FROM manifest_line WHERE port_call_id = 7 ORDER BY id",
        "SELECT * FROM manifest_line WHERE weight = 77",
        "SELECT * FROM manifest_line WHERE weight BETWEEN 70 AND 80",
        "SELECT sum(weight) FROM manifest_line WHERE port_call_id = 7",
        "SELECT * FROM tug_job WHERE tug_id = 7 AND started = 77",
        "SELECT * FROM tug_job WHERE tug_id = 7 AND started < 2000 ORDER BY started",
        "SELECT tug_id, count(*) FROM tug_job WHERE port_call_id = 7 GROUP BY tug_id",
        "SELECT id FROM vessel WHERE EXISTS (SELECT 1 FROM port_call c WHERE c.vessel_id = vessel.id) AND id = 7",
        "SELECT * FROM vessel WHERE id IN (SELECT vessel_id FROM port_call WHERE id = 9)",
        "SELECT (SELECT count(*) FROM port_call c WHERE c.vessel_id = 7)",
        "SELECT status, count(*) FROM port_call GROUP BY status",
        "SELECT DISTINCT status FROM port_call",
        "SELECT id FROM port_call ORDER BY id LIMIT 20 OFFSET 20",
        "SELECT avg(weight) FROM manifest_line",
        "SELECT min(weight), max(weight) FROM manifest_line",
    )


HEALTHY = [Case(sql) for sql in _healthy()]
