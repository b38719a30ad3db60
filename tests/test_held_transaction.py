"""held-transaction: transactions that stay open while the application does something else, and
pauses that are none.
"""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any, Self

import pytest

from askless.capture.reading import read
from askless.core.records.model import CallSite, Wait
from tests.conftest import findings, run
from tests.test_traffic import Made, written

UPDATE = "UPDATE clearance SET state = $1 WHERE id = $2"
LOOK = "SELECT state FROM clearance WHERE id = $1"
CALL = CallSite("/app/customs.py", 30, "ask")


class Open(Made):
    """A request whose queries run inside of a transaction."""

    def inside(self, text: str, *parameters: Any, **more: Any) -> Self:
        return self.ask(text, *parameters, in_transaction=True, **more)

    def waits(self, ms: float, kind: str = "http", what: str = "POST customs.example") -> Self:
        """What the application waits for after the last query."""
        start = self.rows[-1].start_ns + self.rows[-1].duration_ns + 1_000
        self.errands.append(Wait(kind, what, start, int(ms * 1e6), CALL))
        return self

    def held(self) -> list[dict[str, Any]]:
        return held_in([self])


def held_in(requests: list[Open]) -> list[dict[str, Any]]:
    return [one for one in findings(written(requests)) if one["pattern"] == "held-transaction"]


@pytest.fixture
def made(tmp_path: Path) -> Callable[..., Open]:
    return lambda system="postgresql": Open(tmp_path, system)


def test_a_call_while_a_row_is_locked(made: Callable[..., Open]) -> None:
    request = made().ask("BEGIN").inside(UPDATE, "asked", 7).waits(120)
    request.inside(UPDATE, "cleared", 7, gap_ms=125).inside("COMMIT")
    (finding,) = request.held()
    assert finding["variant"] == "locks held" and finding["severity"] == "urgent"
    assert (
        "holds 1 row of clearance" in finding["title"]
        and "POST customs.example" in finding["title"]
    )
    assert finding["advice"][0]["at"]["file"] == "/app/customs.py" != finding["lines"][0]["file"]
    assert "move the call out of the transaction" in finding["advice"][0]["title"]
    assert finding["caveats"] == []


def test_a_pause_that_nobody_explains(made: Callable[..., Open]) -> None:
    def ask(ms: float) -> Open:
        return made().ask("BEGIN").inside(LOOK + " FOR UPDATE", 7).inside("COMMIT", gap_ms=ms)

    (finding,) = held_in([ask(80), ask(80)])
    assert finding["severity"] == "worthwhile" and "1 row of clearance" in finding["title"]
    assert finding["caveats"] != [] and finding["advice"][0]["code"] == ""


def test_a_call_while_nothing_is_locked(made: Callable[..., Open]) -> None:
    request = made().inside(LOOK, 7).waits(90).inside("ROLLBACK", gap_ms=95)
    (finding,) = request.held()
    assert (
        finding["severity"] == "minor"
        and finding["variant"] == "nothing locked"
        and len(finding["advice"]) == 1
    )


@pytest.mark.parametrize("begun", ["BEGIN IMMEDIATE", "BEGIN"])
def test_a_write_on_sqlite_locks_every_other_writer_out(
    begun: str, made: Callable[..., Open]
) -> None:
    request = made("sqlite").ask(begun)
    if begun == "BEGIN":
        request.inside("UPDATE clearance SET state = ? WHERE id = ?", "asked", 7)
    request.inside("SELECT state FROM clearance WHERE id = ?", 7).inside("COMMIT", gap_ms=280)
    (finding,) = request.held()
    assert "the whole database" in finding["title"]


def short(one: Open) -> None:
    one.ask("BEGIN").inside(UPDATE, "asked", 7).inside(UPDATE, "cleared", 7, gap_ms=15).inside(
        "COMMIT"
    )


def outside_of_it(one: Open) -> None:
    one.ask("BEGIN").inside(UPDATE, "asked", 7).inside("COMMIT")
    one.waits(200)
    one.ask("BEGIN", gap_ms=210).inside(UPDATE, "cleared", 7).inside("COMMIT")


def before_the_first_query(one: Open) -> None:
    one.ask("BEGIN")
    one.waits(200)
    one.inside(UPDATE, "asked", 7, gap_ms=210).inside("COMMIT")


def nothing_held_and_not_known_why(one: Open) -> None:
    one.ask("BEGIN").inside(LOOK, 7).inside("COMMIT", gap_ms=300)


