"""`--track-memory`: what each request took, if nothing ran next to it."""

from __future__ import annotations

import sys
import textwrap
from pathlib import Path

import pytest

from askless.capture.reading import read
from tests.conftest import HARBOUR, run

PROGRAM = """
import sqlite3, threading, askless
db = sqlite3.connect(":memory:", check_same_thread=False)
db.execute("CREATE TABLE vessel (id INTEGER PRIMARY KEY, log TEXT)")
db.executemany("INSERT INTO vessel (log) VALUES (?)", [("x" * 1000,)] * 2000)

def ask(rows):
    return db.execute("SELECT id, log FROM vessel LIMIT ?", (rows,)).fetchall()

for rows in (1, 2000):
    with askless.request("%d rows" % rows):
        ask(rows)
kept = []
with askless.request("holds what it read"):
    kept.append(ask(500))
with askless.request("after it"):
    ask(1)
begun, done = threading.Event(), threading.Event()
def beside():
    with askless.request("beside"):
        begun.set()
        done.wait()
        ask(1)
thread = threading.Thread(target=beside)
thread.start()
begun.wait()
with askless.request("at the same time"):
    ask(2000)
done.set()
thread.join()
"""


def memory(tmp_path: Path, *options: str) -> dict[str, int]:
    program = tmp_path / "office.py"
    program.write_text(PROGRAM)
    ran = run("capture", "app", *options, "-o", tmp_path / "c", "--", sys.executable, program)
    assert ran.code == 0, ran.err
    return {
        request.route: request.memory_bytes
        for request in read(tmp_path / "c")
        if request.kind == "marked"
    }


def test_each_request_has_its_own_peak(tmp_path: Path) -> None:
    told = memory(tmp_path, "--track-memory")
    assert 2_000_000 < told["2000 rows"] < 4_000_000 and 0 < told["1 rows"] < 100_000
    assert 500_000 < told["holds what it read"] < 1_000_000 and told["after it"] < 100_000
    assert told["beside"] == told["at the same time"] == 0, "what one of two takes can't be told"
    row = next(
        row
        for row in run("requests", tmp_path / "c", "--json").json["routes"]
        if row["route"] == "2000 rows"
    )
    assert row["memory_bytes"] == told["2000 rows"]
    shown = run("requests", tmp_path / "c")
    assert "memory" in shown.out and "times are longer than without it" in shown.err


def test_without_it_nothing_is_watched(tmp_path: Path) -> None:
    assert set(memory(tmp_path).values()) == {0}
    assert "memory" not in run("requests", tmp_path / "c").out


@pytest.mark.parametrize("pages", ["grown", "tuned"])
def test_what_a_server_does_with_a_response_is_none_of_the_pages(
    pages: str, harbour: Path, tmp_path: Path
) -> None:
    program = tmp_path / "serve.py"
    program.write_text(
        textwrap.dedent(f"""
        import sys, threading, urllib.request
        sys.path.insert(0, {str(HARBOUR)!r})
        import app
        from werkzeug.serving import make_server
        server = make_server("127.0.0.1", 0, app.make_app("sqlite:///{harbour}", {pages!r}), threaded=False)
        thread = threading.Thread(target=server.serve_forever)
        thread.start()
        for _ in range(3):
            urllib.request.urlopen("http://127.0.0.1:%d/vessels" % server.server_port).read()
        server.shutdown()
        thread.join()
    """)
    )
    ran = run(
        "capture",
        "app",
        "--track-memory",
        "--track-use",
        "-o",
        tmp_path / "c",
        "--",
        sys.executable,
        program,
    )
    assert ran.code == 0, ran.err
    last = [request for request in read(tmp_path / "c") if request.kind == "http"][-1]
    assert 0 < last.memory_bytes < (3_000_000 if pages == "grown" else 300_000), (
        "werkzeug reads 10 MB ahead at the end"
    )
    document = run("requests", tmp_path / "c", "--json").json
    (row,) = [row for row in document["routes"] if row["route"] == "GET /vessels"]
    assert row["objects"] == row["rows"] == (800 if pages == "grown" else 50)
    if pages == "grown":
        found = run("findings", tmp_path / "c", "--pattern", "discarded-rows", "--show", "1").out
        assert "builds 800 objects and takes" in found and "at its peak" in found
    for words in (("requests", tmp_path / "c"), ("compare", tmp_path / "c", tmp_path / "c")):
        narrow = run(*words, env={"COLUMNS": "80"}).out.splitlines()
        (line,) = [line for line in narrow if line.lstrip().startswith("GET /vessels")]
        assert max(map(len, narrow)) <= 80 and "iB" in line, (
            "the route and the memory have room in 80 columns"
        )
