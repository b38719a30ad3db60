"""Bad input: one clear message on stderr that says what, where and what to do; exit code 2; no
traceback.
"""

from __future__ import annotations

import gzip
import json
import os
import sqlite3
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest
import zstandard

from askless import sources
from askless.cli.renamed_options import RENAMED
from tests.conftest import findings, program, refused, run

HEADER = '{"event":"capture","format":"askless capture","version":1}\n'


@pytest.mark.parametrize(
    ("command", "old"), [(name, old) for name, both in RENAMED.items() for old in both]
)
def test_an_old_option_names_the_new_one(command: str, old: str) -> None:
    new, words = RENAMED[command][old], ["capture", "app"] if command == "capture" else [command]
    if command == "capture":
        kinds = [kind for kind in sources.REGISTRY if new in run("capture", kind, "--help").out]
        assert kinds, f"{new} is an option of no source"
        words = ["capture", kinds[0]]
    assert new in run(*words, "--help").out and old + " " not in run(*words, "--help").out
    refused(run(*words, old), new, "since 0.5.0", " ".join(words) + " --help")
    refused(run(*words, f"{old}=1"), new)


def test_an_old_option_behind_a_program_is_the_program_s(tmp_path: Path) -> None:
    (tmp_path / "shown.py").write_text(
        "import sqlite3, sys; sqlite3.connect(':memory:').execute('select 1'); print(sys.argv[1:])"
    )
    for words in (("--",), ()):
        ran = program(
            "capture",
            "app",
            "-o",
            tmp_path / f"calls{len(words)}",
            *words,
            sys.executable,
            "shown.py",
            "--keep",
            "2",
            cwd=tmp_path,
        )
        assert ran.code == 0 and "['--keep', '2']" in ran.out, ran.err


@pytest.fixture
def good(record: Callable[..., Path]) -> Path:
    return record(
        """
        import sqlite3
        db = sqlite3.connect("app.db")
        db.execute("CREATE TABLE IF NOT EXISTS vessel (id INTEGER PRIMARY KEY, name TEXT)")
        for n in range(20):
            db.execute("SELECT name FROM vessel WHERE id = ?", (n,)).fetchone()
        """
    )


READERS = ["requests", "timeline", "findings"]


@pytest.mark.parametrize("command", READERS)
def test_captures_that_are_none(command: str, tmp_path: Path) -> None:
    refused(run(command, tmp_path / "nowhere"), "no capture at", "nowhere")
    empty = tmp_path / "empty"
    empty.mkdir()
    refused(run(command, empty), "contains no capture file", str(empty))
    hollow = tmp_path / "hollow.jsonl"
    hollow.write_text("")
    refused(run(command, hollow), "is empty")
    for content in (
        "SELECT 1\n",
        '{"event":"queries"}\n',
        "[1, 2]\n",
        '{"format":"other"}\n',
        "\0\0\0\n",
    ):
        foreign = tmp_path / "foreign.jsonl"
        foreign.write_text(content)
        refused(run(command, foreign), "is not an Ask Less capture", "foreign.jsonl")
    binary = tmp_path / "binary.jsonl"
    binary.write_bytes(os.urandom(3000))
    refused(run(command, binary), "is not an Ask Less capture")
    newer = tmp_path / "newer.jsonl"
    newer.write_text(HEADER.replace('"version":1', '"version":9'))
    refused(run(command, newer), "version 9", "up to version 1", "upgrade")


def test_a_torn_capture_counts_up_to_the_tear(good: Path) -> None:
    (file,) = good.iterdir()
    whole = file.read_bytes()
    at = whole.index(b'{"event":"end"')
    file.write_bytes(whole[: at + 20])
    found = run("findings", good)
    assert found.code == 0 and "n-plus-one" in found.out and "the last line is torn" in found.err
    checked = run("capture", "check", good, "--json")
    assert (
        checked.code == 0
        and checked.json["files"][0]["truncated"]
        and not checked.json["files"][0]["closed"]
    )
    file.write_bytes(whole[: at - 30])
    assert run("findings", good).code == 0


