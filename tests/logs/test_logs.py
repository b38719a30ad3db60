"""Logs of real servers under each setting, and logs that are none, torn, rotated or in another
format than told.
"""

from __future__ import annotations

import gzip
import json
import os
import signal
import subprocess
import time
from itertools import pairwise
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, strategies as st

import askless
from askless.sources.logs import UnreadLine, format_of, looks_like
from askless.sources.logs.postgresql_records import parameters_of
from askless.sources.logs.prefixes import USUAL, guessed, nanoseconds_of, pattern_of
from tests import servers
from tests.conftest import ASKLESS, findings, run

WRITTEN = Path(__file__).parent / "written"
LOOK_UP = "SELECT name\nFROM vessel WHERE id = $1"
PREFIX = "%m [%p] %q%u@%d/%a "
SETTINGS: dict[str, dict[str, object]] = {
    "durations": {"log_min_duration_statement": 0, "log_line_prefix": PREFIX},
    "statements and durations": {
        "log_statement": "all",
        "log_duration": "on",
        "log_line_prefix": "%n [%p] %c %v ",
    },
    "statements alone": {"log_statement": "all", "log_line_prefix": "%m [%c] "},
    "seconds": {"log_min_duration_statement": 0, "log_line_prefix": "%t:%r:%u@%d:[%p]:"},
}
FILES: dict[str, object] = {
    "log_min_duration_statement": 0, "logging_collector": "on", "log_destination": "csvlog,jsonlog,stderr", "log_line_prefix": PREFIX,
}  # fmt: skip


def asked(server: servers.Server) -> None:
    """Three pages of eight lookups each, in a transaction; a mistake."""
    with server.connect("postgres") as connection:
        connection.execute("CREATE TABLE vessel (id int PRIMARY KEY, name text)")
        connection.execute(
            "INSERT INTO vessel SELECT n, 'Tern ' || n FROM generate_series(1, 60) n"
        )
        connection.autocommit = False
        for page in range(3):
            for key in range(8):
                connection.execute("SELECT name\nFROM vessel WHERE id = %s", [key + page])
            connection.commit()
        try:
            connection.execute("SELECT * FROM nothing WHERE word = %s", ["it's"])
        except Exception:  # noqa: BLE001  (what it is meant to do)
            connection.rollback()


