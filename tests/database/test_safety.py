"""Nothing is left after, and no one is disturbed: Ctrl-C, lost connections, live servers, large
tables.
"""

from __future__ import annotations

import signal
import sqlite3
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import closing, suppress
from pathlib import Path
from typing import Any

import pytest
from sqlalchemy.exc import DBAPIError

from askless.capture.writing import CaptureWriter
from askless.core.records.traffic import QuerySeen, RequestBegan, RequestEnded
from askless.database import statement_execution
from askless.database.connecting import connect, parse_url
from tests.conftest import refused, run
from tests.database.conftest import Office

INDEX = "CREATE INDEX tried ON manifest_line (goods, weight_kg)"
BUSY = "SELECT count(*) FROM manifest_line a JOIN manifest_line b ON b.goods = a.goods AND b.weight_kg < a.weight_kg WHERE a.id < 80"
SLOW = "SELECT count(*) FROM manifest_line a JOIN manifest_line b ON b.goods = a.goods AND b.weight_kg < a.weight_kg"


@pytest.fixture
def large(office: Office, office_of: Callable[..., Office]) -> Office:
    """The larger office on each system."""
    return office_of(office.system, "harbour_large")


def begun(office: Office) -> Any:
    """A trial that has built its index and runs its statement again and again, some tenths of a
    second each time.
    """
    words = [
        sys.executable,
        "-m",
        "askless",
        "trial",
        "--db",
        office.url,
        "--index",
        INDEX,
        "--sql",
        BUSY,
    ]
    # however busy this machine is, the statement runs when the signal comes
    words += ["--timeout", "3600"]
    process = subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    wait_until(lambda: built(office) or process.poll() is not None)
    assert process.poll() is None, process.communicate()
    return process


def wait_until(holds: Callable[[], bool], most_s: float = 120) -> bool:
    """Look again and again; whether it came true."""
    pause, deadline = threading.Event(), time.monotonic() + most_s
    while not holds():
        if time.monotonic() > deadline:
            return False
        pause.wait(0.02)
    return True


def built(office: Office) -> bool:
    """Whether a trial's index is there: no one sees it in PostgreSQL, but everybody sees its lock."""
    if office.system == "postgresql":
        locks = "SELECT 1 FROM pg_locks l JOIN pg_class c ON c.oid = l.relation WHERE c.relname = 'manifest_line' AND l.mode = 'ShareLock' AND l.granted"
        return bool(office.ask(locks))
    if office.system == "mariadb":
        return bool(
            office.ask("SELECT 1 FROM information_schema.statistics WHERE index_name = 'tried'")
        )
    return any(with_index(folder / "indexed.db") for folder in folders())


def with_index(file: Path) -> bool:
    if not file.is_file():
        return False
    with closing(sqlite3.connect(f"file:{file}?mode=ro", uri=True)) as db, suppress(sqlite3.Error):
        return bool(db.execute("SELECT 1 FROM sqlite_schema WHERE name = 'tried'").fetchall())
    return False


def sessions(office: Office) -> list[int]:
    """The sessions of a trial at work on MariaDB."""
    found = office.ask("SELECT id FROM information_schema.processlist WHERE info LIKE '%manifest_line b%' AND id <> CONNECTION_ID()")  # fmt: skip
    return [int(session) for (session,) in found]


def folders() -> list[Path]:
    return list(Path(tempfile.gettempdir()).glob("askless-trial-*"))


def state(office: Office) -> Any:
    return office.state() if office.server is not None else folders()


def settled(office: Office, before: Any) -> bool:
    """Whether everything is as it was, within a minute."""
    return wait_until(lambda: state(office) == before, 60)


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_whoever_stops_a_trial_finds_nothing_left(number: int, large: Office) -> None:
    before = state(large)
    process = begun(large)
    process.send_signal(number)
    out, err = process.communicate(timeout=60)
    assert process.returncode == 130 and out == "" and "Traceback" not in err, err
    assert settled(large, before), state(large)