def a_long_result_read_meanwhile(one: Open) -> None:
    one.ask("BEGIN").inside(UPDATE, "asked", 7)
    one.inside("SELECT id, cargo FROM manifest_line WHERE port_call_id = $1", 7, rows=4000)
    one.inside("COMMIT", gap_ms=300)


def on_another_connection(one: Open) -> None:
    one.ask("BEGIN").inside(UPDATE, "asked", 7).inside("COMMIT")
    one.ask(LOOK, 7, connection=2, gap_ms=300)


def a_long_query(one: Open) -> None:
    one.ask("BEGIN").inside(UPDATE, "asked", 7, duration_ns=300_000_000).inside(
        "COMMIT", gap_ms=301
    )


def never_committed_here(one: Open) -> None:
    one.ask("BEGIN").inside(UPDATE, "asked", 7)
    one.ask(LOOK, 7, connection=2, gap_ms=300)


def once_and_not_known_why(one: Open) -> None:
    one.ask("BEGIN").inside(UPDATE, "asked", 7).inside("COMMIT", gap_ms=120)


def one_of_four(one: Open) -> None:
    for turn in range(4):
        one.ask("BEGIN").inside(UPDATE, "asked", turn).inside(
            "COMMIT", gap_ms=300 if turn == 2 else 1
        )


def a_call_that_was_over_before(one: Open) -> None:
    one.ask(LOOK, 7).waits(150)
    one.ask("BEGIN", gap_ms=155).inside(UPDATE, "asked", 7).inside("COMMIT", gap_ms=120)


def two_whose_ends_were_not_seen(one: Open) -> None:
    one.inside(UPDATE, "asked", 7).ask(LOOK, 7).waits(200)
    one.inside(UPDATE, "cleared", 7, gap_ms=210)


TRAPS = [
    a_call_that_was_over_before, two_whose_ends_were_not_seen, short, outside_of_it, before_the_first_query, nothing_held_and_not_known_why, a_long_result_read_meanwhile,
    on_another_connection, a_long_query, never_committed_here, once_and_not_known_why, one_of_four,
]  # fmt: skip


@pytest.mark.parametrize("trap", TRAPS)
def test_pauses_that_hold_nothing_up(
    trap: Callable[[Open], None], made: Callable[..., Open]
) -> None:
    request = made()
    trap(request)
    assert request.held() == []


def test_a_pause_of_one_request_in_many_is_no_habit(tmp_path: Path) -> None:
    def ask(turn: int) -> Open:
        request = Open(tmp_path, "postgresql")
        request.ask("BEGIN").inside(UPDATE, "asked", 7).inside(
            "COMMIT", gap_ms=80 if turn == 0 else 2
        )
        return request

    assert held_in([ask(turn) for turn in range(3)]) == []


PROGRAM = """
import http.server, smtplib, sqlite3, subprocess, sys, threading, time, urllib.request
import askless_probe.waits
askless_probe.waits.LEAST_NS = 0

class Customs(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        self.send_response(200)
        self.end_headers()
    def log_message(self, *args):
        pass

class Office:
    rest = time.sleep

server = http.server.HTTPServer(("127.0.0.1", 0), Customs)
threading.Thread(target=server.serve_forever, daemon=True).start()
db = sqlite3.connect(":memory:")
db.execute("CREATE TABLE clearance (id INTEGER PRIMARY KEY, state TEXT)")
db.execute("INSERT INTO clearance VALUES (1, 'asked')")
urllib.request.urlopen("http://127.0.0.1:%d/manifest?secret=1" % server.server_port).read()
subprocess.run([sys.executable, "-c", "pass"])
Office().rest(0)
db.commit()
server.shutdown()
"""


def test_the_recorder_tells_what_was_waited_for(tmp_path: Path) -> None:
    program = tmp_path / "office.py"
    program.write_text(PROGRAM)
    done = run("capture", "app", "-o", tmp_path / "calls", "--", "python", program)
    assert done.code == 0, done.err
    (request,) = [one for one in read(tmp_path / "calls") if one.errands]
    told = [(one.kind, one.what, one.place.line if one.place else 0) for one in request.errands]
    name = Path(sys.executable).name
    assert list(dict.fromkeys(told)) == [
        ("http", "GET 127.0.0.1", 21),
        ("program", name, 22),
        ("sleep", "", 23),
    ]
    assert all(one.duration_ns > 0 for one in request.errands)