@pytest.fixture(scope="module")
def logs(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    """Logs of PostgreSQL under each setting, and of MariaDB."""
    folder = tmp_path_factory.mktemp("logs")
    found: dict[str, Path] = {}
    for name, settings in {**SETTINGS, "files": FILES}.items():
        with servers.postgresql(logging=False, more=settings) as server:
            asked(server)
            kept = (
                sorted((server.log.parent / "data" / "log").glob("*"))
                if name == "files"
                else [server.log]
            )
            for path in kept:
                kind = {".csv": "csv", ".json": "json"}.get(path.suffix, name)
                found[kind] = folder / f"{kind.replace(' ', '-')}.log"
                deadline = time.monotonic() + 30
                while b"nothing" not in path.read_bytes():
                    assert time.monotonic() < deadline, "the server does not log"
                found[kind].write_bytes(path.read_bytes())
    with servers.mariadb() as maria:
        slow = maria.log.parent / "slow.log"
        with maria.connect("harbour") as connection, connection.cursor() as cursor:
            for statement in (
                f"SET GLOBAL slow_query_log_file = '{slow}'",
                "SET GLOBAL long_query_time = 0",
                "SET GLOBAL slow_query_log = 1",
            ):
                cursor.execute(statement)
        with maria.connect("harbour") as connection, connection.cursor() as cursor:
            cursor.execute("CREATE TABLE vessel (id int PRIMARY KEY, name varchar(40))")
            cursor.execute(
                "INSERT INTO vessel VALUES " + ",".join(f"({n}, 'Tern {n}')" for n in range(60))
            )
            for page in range(3):
                for key in range(8):
                    cursor.execute("SELECT name\nFROM vessel WHERE id = %s", [key + page])
            connection.commit()
        with maria.connect("harbour") as connection, connection.cursor() as cursor:
            cursor.execute("SET SESSION log_slow_verbosity = 'innodb,query_plan,explain'")
            cursor.execute(
                "# of the pilots\nSELECT id FROM vessel WHERE name LIKE '%5' ORDER BY name\n# Time: none"
            )
        maria.mark()
        found["general"], found["slow"] = folder / "general.log", folder / "slow.log"
        found["general"].write_bytes(maria.log.read_bytes())
        found["slow"].write_bytes(slow.read_bytes())
    return found


def captured(log: Path, out: Path, *words: object) -> askless.Capture:
    ran = run("capture", "log", log, "-o", out, *words)
    assert ran.code == 0, ran.err
    return askless.read(out, values=True)


def look_ups(capture: askless.Capture) -> list[Any]:
    return [one for one in capture.queries if "FROM vessel WHERE id" in one.statement]


@pytest.mark.parametrize("name", [*SETTINGS, "files", "csv", "json"])
def test_postgresql_under_each_setting(name: str, logs: dict[str, Path], tmp_path: Path) -> None:
    words = ["--prefix", "%n [%p] %c %v "] if name == "statements and durations" else []
    capture = captured(logs[name], tmp_path / "calls", *words)
    seen = look_ups(capture)
    assert [one.statement for one in seen] == [LOOK_UP] * 24
    assert [one.parameters for one in seen] == [
        f"'{key + page}'" for page in range(3) for key in range(8)
    ]
    assert all(
        one.rows is None and one.in_transaction and one.system == "postgresql" for one in seen
    )
    assert all((one.duration_ms > 0) == (name != "statements alone") for one in seen)
    (wrong,) = [one for one in capture.queries if one.error]
    assert "nothing" in wrong.statement and 'relation "nothing" does not exist' in wrong.error
    assert any("log_min_duration_statement" in note for note in capture.notes) == (
        name == "statements alone"
    )
    assert any("whole seconds" in note for note in capture.notes) == (name == "seconds")
    # A session asks one thing at a time.
    for request in {one.request for one in seen}:
        times = sorted((one.start_ms, one.duration_ms) for one in seen if one.request == request)
        assert all(before[0] + before[1] <= after[0] + 0.001 for before, after in pairwise(times))
    assert {
        (f["pattern"], f["evidence"])
        for f in findings(tmp_path / "calls")
        if "vessel" in f["tables"]
    } == {("n-plus-one", "repeated")}


@pytest.mark.parametrize("name", ["general", "slow"])
def test_mariadb(name: str, logs: dict[str, Path], tmp_path: Path) -> None:
    capture = captured(logs[name], tmp_path / "calls")
    seen = look_ups(capture)
    assert [" ".join(one.statement.split()) for one in seen] == [
        f"SELECT name FROM vessel WHERE id = {key + page}" for page in range(3) for key in range(8)
    ]
    assert all(
        (one.duration_ms > 0 and one.rows == 1 and one.bytes > 0) == (name == "slow")
        for one in seen
    )
    assert any(
        ("slow log has them" if name == "general" else "long_query_time") in note
        for note in capture.notes
    )
    (found,) = [one for one in findings(tmp_path / "calls") if one["pattern"] == "n-plus-one"]
    assert found["tables"] == ["vessel"] and found["evidence"] == "repeated"


def test_the_slow_log_keeps_what_the_server_examined_and_the_plan_by_which_it_ran(
    logs: dict[str, Path], tmp_path: Path
) -> None:
    capture = captured(logs["slow"], tmp_path / "calls")
    assert {one.rows_examined for one in look_ups(capture)} == {1}
    (one,) = [one for one in capture.queries if "of the pilots" in one.statement]
    assert (
        one.statement
        == "# of the pilots\nSELECT id FROM vessel WHERE name LIKE '%5' ORDER BY name\n# Time: none"
    )
    told = json.loads(one.server_fields)
    assert one.rows == 6 and one.rows_examined == told["Rows_examined"] >= 60
    assert told["Full_scan"] is True and told["Filesort"] is True and told["Schema"] == "harbour"
    (planned,) = [
        row
        for row in run("plan", tmp_path / "calls", "--json").json["statements"]
        if "LIKE" in row["sql"].upper()
    ]
    assert planned["plan"] and not planned["error"]
    assert "full scan" in run("plan", tmp_path / "calls").out
    (sort,) = planned["plan"]  # what a sort takes in is not what was expected to be read
    assert [one["observations"] for one in (sort, *sort["children"])] == [[], []]
    assert (
        f"the server read {one.rows_examined} rows"
        in run("timeline", tmp_path / "calls", one.request).out
    )


def test_mysqls_slow_log_with_log_slow_extra(tmp_path: Path) -> None:
    """Written by MySQL 9.7.4."""
    capture = captured(WRITTEN / "mysql-slow-extra.log", tmp_path / "calls")
    asked = {one.statement.split()[0]: one for one in capture.queries if not one.error}
    assert (asked["SELECT"].rows, asked["SELECT"].rows_examined) == (2, 62)
    assert json.loads(asked["SELECT"].server_fields)["Read_rnd_next"] == 61
    (wrong,) = [one for one in capture.queries if one.error]
    assert "nothere" in wrong.statement and "1146" in wrong.error
    assert "Quit" not in {one.statement for one in capture.queries}


def test_a_finding_says_what_the_server_read_for_it(tmp_path: Path) -> None:
    head = "# User@Host: office[office] @ pier [10.0.0.7]\n# Thread_id: 7  Schema: harbour  QC_hit: No\n"
    records = [
        f"{head}# Query_time: 0.004  Lock_time: 0.0  Rows_sent: 1  Rows_examined: 2000\nSET timestamp=1795813243;\n"
        f"SELECT name FROM vessel WHERE call_sign = 'TN{n}';\n"
        for n in range(8)
    ]
    (tmp_path / "slow.log").write_text("# Time: 261127 21:00:43\n" + "".join(records))
    assert run("capture", "log", tmp_path / "slow.log", "-o", tmp_path / "calls").code == 0
    (found,) = [one for one in findings(tmp_path / "calls") if one["pattern"] == "n-plus-one"]
    assert any(
        "reads 2,000 rows for 1 that it returns" in reason for reason in found["evidence_details"]
    )


@pytest.mark.parametrize("name", [*SETTINGS, "csv", "json", "general", "slow"])
def test_any_cut_gives_the_same(name: str, logs: dict[str, Path]) -> None:
    """A torn first line is omitted; everything after the first whole record counts, however the
    lines come.
    """
    lines = logs[name].read_text().splitlines()
    kind = looks_like(lines[:200]) if name != "statements and durations" else "postgresql"
    prefix = str({**SETTINGS, "files": FILES}.get(name, {}).get("log_line_prefix", ""))

    def told(some: list[str]) -> list[str]:
        reading = format_of(kind).reading(prefix)
        said = [one for line in some for one in reading.take(line)] + list(reading.close())
        return [one.query.text for one in said if one.query is not None]

    whole = told(lines)
    assert len(whole) > 25
    for start in range(1, min(len(lines), 60)):
        part = told([lines[start][5:], *lines[start + 1 :]])
        assert part == whole[len(whole) - len(part) :] and len(part) >= len(
            told(lines[start + 12 :])
        )


def test_compressed_and_several_files(logs: dict[str, Path], tmp_path: Path) -> None:
    text = logs["durations"].read_bytes().splitlines(keepends=True)
    middle = next(
        place
        for place in range(len(text) // 2, len(text))
        if text[place][:4] == b"2026" and b"LOG:" in text[place]
    )
    (tmp_path / "calls.log.1.gz").write_bytes(gzip.compress(b"".join(text[:middle])))
    (tmp_path / "calls.log").write_bytes(b"".join(text[middle:]))
    ran = run(
        "capture",
        "log",
        tmp_path / "calls.log.1.gz",
        tmp_path / "calls.log",
        "-o",
        tmp_path / "calls",
    )
    assert ran.code == 0 and len(look_ups(askless.read(tmp_path / "calls"))) == 24


def test_follow_over_a_rotation_loses_nothing(logs: dict[str, Path], tmp_path: Path) -> None:
    lines = logs["durations"].read_text().splitlines(keepends=True)
    log, third = tmp_path / "calls.log", len(lines) // 3
    log.write_text("".join(lines[:third]))
    process = subprocess.Popen(
        [
            *ASKLESS,
            "capture",
            "log",
            str(log),
            "-o",
            str(tmp_path / "calls"),
            "--follow",
            "--request-by",
            "pause",
        ],
        stderr=subprocess.PIPE,
        text=True,
    )
    try:
        assert process.stderr is not None
        while "Ctrl-C" not in process.stderr.readline():
            assert process.poll() is None
        with log.open("a") as stream:
            stream.write("".join(lines[third : 2 * third]))
            stream.flush()
            log.rename(tmp_path / "calls.log.1")
            stream.write(lines[2 * third])  # anyone who has it open goes on for a moment
        log.write_text("".join(lines[2 * third + 1 :]))
        deadline = time.monotonic() + 60
        file = tmp_path / "calls" / "log.askless.jsonl"
        while not file.exists() or "nothing" not in file.read_text():
            assert time.monotonic() < deadline and process.poll() is None
        process.send_signal(signal.SIGINT)
        _, err = process.communicate(timeout=60)
        assert process.returncode == 0 and "Traceback" not in err, err
    finally:
        process.kill()
        process.communicate()
    assert [one.parameters for one in look_ups(askless.read(tmp_path / "calls", values=True))] == [
        f"'{key + page}'" for page in range(3) for key in range(8)
    ]


def test_logs_that_are_none(logs: dict[str, Path], tmp_path: Path) -> None:
    (tmp_path / "text.log").write_text("good morning\n" * 300)
    for word, ran in (
        (
            "has an unknown format",
            run("capture", "log", tmp_path / "text.log", "-o", tmp_path / "a"),
        ),
        ("is not a text file", run("capture", "log", binary(tmp_path), "-o", tmp_path / "c")),
        ("can't read", run("capture", "log", tmp_path, "-o", tmp_path / "d")),
        ("can't read", run("capture", "log", tmp_path / "nowhere", "-o", tmp_path / "e")),
        (
            "it looks like postgresql-json: --format postgresql-json",
            run("capture", "log", logs["json"], "-o", tmp_path / "f", "--format", "postgresql"),
        ),
        (
            "did you mean mariadb-slow?",
            run("capture", "log", logs["slow"], "-o", tmp_path / "g", "--format", "mariadb-slw"),
        ),
        (
            "log_line_prefix has no %y",
            run("capture", "log", logs["json"], "-o", tmp_path / "h", "--prefix", "%y"),
        ),
    ):
        assert ran.code == 2 and word in ran.err and "Traceback" not in ran.err, (word, ran.err)


def binary(folder: Path) -> Path:
    (folder / "binary.log").write_bytes(os.urandom(2000) + b"\0")
    return folder / "binary.log"


def test_every_usual_prefix_is_told_from_its_lines() -> None:
    known = {"a": "pages", "u": "harbour", "d": "office", "r": "10.0.0.7(55123)", "h": "10.0.0.7", "p": "4711", "t": "2026-11-27 21:00:43 UTC",
             "m": "2026-11-27 21:00:43.123 UTC", "n": "1795813243.123", "l": "7", "e": "00000", "s": "2026-11-27 20:00:00 UTC", "v": "3/17",
             "x": "0", "c": "6928b1a5.1267"}  # fmt: skip
    for prefix in USUAL:
        line = prefix.replace("%q", "")
        for letter, value in known.items():
            line = line.replace("%" + letter, value)
        lines = [f"{line}LOG:  duration: 0.123 ms  statement: SELECT 1"] * 3
        found = guessed(lines)
        assert found is not None, prefix
        match = pattern_of(found).match(lines[0])
        assert (
            match is not None and match["message"] == "duration: 0.123 ms  statement: SELECT 1"
        ), (prefix, found)
        assert match.groupdict().get("pid", "4711") in ("4711", None), (prefix, found)


@given(st.text(max_size=200))
def test_any_line_is_read_or_refused(line: str) -> None:
    for name in (
        "postgresql",
        "postgresql-csv",
        "postgresql-json",
        "mariadb-general",
        "mariadb-slow",
    ):
        reading = format_of(name).reading("%m [%p] ")
        try:
            assert all(
                said.session is not None for part in line.split("\n") for said in reading.take(part)
            )
        except UnreadLine:
            pytest.fail("one line is no reason to give up")
        list(reading.close())


@given(
    st.lists(
        st.none() | st.text(st.characters(codec="utf-8", exclude_characters="\0\n"), max_size=20),
        max_size=6,
    )
)
def test_any_parameters_are_read_as_the_server_writes_them(values: list[str | None]) -> None:
    written_ = ", ".join(
        f"${n} = " + ("NULL" if value is None else "'" + value.replace("'", "''") + "'")
        for n, value in enumerate(values, 1)
    )
    assert parameters_of(f"parameters: {written_}") == tuple(values)


def test_backends_that_take_turns_are_not_mixed_up() -> None:
    lines = """\
2026-11-27 21:00:43.100 UTC [11] LOG:  duration: 0.1 ms  execute a: SELECT 1 FROM vessel WHERE id = $1
2026-11-27 21:00:43.101 UTC [12] DETAIL:  parameters: $1 = 'of another'
2026-11-27 21:00:43.102 UTC [11] LOG:  duration: 0.1 ms  bind a: SELECT 1 FROM vessel WHERE id = $1
2026-11-27 21:00:43.102 UTC [12] LOG:  execute b: SELECT 1 FROM tug WHERE id = $1
2026-11-27 21:00:43.102 UTC [12] DETAIL:  parameters: $1 = '7'
2026-11-27 21:00:43.103 UTC [11] LOG:  execute a: SELECT 1 FROM vessel WHERE id = $1
2026-11-27 21:00:43.103 UTC [11] DETAIL:  parameters: $1 = 'it''s'
2026-11-27 21:00:43.104 UTC [12] LOG:  duration: 0.7 ms
2026-11-27 21:00:43.105 UTC [11] LOG:  duration: 0.2 ms""".splitlines()
    reading = format_of("postgresql").reading("%m [%p] ")
    said = [one for line in lines for one in reading.take(line)] + list(reading.close())
    told = [
        (one.session, one.query.text.split()[3], one.query.parameters, one.query.duration_ns)
        for one in said
        if one.query is not None
    ]
    assert told == [
        ("11", "vessel", (), 100_000),
        ("12", "tug", ("7",), 700_000),
        ("11", "vessel", ("it's",), 200_000),
    ]


def test_times() -> None:
    assert (
        nanoseconds_of("2026-11-27 21:00:43.123 UTC")
        == nanoseconds_of("2026-11-27 22:00:43.123 +01")
        == 1_795_813_243_123_000_000
    )


def test_what_stands_before_a_torn_end_is_read(tmp_path: Path) -> None:
    lines = (
        f"2026-11-27 21:00:43.{n % 1000:03} UTC [7] LOG:  duration: 0.1 ms  statement: SELECT name FROM vessel WHERE id = {n * 7919}\n"
        for n in range(20_000)
    )
    packed = gzip.compress("".join(lines).encode())
    (tmp_path / "torn.log.gz").write_bytes(packed[: len(packed) * 9 // 10])
    said = run(
        "capture", "log", tmp_path / "torn.log.gz", "-o", tmp_path / "calls", "--prefix", "%m [%p] "
    )
    assert said.code == 2 and "could not be decompressed completely" in said.err
    assert len(askless.read(tmp_path / "calls").queries) > 17_000


def test_a_zone_of_letters_is_known_or_doubted(tmp_path: Path) -> None:
    assert nanoseconds_of("2026-11-27 16:00:43.5 EST") == nanoseconds_of(
        "2026-11-27 21:00:43.5 UTC"
    )
    for zone, doubted in (("CEST", False), ("XYT", True)):
        log = tmp_path / f"{zone}.log"
        log.write_text(
            f"2026-11-27 21:00:43.123 {zone} [7] LOG:  duration: 0.1 ms  statement: SELECT 1 FROM vessel\n"
        )
        notes = captured(log, tmp_path / zone).notes
        assert any(f"zone {zone}" in note and "log_timezone" in note for note in notes) == doubted


@pytest.mark.parametrize("inside", [True, False])
def test_where_pauses_alone_tell_requests_apart_a_duplicate_ran_in_one_transaction(
    inside: bool, tmp_path: Path
) -> None:
    """Pages that follow one another closely look like one request: what both of them read is read
    once by each.
    """
    page = ["SELECT name FROM vessel WHERE id = 7", "SELECT name FROM berth WHERE id = 3"]
    pages = ["BEGIN", *page, *page, "COMMIT"] if inside else ["BEGIN", *page, "COMMIT"] * 2
    lines = [
        f"2026-11-28 00:00:00.{n:03} UTC [41] LOG:  duration: 0.4 ms  statement: {statement}"
        for n, statement in enumerate(pages, 1)
    ]
    (tmp_path / "server.log").write_text("\n".join(lines) + "\n")
    assert (
        run(
            "capture",
            "log",
            tmp_path / "server.log",
            "-o",
            tmp_path / "calls",
            "--prefix",
            "%m [%p] ",
        ).code
        == 0
    )
    (request,) = list(askless.read(tmp_path / "calls").requests)
    assert request.queries == 4
    assert {(f["pattern"], *f["tables"]) for f in findings(tmp_path / "calls")} == (
        {("duplicate", "vessel"), ("duplicate", "berth")} if inside else set()
    )