RUNNING = {
    "mariadb": "SELECT id FROM information_schema.processlist WHERE info LIKE '%manifest_line b%' AND id <> CONNECTION_ID()",
    "postgresql": "SELECT pid FROM pg_stat_activity WHERE query LIKE '%manifest_line b%' AND state = 'active' AND pid <> pg_backend_pid()",
}


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_a_statement_ends_with_whoever_asked_for_it(
    number: int, served: Office, office_of: Callable[..., Office]
) -> None:
    large = office_of(served.system, "harbour_large")
    endless = SLOW + " JOIN manifest_line c ON c.weight_kg > b.weight_kg"
    words = [
        sys.executable,
        "-m",
        "askless",
        "plan",
        "--db",
        large.url,
        "--sql",
        endless,
        "--analyze",
        "--timeout",
        "3600",
    ]
    process = subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    assert wait_until(lambda: bool(large.ask(RUNNING[large.system])) or process.poll() is not None)
    assert process.poll() is None, process.communicate()
    process.send_signal(number)
    out, err = process.communicate(timeout=60)
    assert process.returncode == 130 and out == "" and "Traceback" not in err, err
    assert wait_until(lambda: not large.ask(RUNNING[large.system]), 60), (
        "the server goes on with it"
    )


def test_nothing_is_left_beside_a_file(tmp_path: Path) -> None:
    """In WAL mode anyone who reads makes two files next to the database."""
    file = tmp_path / "logged.db"
    with closing(sqlite3.connect(file)) as db:
        db.execute("PRAGMA journal_mode = WAL")
        db.execute("CREATE TABLE berth (id INTEGER PRIMARY KEY, name TEXT)")
        db.executemany(
            "INSERT INTO berth (name) VALUES (?)", [(f"Berth {n % 7}",) for n in range(500)]
        )
        db.commit()
    before = file.read_bytes()
    sql = ("--sql", "SELECT id FROM berth WHERE name = 'Berth 3'")
    for words in (
        ["tables"],
        ["plan", *sql],
        ["trial", "--index", "CREATE INDEX tried ON berth (name)", *sql],
    ):
        ran = run(words[0], "--db", f"sqlite:///{file}", *words[1:])
        assert ran.code == 0, ran.err
        assert [path.name for path in tmp_path.iterdir()] == [
            "logged.db"
        ] and file.read_bytes() == before
    with closing(sqlite3.connect(file)) as db:  # someone is at work on it: their files stay
        db.execute("INSERT INTO berth (name) VALUES ('Berth 8')")
        db.commit()
        ran = run("plan", "--db", f"sqlite:///{file}", *sql)
        assert ran.code == 0 and len(list(tmp_path.iterdir())) == 3


def test_a_killed_trial_is_cleaned_up_after(large: Office) -> None:
    before = state(large)
    process = begun(large)
    process.kill()
    process.communicate(timeout=60)
    if large.system == "postgresql":
        assert settled(large, before), "the server notices that nobody listens"
        return
    assert state(large) != before
    # its session goes on with its statement: end it, as an administrator would
    if large.system == "mariadb":
        for session in sessions(large):
            large.ask(f"KILL {session}")
        assert wait_until(lambda: not sessions(large))
    small = [
        "trial",
        "--db",
        large.url,
        "--index",
        "CREATE INDEX n ON berth (name)",
        "--sql",
        "SELECT * FROM berth",
    ]
    ran = run(*small)
    assert ran.code == 0 and "removed" in ran.err, ran.err
    assert settled(large, before), state(large)


def test_a_connection_that_is_lost(served: Office, office_of: Callable[..., Office]) -> None:
    large = office_of(served.system, "harbour_large")
    before = large.state()
    process = begun(large)
    if large.system == "postgresql":
        large.ask(
            "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = 'askless'"
        )
    else:
        assert wait_until(lambda: bool(sessions(large)))
        for session in sessions(large):
            large.ask(f"KILL {session}")
    out, err = process.communicate(timeout=60)
    assert process.returncode == 2 and out == "" and "Traceback" not in err, err
    assert err.startswith("askless: ") and "try again" in err, err
    assert settled(large, before), large.state()


