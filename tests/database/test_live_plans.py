"""Plans of real servers: what is asked, what is observed, with the values that the application
sent.
"""

from __future__ import annotations

import json
import shutil
import sqlite3
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import refused, run
from tests.database.conftest import Office

Captured = Callable[[Office], Path]
Node = dict[str, Any]


def walk(nodes: list[Node]) -> list[Node]:
    return [node for one in nodes for node in [one, *walk(one["children"])]]


def planned(office: Office, sql: str, *words: object) -> list[Node]:
    ran = run("plan", "--db", office.url, "--sql", sql, "--json", *words)
    assert ran.code == 0, ran.err
    return walk(ran.json["statements"][0]["plan"])


def said(nodes: list[Node]) -> str:
    return "\n".join(
        f"{node['kind']} {node['table']}: {text}" for node in nodes for text in node["observations"]
    )


COUNTED = "SELECT c.id, (SELECT count(*) FROM tug_job t WHERE t.port_call_id = c.id) FROM port_call c WHERE c.status = 'departed'"
EACH = [
    ("SELECT * FROM port_call WHERE status = 'due' AND agent LIKE 'zz%'", "full scan port_call: reads all 3,000 rows of port_call to keep 0: no index answers status"),
    ("SELECT * FROM port_call ORDER BY eta", "an index in this order would return the rows sorted"),
    (COUNTED, "this subquery runs again for every row of the query around it"),
    ("SELECT * FROM port_call WHERE berth_id = 3 AND agent = 'none'", "the index answers berth_id; agent is then checked on each row"),
    ("SELECT * FROM port_call WHERE upper(status) = 'DUE'", "upper() around status prevents the use of an index on that column"),
    ("SELECT * FROM vessel WHERE call_sign LIKE '%42'", "the LIKE on call_sign starts with a wildcard"),
]  # fmt: skip


@pytest.mark.parametrize("sql, words", EACH)
def test_each_observation_stands_on_a_plan_of_each_server(
    sql: str, words: str, served: Office
) -> None:
    found = said(planned(served, sql, "--analyze"))
    if "keep 0" in words and served.system == "mariadb":
        words = "reads all 3,000 rows of port_call to keep"
    assert words in found, found


def test_what_only_a_run_shows(office_of: Callable[..., Office]) -> None:
    office = office_of("postgresql", "harbour_large")
    with office.connect() as db:
        db.execute("ALTER ROLE harbour SET work_mem = '64kB'")
    try:
        spilled = said(
            planned(office, "SELECT * FROM manifest_line ORDER BY goods, weight_kg", "--analyze")
        )
        assert "sort : did not fit into its memory and wrote" in spilled
        wrong = said(
            planned(office, "SELECT * FROM port_call WHERE lower(status) = 'departed'", "--analyze")
        )
        assert "the planner expected 75 rows" in wrong and "until CREATE STATISTICS" in wrong, (
            "no ANALYZE helps there"
        )
        asked = "SELECT count(*) FROM tug_job t CROSS JOIN LATERAL (SELECT minutes FROM manifest_line m WHERE m.port_call_id = t.port_call_id LIMIT 1) x"
        assert "its inner side" in said(planned(office, asked, "--analyze"))
    finally:
        office.ask("ALTER ROLE harbour RESET work_mem")


def test_a_value_of_another_type_takes_the_index_away(office_of: Callable[..., Office]) -> None:
    pg, maria = office_of("postgresql"), office_of("mariadb")
    found = said(planned(pg, "SELECT * FROM port_call WHERE berth_id = 3.5"))
    assert "the value's type makes the server convert berth_id of every row to numeric" in found, (
        found
    )
    assert "convert" not in said(planned(pg, "SELECT * FROM port_call WHERE berth_id = 3"))
    maria.ask("CREATE INDEX signs ON vessel (call_sign)")
    try:
        found = said(planned(maria, "SELECT * FROM vessel WHERE call_sign = 42"))
        assert "call_sign is a text but is compared with a number" in found
        assert said(planned(maria, "SELECT * FROM vessel WHERE call_sign = '42'")) == ""
    finally:
        maria.ask("DROP INDEX signs ON vessel")


