"""Nothing is left behind, and nobody is disturbed: Ctrl-C, lost connections, live servers, large tables."""

from __future__ import annotations

import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from tests.cli.test_bad_input import refused
from tests.conftest import run
from tests.database.conftest import Office

INDEX = "CREATE INDEX tried ON manifest_line (goods, weight_kg)"
SLOW = "SELECT count(*) FROM manifest_line a JOIN manifest_line b ON b.goods = a.goods AND b.weight_kg < a.weight_kg"


@pytest.fixture
def large(office: Office, office_of: Callable[..., Office]) -> Office:
    """The larger office on each system."""
    return office_of(office.system, "harbour_large")


def begun(office: Office) -> Any:
    """A trial whose statement runs for a while, once it has built its index."""
    words = [sys.executable, "-m", "askless", "trial", "--db", office.url, "--index", INDEX, "--sql", SLOW]
    words += ["--timeout", "3600"]  # however busy this machine is, the statement runs when the signal comes
    process = subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    deadline = time.monotonic() + 120
    while not at_work(office):
        assert process.poll() is None, process.communicate()
        assert time.monotonic() < deadline, "the trial never came to its statement"
    return process


def at_work(office: Office) -> bool:
    if office.system == "postgresql":
        return bool(office.ask("SELECT 1 FROM pg_stat_activity WHERE query LIKE 'SELECT count(*)%manifest_line b%' AND pid <> pg_backend_pid()"))  # fmt: skip
    if office.system == "mariadb":
        return bool(office.ask("SELECT 1 FROM information_schema.processlist WHERE info LIKE 'SELECT count(*)%manifest_line b%' AND id <> CONNECTION_ID()"))  # fmt: skip
    return any(list(folder.iterdir()) for folder in folders())


def folders() -> list[Path]:
    return list(Path(tempfile.gettempdir()).glob("askless-trial-*"))


def state(office: Office) -> Any:
    return office.state() if office.server is not None else folders()


def settled(office: Office, before: Any) -> bool:
    """Whether everything is as it was, within a minute."""
    deadline = time.monotonic() + 60
    while time.monotonic() < deadline:
        if state(office) == before:
            return True
    return False


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_whoever_stops_a_trial_finds_nothing_left(number: int, large: Office) -> None:
    before = state(large)
    process = begun(large)
    process.send_signal(number)
    out, err = process.communicate(timeout=60)
    assert process.returncode == 130 and out == "" and "Traceback" not in err, err
    assert settled(large, before), state(large)


def test_a_killed_trial_is_cleaned_up_after(large: Office) -> None:
    before = state(large)
    process = begun(large)
    process.kill()
    process.communicate(timeout=60)
    if large.system == "postgresql":
        assert settled(large, before), "the server notices that nobody listens"
        return
    assert state(large) != before
    if large.system == "mariadb":  # its session goes on with its statement: end it, as an administrator would
        for (session,) in large.ask("SELECT id FROM information_schema.processlist WHERE info LIKE '%manifest_line b%' AND id <> CONNECTION_ID()"):  # fmt: skip
            large.ask(f"KILL {session}")
        while at_work(large):
            pass
    small = ["trial", "--db", large.url, "--index", "CREATE INDEX n ON berth (name)", "--sql", "SELECT * FROM berth"]
    ran = run(*small)
    assert ran.code == 0 and "an earlier trial had been cut off; removed" in ran.err, ran.err
    assert settled(large, before), state(large)


def test_a_connection_that_is_lost(served: Office, office_of: Callable[..., Office]) -> None:
    large = office_of(served.system, "harbour_large")
    before = large.state()
    process = begun(large)
    if large.system == "postgresql":
        large.ask("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = 'askless'")
    else:
        for (session,) in large.ask("SELECT id FROM information_schema.processlist WHERE info LIKE '%manifest_line b%' AND id <> CONNECTION_ID()"):  # fmt: skip
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


def test_a_live_server_is_left_alone_unless_confirmed(busy: Office, tmp_path: Path) -> None:
    words = ["trial", "--db", busy.url, "--index", "CREATE INDEX n ON vessel (name)", "--sql", "SELECT * FROM vessel"]
    refused(run(*words), "this database looks live", "--even-if-busy")
    refused(run("weigh", "--db", busy.url, "--sql", "SELECT id FROM vessel WHERE flag = 'NO'"), "looks live")
    (tmp_path / "a.sql").write_text("SELECT id FROM vessel")
    rewrite = ["trial", "--db", busy.url, "--before", tmp_path / "a.sql", "--after", tmp_path / "a.sql"]
    refused(run(*rewrite), "looks live")
    assert run(*rewrite, "--even-if-busy").code == 0
    confirmed = run(*words, "--even-if-busy")
    if busy.system == "postgresql":  # the other session's lock stands in the way of an index: no endless wait for it
        refused(confirmed, "lock timeout", "another session holds the table")
    else:
        assert confirmed.code == 0, confirmed.err


def test_a_quiet_server_is_not_called_live(served: Office) -> None:
    connection = served.connect()  # somebody is connected, and idle
    try:
        assert run("weigh", "--db", served.url, "--sql", "SELECT id FROM vessel WHERE flag = 'NO'").code == 0
    finally:
        connection.close()


def test_a_table_that_is_too_large(office: Office, monkeypatch: pytest.MonkeyPatch) -> None:
    """The limit is lowered: nobody wants to make half a gigabyte for this."""
    from askless.core.errors import AskLessError
    from askless.database.connecting import parse_url
    from askless.database.index_trial import Asked, try_index
    from askless.database.servers import Limits

    asked = [Asked("SELECT * FROM inspection")]
    ddl = "CREATE INDEX n ON inspection (verdict)"
    with pytest.raises(AskLessError) as caught:
        try_index(parse_url(office.url), ddl, asked, Limits(table_bytes=20_000))
    assert caught.value.slug == "too-large" and "--allow-large" in caught.value.remedy
    trial = try_index(parse_url(office.url), ddl, asked, Limits(table_bytes=20_000, allow_large=True))
    assert trial.statements[0].difference == ""


def test_a_statement_that_takes_too_long(large: Office) -> None:
    before = state(large)
    ran = run("trial", "--db", large.url, "--index", INDEX, "--sql", SLOW, "--timeout", "0.2")
    refused(ran, "longer than 0.2 s", "--timeout")
    refused(run("weigh", "--db", large.url, "--sql", SLOW + " WHERE a.id > 0", "--timeout", "0.2"), "longer than 0.2 s")
    assert settled(large, before)