@pytest.fixture
def busy(served: Office) -> Iterator[Office]:
    """Another session in the middle of its work on vessels."""
    connection = served.connect()
    cursor = connection.cursor()
    cursor.execute("BEGIN")
    cursor.execute("UPDATE vessel SET flag = flag WHERE id = 1")
    yield served
    cursor.execute("ROLLBACK")
    connection.close()


def test_a_trial_gives_way_to_whoever_waits(office_of: Callable[..., Office]) -> None:
    large = office_of("postgresql", "harbour_large")
    before = large.state()
    process = begun(large)
    # waits for the trial, or this hangs
    large.ask("UPDATE manifest_line SET goods = goods WHERE id = 1 RETURNING id")
    out, err = process.communicate(timeout=60)
    assert (
        process.returncode == 2
        and out == ""
        and "the trial was stopped" in err
        and "--lock-budget" in err
    ), err
    assert "--use-copies" in err
    assert settled(large, before), large.state()


def test_an_index_on_copies_locks_nothing(office_of: Callable[..., Office]) -> None:
    """Someone holds the table as a writer does: an index on the table itself would have to wait."""
    office = office_of("postgresql")
    before = office.state()
    words = [
        "trial",
        "--db",
        office.url,
        "--index",
        "CREATE INDEX signs ON vessel (call_sign)",
        "--sql",
        "SELECT * FROM vessel WHERE call_sign = 'H00042'",
        "--json",
    ]
    writer = office.connect()
    try:
        writer.autocommit = False
        writer.cursor().execute("UPDATE vessel SET name = name WHERE id = 1")
        refused(run(*words, "--allow-busy"), "lock timeout")
        done = run(*words, "--use-copies")
    finally:
        writer.rollback()
        writer.close()
    assert done.code == 0, done.err
    (row,) = done.json["statements"]
    assert (
        row["uses_index"]
        and row["same_result"]
        and done.json["where"] == "on copies that only its sessions see"
    )
    assert done.json["size_bytes"] > 10_000 and done.json["locked_ms"] == 0
    assert settled(office, before)


def test_a_table_that_is_read_and_written_in_between_is_seen(
    office_of: Callable[..., Office],
) -> None:
    """Each statement is over before anybody can look at its locks."""
    large = office_of("postgresql", "harbour_large")
    over = threading.Event()

    def work() -> None:
        while not over.wait(0.02):
            large.ask("UPDATE berth SET name = name WHERE id = 1 RETURNING id")

    thread = threading.Thread(target=work)
    thread.start()
    try:
        ran = run(
            "trial",
            "--db",
            large.url,
            "--index",
            "CREATE INDEX n ON berth (name)",
            "--sql",
            "SELECT * FROM berth",
        )
    finally:
        over.set()
        thread.join()
    assert ran.code == 2 and "this database looks live" in ran.err and "berth" in ran.err, ran.err


def test_a_live_server_is_left_alone_unless_confirmed(busy: Office, tmp_path: Path) -> None:
    words = [
        "trial",
        "--db",
        busy.url,
        "--index",
        "CREATE INDEX n ON vessel (name)",
        "--sql",
        "SELECT * FROM vessel",
    ]
    refused(run(*words), "this database looks live", "--allow-busy")
    refused(
        run("weigh", "--db", busy.url, "--sql", "SELECT id FROM vessel WHERE flag = 'NO'"),
        "looks live",
    )
    (tmp_path / "a.sql").write_text("SELECT id FROM vessel")
    rewrite = [
        "trial",
        "--db",
        busy.url,
        "--before",
        tmp_path / "a.sql",
        "--after",
        tmp_path / "a.sql",
    ]
    refused(run(*rewrite), "looks live")
    assert run(*rewrite, "--allow-busy").code == 0
    confirmed = run(*words, "--allow-busy")
    # the other session's lock is in the way of an index: no endless wait for it
    if busy.system == "postgresql":
        refused(confirmed, "lock timeout", "another session has locked the table")
    else:
        assert confirmed.code == 0, confirmed.err