def test_a_damaged_line_is_named_and_the_rest_counts(good: Path) -> None:
    (file,) = good.iterdir()
    lines = file.read_bytes().splitlines(keepends=True)
    lines.insert(2, b'{"event":"place","id":"x"}\n')
    lines.insert(5, b"\xff\xfe not json\n")
    file.write_bytes(b"".join(lines))
    found = run("findings", good)
    assert (
        found.code == 0
        and "2 lines can't be read, the first is line 3" in found.err
        and "n-plus-one" in found.out
    )
    checked = run("capture", "check", good)
    assert checked.code == 1 and "line 3 can't be read" in checked.out and "damaged" in checked.out


@pytest.mark.parametrize("suffix", ["gz", "zst"])
def test_compressed_captures_read_as_they_are(suffix: str, good: Path, tmp_path: Path) -> None:
    (file,) = good.iterdir()
    data = file.read_bytes()
    packed = gzip.compress(data) if suffix == "gz" else zstandard.compress(data)
    other = tmp_path / f"packed.jsonl.{suffix}"
    other.write_bytes(packed)
    assert [f["key"] for f in findings(other)] == [f["key"] for f in findings(good)] != []
    other.write_bytes(packed[: len(packed) // 2])
    assert run("findings", other).code in (0, 2) and "Traceback" not in run("findings", other).err
    other.write_bytes(b"no stream")
    refused(run("requests", other), "is not an Ask Less capture")


def test_a_capture_that_may_not_be_read(good: Path) -> None:
    (file,) = good.iterdir()
    if os.geteuid() == 0:
        file.unlink()
        file.mkdir()
        refused(run("requests", file / "x.jsonl"), "no capture at")
    else:
        file.chmod(0)
        refused(run("requests", good), "can't read")


def test_databases_that_are_none(good: Path, tmp_path: Path) -> None:
    refused(
        run("plan", good, "--db", f"sqlite:///{tmp_path}/nowhere.db"),
        "no database file at",
        "nowhere.db",
    )
    assert not (tmp_path / "nowhere.db").exists(), "looking must not create it"
    text = tmp_path / "text.db"
    text.write_text("harbour " * 500)
    refused(run("plan", good, "--db", f"sqlite:///{text}"), "is not an SQLite database")
    refused(run("findings", good, "--db", f"sqlite:///{text}"), "is not an SQLite database")
    refused(
        run("plan", good, "--db", "harbour"), "is not a valid database URL", "sqlite:///harbour.db"
    )
    refused(run("plan", good, "--db", "oracle://x:secret@y/z"), "oracle")
    assert "secret" not in run("plan", good, "--db", "oracle://x:secret@y/z").err
    refused(run("plan", good, "--db", "sqlite://"), "in memory")


def test_statements_that_cannot_be_explained(tmp_path: Path) -> None:
    with sqlite3.connect(tmp_path / "a.db") as db:
        db.execute("CREATE TABLE vessel (id INTEGER PRIMARY KEY, name TEXT)")
    db.close()
    url = f"sqlite:///{tmp_path}/a.db"
    refused(
        run("plan", "--db", url, "--sql", "SELECT 1 FROM WHERE"),
        "can't be explained",
        "syntax error",
    )
    refused(run("plan", "--db", url, "--sql", "SELECT * FROM berth"), "no such table: berth")
    refused(
        run("plan", "--db", url, "--sql", "SELECT * FROM vessel WHERE id = ?"),
        "1 placeholder without a value",
        "--parameters",
    )
    refused(run("plan", "--db", url, "--sql", "SELECT 1", "--parameters", "[1"), "is not JSON")
    refused(run("plan", "--db", url), "name either a capture or --sql")
    index = "CREATE INDEX n ON vessel (name)"
    refused(
        run("trial", "--db", url, "--index", "DROP TABLE vessel", "--sql", "SELECT 1"),
        "one CREATE INDEX",
    )
    refused(
        run("trial", "--db", url, "--index", index + "; DROP TABLE vessel", "--sql", "SELECT 1"),
        "one CREATE INDEX",
    )
    refused(
        run(
            "trial",
            "--db",
            url,
            "--index",
            "CREATE INDEX n ON vessel (nothing)",
            "--sql",
            "SELECT 1",
        ),
        "can't be built",
        "nothing",
    )
    refused(
        run("trial", "--db", url, "--index", index, "--sql", "DELETE FROM vessel"), "one SELECT"
    )
    refused(
        run("trial", "--db", url, "--index", index, "--sql", "SELECT 1; DELETE FROM vessel"),
        "one SELECT",
    )
    refused(
        run("trial", "--db", url, "--index", index, "--sql", "SELECT * FROM berth"), "no such table"
    )


def test_a_capture_from_another_schema_is_refused(good: Path, tmp_path: Path) -> None:
    sqlite3.connect(tmp_path / "other.db").execute("CREATE TABLE berth (id)").connection.close()
    other = f"sqlite:///{tmp_path}/other.db"
    refused(
        run("plan", good, "--db", other),
        "the statement can't be explained",
        "no such table: vessel",
        "the capture's database?",
    )
    refused(
        run("indexes", good, "--db", other),
        "none of the capture's tables",
        "the capture's database?",
    )


def test_programs_and_folders(tmp_path: Path) -> None:
    refused(
        run("capture", "app", "-o", tmp_path / "c", "--", "no-such-program"),
        "no program 'no-such-program'",
    )
    refused(run("capture", "app", "-o", tmp_path / "c"), "no program to run")
    refused(
        run("capture", "app", "-o", "/proc/calls", "--", sys.executable),
        "can't write into /proc/calls",
    )
    file = tmp_path / "file"
    file.write_text("")
    refused(run("capture", "app", "-o", file, "--", sys.executable), "can't write into")
    refused(
        run("capture", "app", "-o", tmp_path / "c", "--visit", "ftp://x", "--", sys.executable),
        "http URL",
    )
    refused(
        run("capture", "app", "-o", tmp_path / "c", "--repeat", "0", "--", sys.executable),
        "--repeat",
    )


def test_a_folder_with_a_capture_is_not_mixed_up(good: Path) -> None:
    before = sorted(good.iterdir())
    refused(
        run("capture", "app", "-o", good, "--", sys.executable, "-c", ""),
        "already contains a capture",
    )
    assert sorted(good.iterdir()) == before


def test_choices_that_are_not_there(good: Path) -> None:
    refused(
        run("findings", good, "--pattern", "n-plus-on"),
        "no pattern 'n-plus-on'",
        "did you mean n-plus-one?",
    )
    refused(run("findings", good, "--show", "99"), "no finding 99")
    refused(run("timeline", good, "99"), "no request 99", "--each")
    refused(run("timeline", good, "--route", "zzz"), "zzz")


def test_whoever_reads_our_output_may_stop(good: Path) -> None:
    import subprocess

    done = subprocess.run(
        f"{sys.executable} -m askless findings {good} | true",
        shell=True,
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 0 and done.stderr == ""


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16", "utf-16-le", "utf-16-be"])
def test_a_plan_is_read_in_whatever_encoding_a_shell_wrote_it(
    tmp_path: Path, encoding: str
) -> None:
    text = "Seq Scan on port_call  (cost=0.00..220.00 rows=104 width=16)\r\n  Filter: (agent = 'Möwe'::text)\r\n"
    (tmp_path / "plan.txt").write_bytes(text.encode(encoding))
    words = [sys.executable, "-m", "askless", "plan", "--json", "--file"]
    by_path = subprocess.run([*words, "plan.txt"], cwd=tmp_path, capture_output=True, check=True)
    with (tmp_path / "plan.txt").open("rb") as stream:
        piped = subprocess.run(
            [*words, "-"], cwd=tmp_path, capture_output=True, stdin=stream, check=True
        )
    for done in (by_path, piped):
        (statement,) = json.loads(done.stdout)["statements"]
        assert statement["plan"][0]["table"] == "port_call"
    (tmp_path / "plan.txt").write_bytes(b"\x80\x81\xff")
    refused = subprocess.run([*words, "plan.txt"], cwd=tmp_path, capture_output=True, check=False)
    assert (
        refused.returncode == 2
        and b"not text" in refused.stderr
        and b"Traceback" not in refused.stderr
    )
