"""One capture full of marked values, secrets, comments and paths: by default none of them is in any
output of any command.
"""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path

import pyarrow.parquet as parquet
import pytest

from askless.capture.writing import CaptureWriter
from askless.core.records.model import CallSite
from askless.core.records.traffic import QuerySeen, RequestBegan, RequestEnded
from tests.conftest import run

MARK = "kestrel9"  # whatever has it in it must not be shown


@pytest.fixture(scope="module")
def marked(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Path]:
    """(a capture, a database that its statements run on)."""
    folder = tmp_path_factory.mktemp("marked")
    database = folder / "harbour.db"
    with closing(sqlite3.connect(database)) as db:
        db.executescript(
            "CREATE TABLE call (id INTEGER PRIMARY KEY, vessel_id INTEGER, status TEXT);"
            "CREATE TABLE vessel (id INTEGER PRIMARY KEY, name TEXT, flag TEXT);"
        )
        db.executemany("INSERT INTO call VALUES (?, ?, 'due')", [(n, n) for n in range(300)])
        db.executemany(
            "INSERT INTO vessel VALUES (?, ?, 'NO')", [(n, f"{MARK}-row-{n}") for n in range(300)]
        )
        db.commit()
    writer = CaptureWriter(folder / "calls.askless.jsonl", "test", "sqlite", "office")
    place = CallSite("/app/pages.py", 7, "due")
    for number in range(1, 5):
        writer.request_began(
            RequestBegan(
                number,
                "GET /calls/due",
                10**9 * number,
                path=f"/calls/due?token={MARK}-query-{number}",
            )
        )
        start = 10**9 * number
        asked = [
            QuerySeen(f"SELECT id, vessel_id FROM call WHERE status = '{MARK}-literal' /* {MARK}-comment */", start + 1, 10**6, rows=12, bytes=300, place=place,
                      columns=("id", "vessel_id"), sampled=(0, 1), sample=tuple((n, n) for n in range(12))),
            *(QuerySeen(f"SELECT id, name, flag FROM vessel WHERE id = ? AND name <> '{MARK}-{n}' -- {MARK}-tail", start + 10**7 * (n + 1), 10**6, rows=1, bytes=40, place=place,
                        columns=("id", "name", "flag"), parameters=(n,), digest=n + 1) for n in range(12)),
            *(QuerySeen("SELECT name FROM vessel WHERE flag = ? AND name = ?", start + 10**7 * (20 + n), 10**6, rows=1, bytes=40, place=place, parameters=("NO", f"{MARK}-parameter"), digest=5, columns=("name",)) for n in range(3)),
            QuerySeen("SELECT name FROM nowhere WHERE name = ?", start + 10**7 * 40, 10**6, place=place, parameters=(f"{MARK}-failing",), error=f"no such value: '{MARK}-error'"),
            QuerySeen(f"CREATE USER k IDENTIFIED BY '{MARK}-password'", start + 10**7 * 41, 10**6, place=place),
            QuerySeen(f"SELECT dblink_connect('host=h password={MARK}-conninfo')", start + 10**7 * 42, 10**6, place=place),
        ]  # fmt: skip
        writer.queries(number, asked)
        writer.request_ended(RequestEnded(number, start + 10**9 // 2, status=200))
    writer.close()
    return folder / "calls.askless.jsonl", database


def commands(capture: Path, database: Path, out: Path) -> list[list[str | Path]]:
    """Every command that reads a capture, in every format that it has."""
    db: list[str | Path] = ["--db", f"sqlite:///{database}"]
    (out / "askless.toml").write_text(
        '[[budgets]]\nroute = "GET /calls/due"\nqueries = 3\nallowed = []\n'
    )
    formats = ("terminal", "json", "markdown", "sarif", "csv")
    words: list[list[str | Path]] = []
    for form in formats:
        words += [
            ["findings", capture, "--all", "--format", form],
            ["findings", capture, "--each", *db, "--format", form],
        ]
        words += [["findings", capture, "--show", str(n), "--format", form] for n in (1, 2, 3, 4)]
        words += [
            ["compare", capture, capture, "--format", form],
            ["gate", capture, "--baseline", capture, "--format", form],
        ]
    words += [
        ["gate", capture, "--format", "junit"],
        ["gate", capture, "--propose"],
        ["capture", "check", capture],
    ]
    for command in (
        ["requests"],
        ["requests", "--each"],
        ["timeline"],
        ["timeline", "--no-fold"],
        ["growth"],
        ["growth", "--over-time"],
        ["plan", *db],
        ["indexes", *db],
        ["indexes", "--test", *db],
    ):
        words += [[command[0], capture, *command[1:], *more] for more in ([], ["--json"])]
    words += [["trial", capture, "--finding", "1", *db, *more] for more in ([], ["--json"])]
    words += [
        ["trial", capture, *db, "--index", "CREATE INDEX tried ON vessel (flag)", *more]
        for more in ([], ["--json"])
    ]
    words += [["weigh", capture, "--request", "1", "--query", "1", *db]]
    words += [
        ["report", capture, *db, "-o", out / "page.html"],
        ["report", capture, *db, "--json"],
        ["findings", capture, "--accepted", "--json"],
    ]
    words += [
        ["export", capture, "--parquet", out / "columns"],
        ["export", capture, "--otlp", out / "spans.jsonl"],
    ]
    words += [
        [name, capture, "--figure", out / f"{name}.svg"]
        for name in ("requests", "timeline", "growth")
    ]
    return words


def readable(file: Path) -> str:
    """What is in a file that a command wrote; Parquet's columns are compressed."""
    if file.suffix == ".parquet":
        return str(parquet.read_table(file).to_pylist())
    return file.read_bytes().decode("utf-8", "replace")


def test_no_canary_sings(marked: tuple[Path, Path], tmp_path: Path) -> None:
    capture, database = marked
    heard = []
    answered = 0
    for words in commands(capture, database, tmp_path):
        ran = run(*words, cwd=tmp_path)
        assert ran.code in (0, 1, 2) and "Traceback" not in ran.err, (words, ran.err)
        answered += ran.code in (0, 1)
        said = ran.out + ran.err
        for file in tmp_path.rglob("*"):
            if file.is_file() and file.name != "askless.toml":
                said += readable(file)
                file.unlink()
        heard += [(words, said[max(at - 60, 0) : at + 40]) for at in [said.find(MARK)] if at >= 0]
    assert not heard, "\n".join(f"{' '.join(map(str, words))}: {near!r}" for words, near in heard)
    assert answered > 50


def test_passwords_are_not_even_in_the_capture(marked: tuple[Path, Path]) -> None:
    text = marked[0].read_text()
    assert (
        f"{MARK}-literal" in text
        and f"{MARK}-password" not in text
        and f"{MARK}-conninfo" not in text
    )