def test_a_quiet_server_is_not_called_live(served: Office) -> None:
    connection = served.connect()  # someone is connected, and idle
    try:
        assert (
            run(
                "weigh", "--db", served.url, "--sql", "SELECT id FROM vessel WHERE flag = 'NO'"
            ).code
            == 0
        )
    finally:
        connection.close()


def test_a_table_that_is_too_large(office: Office, monkeypatch: pytest.MonkeyPatch) -> None:
    """The limit is lowered: no one wants to make half a gigabyte for this."""
    from askless.core.errors import AskLessError
    from askless.database.connecting import parse_url
    from askless.database.index_trial import TriedStatement, try_index
    from askless.database.servers import Limits

    asked = [TriedStatement("SELECT * FROM inspection")]
    ddl = "CREATE INDEX n ON inspection (verdict)"
    with pytest.raises(AskLessError) as caught:
        try_index(parse_url(office.url), ddl, asked, Limits(table_bytes=20_000))
    assert caught.value.slug == "too-large" and "--allow-large" in caught.value.remedy
    trial = try_index(
        parse_url(office.url), ddl, asked, Limits(table_bytes=20_000, allow_large=True)
    )
    assert trial.statements[0].difference == ""


def test_a_statement_that_takes_too_long(large: Office) -> None:
    before = state(large)
    ran = run("trial", "--db", large.url, "--index", INDEX, "--sql", SLOW, "--timeout", "0.2")
    refused(ran, "longer than 0.2 s", "--timeout")
    refused(
        run("weigh", "--db", large.url, "--sql", SLOW + " WHERE a.id > 0", "--timeout", "0.2"),
        "longer than 0.2 s",
    )
    assert settled(large, before)


def test_what_writes_behind_a_select_is_never_run(served: Office, tmp_path: Path) -> None:
    """A sequence is still, though an index is measured without and with it; a comment that a server
    runs is refused.
    """
    trial = [
        "trial",
        "--db",
        served.url,
        "--index",
        "CREATE INDEX tried ON vessel (length_m)",
        "--sql",
    ]
    if served.system == "postgresql":
        served.ask("CREATE SEQUENCE IF NOT EXISTS tried_by")
        refused(
            run(*trial, "SELECT id FROM vessel WHERE length_m > nextval('tried_by')"), "read-only"
        )
        assert served.ask("SELECT last_value, is_called FROM tried_by") == [(1, False)]
        served.ask("DROP SEQUENCE tried_by")
        return
    before = served.state()
    for hidden in (
        "/*! INTO OUTFILE '/tmp/tried' */",
        "/*!50000 FOR UPDATE */",
        "/*M! INTO @tried */",
    ):
        sql = f"SELECT id FROM vessel WHERE length_m > 100 {hidden}"
        (tmp_path / "plain.sql").write_text("SELECT id FROM vessel")
        (tmp_path / "hidden.sql").write_text(sql)
        refused(run(*trial, sql), "a comment that the server runs")
        refused(
            run("plan", "--db", served.url, "--sql", sql, "--analyze"),
            "a comment that the server runs",
        )
        refused(run("weigh", "--db", served.url, "--sql", sql), "a comment that the server runs")
        files = ["--before", tmp_path / "plain.sql", "--after", tmp_path / "hidden.sql"]
        refused(run("trial", "--db", served.url, *files), "a comment that the server runs")
    assert served.state() == before
    spoken = (
        "SELECT id FROM vessel WHERE name <> '/*! no comment */' AND length_m > 100 /* nor this */"
    )
    assert run(*trial, spoken).code == 0