def test_an_index_on_an_expression_is_named_where_there_is_one_and_is_used(office: Office) -> None:
    sql = "SELECT id FROM vessel WHERE lower(name) = 'tern'"
    (text,) = [
        line for line in said(planned(office, sql)).splitlines() if "prevents the use" in line
    ]
    if office.system == "mariadb":
        assert "CREATE INDEX" not in text
        return
    ddl = text.split("serves it: ")[1]
    (tried,) = run("trial", "--db", office.url, "--index", ddl, "--sql", sql, "--json").json[
        "statements"
    ]
    assert tried["uses_index"] and tried["same_result"]


def test_a_trigram_index_is_named_where_the_extension_is_there(
    office_of: Callable[..., Office],
) -> None:
    office = office_of("postgresql")
    sql = "SELECT id FROM vessel WHERE name LIKE '%quay%'"
    assert "CREATE INDEX" not in said(planned(office, sql))
    office.ask("CREATE EXTENSION pg_trgm")
    try:
        (text,) = [line for line in said(planned(office, sql)).splitlines() if "wildcard" in line]
        ddl = text.split("a trigram index can: ")[1]
        assert ddl == "CREATE INDEX vessel_name_trigrams ON vessel USING gin (name gin_trgm_ops)"
        done = run("trial", "--db", office.url, "--index", ddl, "--sql", sql, "--json")
        assert done.json["statements"][0]["same_result"], done.err
    finally:
        office.ask("DROP EXTENSION pg_trgm")


def test_nothing_is_said_of_what_is_fine(office: Office) -> None:
    for sql in (
        "SELECT * FROM port_call WHERE id = 7",
        "SELECT * FROM port_call WHERE berth_id = 3",
        "SELECT * FROM tug",
    ):
        assert said(planned(office, sql)) == "", sql


def test_every_query_of_a_capture_is_explained_with_its_values(
    office: Office, capture_of: Captured
) -> None:
    ran = run("plan", capture_of(office), "--db", office.url, "--top", 40, "--json")
    rows = ran.json["statements"]
    assert len(rows) >= 10 and [row["sql"] for row in rows if row["error"]] == []
    by_key = next(
        row for row in rows if "FROM vessel" in row["sql"] and "vessel.id =" in row["sql"]
    )
    (node,) = by_key["plan"]
    assert node["kind"] in ("key search", "index search") and node["table"] == "vessel"
    due = next(
        row for row in rows if "port_call.status =" in row["sql"] and "ORDER BY" in row["sql"]
    )
    assert any(index["columns"][0] == "status" for index in due["indexes"])


def test_one_request_and_one_query_of_it(served: Office, capture_of: Captured) -> None:
    """What a finder such as get() or first() has run already can be explained all the same: it is
    in the capture.
    """
    capture = capture_of(served)
    each = run("requests", capture, "--each", "--json").json["requests"]
    number = next(
        row["name"] for row in each if row["route"] == "GET /calls/{number}" and not row["warm_up"]
    )
    rows = run("plan", capture, "--db", served.url, "--request", number, "--json").json[
        "statements"
    ]
    assert any("tariff" in row["sql"] for row in rows) and sum(row["queries"] for row in rows) >= 4
    (first,) = run(
        "plan", capture, "--db", served.url, "--request", number, "--query", 1, "--json"
    ).json["statements"]
    assert first["queries"] == 1 and first["plan"][0]["table"] == "port_call"
    (shape,) = run(
        "plan", capture, "--db", served.url, "--shape", first["shape"][:8], "--json"
    ).json["statements"]
    assert shape["sql"] == first["sql"]
    refused(run("plan", capture, "--db", served.url, "--request", 999), "no request 999")
    refused(
        run("plan", capture, "--db", served.url, "--request", number, "--query", 99), "no query 99"
    )
    refused(run("plan", capture, "--db", served.url, "--shape", "zzz"), "no statement of shape zzz")


