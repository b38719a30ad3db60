"""Headers that are sent with visits: from the option, the environment and a file, and never kept."""

from __future__ import annotations

import sys
from pathlib import Path

import pytest

from tests import servers
from tests.conftest import run

PROGRAM = """
import sqlite3, sys
from wsgiref.simple_server import make_server

def application(environ, start_response):
    sqlite3.connect(":memory:").execute("SELECT 1").fetchall()
    known = environ.get("HTTP_COOKIE") == "session=tide-table-9"
    start_response("200 OK" if known else "401 Unauthorized", [("Content-Type", "text/plain")])
    return [environ.get("HTTP_ACCEPT_LANGUAGE", "").encode()]

make_server("127.0.0.1", int(sys.argv[1]), application).serve_forever()
"""
SECRET = "session=tide-table-9"


@pytest.mark.parametrize("way", ["word", "env", "file"])
def test_headers_go_with_visits_and_are_not_kept(tmp_path: Path, way: str) -> None:
    script, port = tmp_path / "office.py", servers.free_port()
    script.write_text(PROGRAM)
    (tmp_path / "cookie").write_text(SECRET + "\n")
    value = {"word": SECRET, "env": "env:TIDE", "file": f"file:{tmp_path / 'cookie'}"}[way]
    ran = run(
        *("capture", "app", "-o", tmp_path / "c", "--visit", f"http://127.0.0.1:{port}/calls"),
        *(
            "--visit-header",
            f"Cookie: {value}",
            "--visit-header",
            "Accept-Language: no",
            "--repeat",
            "2",
        ),
        *("--", sys.executable, script, port),
        env={"TIDE": SECRET},
    )
    assert ran.code == 0 and "status 200" in ran.err, ran.err
    kept = b"".join(path.read_bytes() for path in (tmp_path / "c").iterdir())
    assert b"tide-table-9" not in kept and b"/calls" in kept


@pytest.mark.parametrize(
    ("header", "reason"),
    [
        ("Cookie", "a name and a value"),
        ("Coo kie: x", "a name and a value"),
        (": x", "a name and a value"),
        ("Cookie: env:NO_SUCH_TIDE", "no environment variable NO_SUCH_TIDE"),
        ("Cookie: file:/no/such/tide", "can't read /no/such/tide"),
        ("Cookie: a\nX-Other: b", "is not one line"),
    ],
)
def test_headers_that_are_none_are_refused(tmp_path: Path, header: str, reason: str) -> None:
    words = (
        "--visit",
        "http://127.0.0.1:1/",
        "--visit-header",
        header,
        "--",
        sys.executable,
        "-c",
        "",
    )
    ran = run("capture", "app", "-o", tmp_path / "c", *words)
    assert ran.code == 2 and reason in ran.err and not (tmp_path / "c").exists()