REACHING = {
    "postgresql": [
        "pg_notify('calls', 'x')",
        "pg_advisory_lock(7)",
        "lo_create(0)",
        '"Sail away"()',
    ],
    "mariadb": ["GET_LOCK('calls', 1)", "sail_away()"],
}


def test_what_a_view_calls_is_looked_at(served: Office) -> None:
    call = (
        "pg_advisory_lock(7) IS NOT NULL"
        if served.system == "postgresql"
        else "GET_LOCK('tide', 0) = 1"
    )
    served.ask(f"CREATE VIEW held AS SELECT id FROM vessel WHERE {call}")
    served.ask("CREATE VIEW outer_held AS SELECT h.id FROM held h JOIN berth b ON b.id = h.id")
    served.ask("CREATE VIEW harmless AS SELECT id, lower(name) AS name FROM vessel")
    try:
        for words in (["weigh"], ["plan", "--analyze"]):
            ran = run(*words, "--db", served.url, "--sql", "SELECT id FROM outer_held WHERE id < 5")
            refused(ran, "--trust-function")
        assert (
            run(
                "plan",
                "--analyze",
                "--db",
                served.url,
                "--sql",
                "SELECT id FROM harmless WHERE id < 5",
            ).code
            == 0
        )
    finally:
        for name in ("outer_held", "held", "harmless"):
            served.ask(f"DROP VIEW {name}")


def test_functions_that_reach_outside_are_refused(served: Office, tmp_path: Path) -> None:
    """What a trial takes back is on no other server and in no other session: such functions never
    run, unless trusted.
    """
    if served.system == "postgresql":
        served.ask(
            "CREATE FUNCTION \"Sail away\"() RETURNS int LANGUAGE plpgsql AS 'BEGIN RETURN 1; END'"
        )
    else:
        served.ask("CREATE FUNCTION sail_away() RETURNS int DETERMINISTIC NO SQL RETURN 1")
    try:
        for call in REACHING[served.system]:
            sql = f"SELECT id FROM vessel WHERE length_m > 100 AND {call} IS NOT NULL"
            (tmp_path / "plain.sql").write_text("SELECT id FROM vessel")
            (tmp_path / "calls.sql").write_text(sql)
            for words in (
                ["trial", "--index", "CREATE INDEX tried ON vessel (length_m)", "--sql", sql],
                ["trial", "--before", tmp_path / "plain.sql", "--after", tmp_path / "calls.sql"],
                ["weigh", "--sql", sql],
                ["plan", "--sql", sql, "--analyze"],
            ):
                refused(run(*words, "--db", served.url), "the statement runs", "--trust-function")
        planned = run("plan", "--sql", sql, "--db", served.url)
        if served.system == "postgresql":
            assert planned.code == 0, "a planner evaluates no volatile function"
        else:
            # it may evaluate a deterministic one
            refused(planned, "the statement runs", "--trust-function")
        name = "Sail away" if served.system == "postgresql" else "sail_away"
        assert run("weigh", "--sql", sql, "--db", served.url, "--trust-function", name).code == 0
        plain = "SELECT lower(name), coalesce(length_m, 0) FROM vessel WHERE name <> 'GET_LOCK(1)' AND id IN (1, 2)"
        assert run("plan", "--sql", plain, "--db", served.url, "--analyze").code == 0
    finally:
        served.ask(
            "DROP FUNCTION " + ('"Sail away"' if served.system == "postgresql" else "sail_away")
        )


ONE_AT_A_TIME = {
    "select 1; commit; drop table doomed": "one SELECT",
    "commit": "one SELECT",
    "update doomed set id = 2; commit; delete from doomed; commit": "one SELECT",
}