def test_values_of_many_types_reach_the_server_as_they_were(
    office_of: Callable[..., Office], record: Callable[..., Path]
) -> None:
    office = office_of("postgresql")
    office.ask(
        "CREATE TABLE IF NOT EXISTS watch (at timestamptz, day date, rate numeric(9,2), ref uuid, raw bytea, calm bool, "
        "span interval, name text, marks int[])"
    )
    assert office.server is not None
    capture = record(
        """
        import sys, uuid, decimal, datetime as d
        import psycopg, askless
        with psycopg.connect(host="127.0.0.1", port=int(sys.argv[1]), user="harbour", dbname="harbour") as db, askless.request("watch"):
            at = d.datetime(2026, 11, 23, 12, tzinfo=d.timezone.utc)
            values = [at, at.date(), decimal.Decimal("12.50"), uuid.UUID(int=7), b"\\x00\\xff", True, d.timedelta(1, 5), "100 %", [70000, 80000]]
            names = ["at", "day", "rate", "ref", "raw", "calm", "span", "name", "marks"]
            for name, value in zip(names, values):
                db.execute(f"SELECT * FROM watch WHERE {name} = %s AND name NOT LIKE '5%%'", (value,))
            db.execute("SELECT * FROM watch WHERE name = ANY(%(names)s)", {"names": ["a", "b'c"]})
        """,
        office.server.port,
    )
    hidden = run("plan", capture, "--db", office.url, "--top", 40, "--json").out
    assert "12.50" not in hidden and "2026-11-23" not in hidden, (
        "a server writes values into its conditions"
    )
    rows = run("plan", capture, "--db", office.url, "--top", 40, "--json", "--values").json[
        "statements"
    ]
    assert len(rows) == 10 and [row["error"] for row in rows if row["error"]] == []
    text = json.dumps(rows)
    for value in ("2026-11-23 12:00:00+00", "2026-11-23'::date", "12.50", "00000000-0000-0000-0000-000000000007", "\\\\x00ff", "1 day 00:00:05", "100 %", "{70000,80000}", "b''c"):  # fmt: skip
        assert value in text, value


def test_the_plan_without_a_look_at_the_values(office_of: Callable[..., Office]) -> None:
    """PostgreSQL may stop to plan a prepared statement for each value: it can't know then how a
    LIKE begins.
    """
    office = office_of("postgresql", "harbour_large")
    office.ask("CREATE INDEX tried ON vessel (call_sign)")
    office.ask("ANALYZE vessel")
    try:
        words = [
            "plan",
            "--db",
            office.url,
            "--sql",
            "SELECT * FROM vessel WHERE call_sign LIKE %s AND name <> '100 %%'",
        ]
        begun = run(*words, "--parameters", '["H0004%"]', "--json").json["statements"][0]
        assert (
            begun["plan"][0]["index"] == "tried" and begun["generic_plan"][0]["kind"] == "full scan"
        )
        assert "without its values" in run(*words, "--parameters", '["H0004%"]').out
        ended = run(*words, "--parameters", '["%4"]', "--json").json["statements"][0]
        assert ended["plan"][0]["kind"] == "full scan" and ended["generic_plan"] == []
    finally:
        office.ask("DROP INDEX tried")


def test_analyze_refuses_what_writes_and_ends_what_runs_on(served: Office) -> None:
    before = served.state(), served.ask("SELECT count(*) FROM clearance")
    for sql in (
        "DELETE FROM clearance",
        "UPDATE clearance SET state = 'x'",
        "INSERT INTO clearance SELECT * FROM clearance",
    ):
        refused(run("plan", "--db", served.url, "--sql", sql, "--analyze"), "one SELECT")
    refused(
        run("plan", "--db", served.url, "--sql", "SELECT * FROM berth FOR UPDATE", "--analyze"),
        "locks rows",
    )
    hidden = {
        "postgresql": [
            "SELECT * INTO copied FROM berth",
            "WITH gone AS (DELETE FROM clearance RETURNING id) SELECT * FROM gone",
        ],
        "mariadb": ["SELECT * FROM berth INTO OUTFILE '/tmp/berths.txt'", "SELECT 1 INTO @x"],
    }
    for sql in hidden[served.system]:
        refused(run("plan", "--db", served.url, "--sql", sql, "--analyze"), "SELECT")
    long = {"postgresql": "SELECT pg_sleep(30)", "mariadb": "SELECT SLEEP(30)"}[served.system]
    if served.system == "postgresql":
        refused(
            run("plan", "--db", served.url, "--sql", "SELECT nextval('berth_id_seq')", "--analyze"),
            "read-only",
        )
        stopped = run("plan", "--db", served.url, "--sql", long, "--analyze", "--timeout", "0.5")
    else:
        many = "SELECT count(*) FROM manifest_line a, manifest_line b, manifest_line c"
        stopped = run("plan", "--db", served.url, "--sql", many, "--analyze", "--timeout", "0.5")
    assert (
        stopped.code == 0 and "longer than 0.5 s" in stopped.out and "--timeout" in stopped.out
    ), stopped.err
    assert "ms own time" not in stopped.out and "  1 " in stopped.out, (
        "the plan without measurements"
    )
    refused(
        run("plan", "--db", served.url, "--sql", "SELECT 1", "--timeout", "0"),
        "--timeout takes seconds",
    )
    assert (served.state(), served.ask("SELECT count(*) FROM clearance")) == before