@pytest.mark.parametrize("sql", ONE_AT_A_TIME)
def test_a_text_of_several_statements_reaches_no_database(
    sql: str, office: Office, tmp_path: Path
) -> None:
    """Neither as it is typed nor as it was captured."""
    if office.server is None:
        with closing(sqlite3.connect(office.url.removeprefix("sqlite:///"))) as db:
            db.executescript("CREATE TABLE doomed (id INTEGER); INSERT INTO doomed VALUES (1)")
    else:
        office.ask("CREATE TABLE doomed (id INTEGER)")
        office.ask("INSERT INTO doomed VALUES (1)")
    try:
        captured = text_capture(tmp_path / "captured", office.system, sql)
        refused(run("plan", "--db", office.url, "--sql", sql), ONE_AT_A_TIME[sql])
        for words in (
            ["plan", captured],
            ["plan", captured, "--request", "1", "--query", "1"],
            ["weigh", captured],
        ):
            assert run(*words, "--db", office.url).code == 2
        assert rows_of(office, "SELECT id FROM doomed") == [(1,)]
    finally:
        if office.server is None:
            with closing(sqlite3.connect(office.url.removeprefix("sqlite:///"))) as db:
                db.execute("DROP TABLE doomed")
        else:
            office.ask("DROP TABLE doomed")


def rows_of(office: Office, sql: str) -> list[tuple[Any, ...]]:
    if office.server is not None:
        return office.ask(sql)
    with closing(sqlite3.connect(office.url.removeprefix("sqlite:///"))) as db:
        return db.execute(sql).fetchall()


def text_capture(path: Path, system: str, sql: str) -> Path:
    """A capture of one request that sent a text."""
    writer = CaptureWriter(path, "test", system)
    writer.request_began(RequestBegan(1, "GET /texts", 0))
    writer.queries(1, [QuerySeen(sql, 1000, 100, rows=1)])
    writer.request_ended(RequestEnded(1, 10_000))
    writer.close()
    return path


def test_the_server_itself_refuses_a_second_statement(served: Office) -> None:
    """Whatever a reader of texts makes of it, and whatever the URL asks for."""
    for url in (
        (served.url, served.url + "?client_flag=65536")
        if served.system == "mariadb"
        else (served.url,)
    ):
        with connect(parse_url(url)) as connection, pytest.raises(DBAPIError):
            statement_execution._send(connection, "SELECT 1; SELECT 2", ())


def test_a_transaction_that_reads_can_not_be_made_to_write(served: Office) -> None:
    served.ask("CREATE TABLE doomed (id INTEGER)")
    try:
        for undo in (
            "SET TRANSACTION READ WRITE",
            "SELECT set_config('transaction_read_only', 'off', false)",
        ):
            with connect(parse_url(served.url)) as connection, suppress(DBAPIError):
                statement_execution._send(connection, undo, ())
                pytest.fail(f"{undo} was allowed")
            with connect(parse_url(served.url)) as connection, pytest.raises(DBAPIError):
                statement_execution._send(connection, "INSERT INTO doomed VALUES (1)", ())
    finally:
        served.ask("DROP TABLE doomed")


HIDDEN = {
    "attribute notation": ("select v.ring from vessel v", "CREATE FUNCTION ring(vessel) RETURNS text LANGUAGE sql AS 'SELECT $1.name'"),
    "an operator": ("select id <-> 1 from vessel", "CREATE FUNCTION ring(int, int) RETURNS int LANGUAGE sql IMMUTABLE AS 'SELECT $1'; CREATE OPERATOR <-> (LEFTARG = int, RIGHTARG = int, FUNCTION = ring)"),
    "a comparison of rows": (
        "select (id, 1) <-> (2, 3) from vessel",
        "CREATE FUNCTION ring(int, int) RETURNS bool LANGUAGE sql IMMUTABLE AS 'SELECT $1 < $2'; CREATE FUNCTION ring_order(int, int) RETURNS int LANGUAGE sql IMMUTABLE AS 'SELECT 0';"
        "CREATE OPERATOR <-> (LEFTARG = int, RIGHTARG = int, FUNCTION = ring); CREATE OPERATOR CLASS rings FOR TYPE int USING btree AS OPERATOR 1 <->, FUNCTION 1 ring_order(int, int)",
    ),
    "an order of an operator": (
        "select id from vessel where id <-> 2",
        "CREATE FUNCTION ring(int, int) RETURNS int LANGUAGE sql IMMUTABLE AS 'SELECT $1 - $2'; CREATE OPERATOR <-> (LEFTARG = int, RIGHTARG = int, FUNCTION = int4lt);"
        "CREATE OPERATOR CLASS rings FOR TYPE int USING btree AS OPERATOR 1 <->, FUNCTION 1 ring(int, int)",
    ),
    "a cast": ("select row(1)::tonnage::int", "CREATE TYPE tonnage AS (t int); CREATE FUNCTION ring(tonnage) RETURNS int LANGUAGE sql IMMUTABLE AS 'SELECT 1'; CREATE CAST (tonnage AS int) WITH FUNCTION ring(tonnage)"),
    "a domain": ("select id::draught from vessel", "CREATE FUNCTION ring(int) RETURNS bool LANGUAGE plpgsql IMMUTABLE AS 'BEGIN RETURN true; END'; CREATE DOMAIN draught AS int CHECK (ring(value))"),
    "a literal that a domain checks": ("select '{1}'::draught[]", "CREATE FUNCTION ring(int) RETURNS bool LANGUAGE plpgsql IMMUTABLE AS 'BEGIN RAISE EXCEPTION ''rung''; END'; CREATE DOMAIN draught AS int CHECK (ring(value))"),
    "an aggregate": ("select rings(id) from vessel", "CREATE FUNCTION ring(int) RETURNS int LANGUAGE sql IMMUTABLE AS 'SELECT 1'; CREATE AGGREGATE rings(int) (SFUNC = int4pl, STYPE = int, FINALFUNC = ring)"),
    "row security": ("select * from guarded", "CREATE FUNCTION ring(int) RETURNS bool LANGUAGE sql STABLE AS 'SELECT true'; CREATE TABLE guarded (id int); CREATE POLICY p ON guarded USING (ring(id)); ALTER TABLE guarded ENABLE ROW LEVEL SECURITY"),
    "a view of another schema": ("select * from far.away", "CREATE SCHEMA far; CREATE FUNCTION far.ring() RETURNS int LANGUAGE sql IMMUTABLE AS 'SELECT 1'; CREATE VIEW far.away AS SELECT far.ring() AS a"),
    "other letters": ("select U&\"r\\0069ng\"(id) from vessel", "CREATE FUNCTION ring(int) RETURNS int LANGUAGE sql IMMUTABLE AS 'SELECT 1'"),
}  # fmt: skip


@pytest.mark.parametrize("where", HIDDEN)
def test_a_routine_is_refused_wherever_it_hides(
    where: str, office_of: Callable[..., Office]
) -> None:
    """As the server parses the statement; unless it is named."""
    office = office_of("postgresql")
    sql, made = HIDDEN[where]
    with closing(office.connect()) as connection:
        connection.execute(made)
        try:
            words = ["--db", office.url, "--sql", sql]
            refused(run("plan", *words, "--analyze"), "ring", "--trust-function")
            refused(run("plan", *words), "ring", "--trust-function")
            if "literal" not in where:
                trusted = ["--trust-function", "ring", "--trust-function", "ring_order"]
                assert run("plan", *words, "--analyze", *trusted).code == 0
        finally:
            connection.execute(
                "DROP OPERATOR FAMILY IF EXISTS rings USING btree CASCADE; DROP FUNCTION IF EXISTS ring_order(int, int); DROP SCHEMA IF EXISTS far CASCADE; DROP TABLE IF EXISTS guarded; DROP AGGREGATE IF EXISTS rings(int);"
                "DROP DOMAIN IF EXISTS draught; DROP TYPE IF EXISTS tonnage CASCADE; DROP OPERATOR IF EXISTS <-> (int, int);"
                "DROP FUNCTION IF EXISTS ring(vessel); DROP FUNCTION IF EXISTS ring(int); DROP FUNCTION IF EXISTS ring(int, int)"
            )