def test_a_parameter_whose_type_nobody_knows(served: Office, record: Callable[..., Path]) -> None:
    assert served.server is not None
    capture = record(
        """
        import sys, askless, sqlite3
        class Berth:
            pass
        db = sqlite3.connect(":memory:")
        sqlite3.register_adapter(Berth, lambda berth: 7)
        db.execute("CREATE TABLE berth (id)")
        with askless.request("berth"):
            db.execute("SELECT * FROM berth WHERE id = ?", (Berth(),))
        """
    )
    refused(
        run("plan", capture, "--db", served.url), "has the type Berth, which a capture can't store"
    )


def test_the_tree_and_the_picture(office: Office, tmp_path: Path) -> None:
    words = [
        "plan",
        "--db",
        office.url,
        "--sql",
        "SELECT * FROM port_call c JOIN vessel v ON v.id = c.vessel_id WHERE c.status = 'due' ORDER BY c.eta",
    ]
    if office.system == "sqlite":
        refused(run(*words, "--analyze"), "SQLite does not measure the steps", "trial")
    else:
        words.append("--analyze")
    shown = run(*words, "--tree").out
    assert (
        "rows expected" in shown
        and "port_call" in shown
        and ("└ " in shown or office.system == "sqlite")
    )
    assert ("only estimates" in shown) == (office.system == "sqlite")
    for name, begins in (("plan.svg", b"<?xml"), ("plan.png", b"\x89PNG")):
        assert run(*words, "--figure", tmp_path / name).code == 0
        assert (tmp_path / name).read_bytes().startswith(begins)
    assert "port_call" in (tmp_path / "plan.svg").read_text() or office.system
    refused(run(*words, "--figure", tmp_path / "plan.gif"), ".svg or .png")
    refused(run(*words, "--figure", tmp_path / "none" / "plan.png"), "no folder")


SPECIAL = {
    "postgresql": [
        "CREATE INDEX s_desc ON vessel (name DESC)", "CREATE INDEX s_ops ON vessel (name text_pattern_ops)",
        'CREATE INDEX s_coll ON vessel (name COLLATE "C")', "CREATE INDEX s_hash ON vessel USING hash (name)",
        "CREATE INDEX s_low ON vessel (lower(name))",
    ],
    "mariadb": ["CREATE INDEX s_prefix ON vessel (name(5))", "CREATE FULLTEXT INDEX s_text ON vessel (name)"],
    "sqlite": ["CREATE INDEX s_desc ON vessel (name DESC)", "CREATE INDEX s_coll ON vessel (name COLLATE NOCASE)"],
}  # fmt: skip


def test_indexes_of_another_kind_are_never_to_be_dropped(office: Office, tmp_path: Path) -> None:
    url = office.url
    if office.system == "sqlite":
        shutil.copy(url.removeprefix("sqlite:///"), tmp_path / "copy.db")
        url = f"sqlite:///{tmp_path / 'copy.db'}"
    statements = [
        *SPECIAL[office.system],
        "CREATE INDEX t_plain ON vessel (name)",
        "CREATE INDEX t_longer ON vessel (name, flag)",
    ]
    names = [text.split(" INDEX ")[1].split()[0] for text in statements]
    with closing(
        sqlite3.connect(tmp_path / "copy.db") if office.system == "sqlite" else office.connect()
    ) as connection:
        cursor = connection.cursor()
        try:
            for text in statements:
                cursor.execute(text)
            connection.commit()
            document = run("tables", "--db", url, "--json").json
            assert [row["index"] for row in document["redundant"] if row["table"] == "vessel"] == [
                "t_plain"
            ]
        finally:
            for name in names if office.system != "sqlite" else ():
                cursor.execute(
                    f"DROP INDEX {name}" + (" ON vessel" if office.system == "mariadb" else "")
                )
