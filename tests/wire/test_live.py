"""The live view: requests as they end and findings when they are first seen, in a terminal and
nowhere else.
"""

from __future__ import annotations

import os
import pty
import subprocess
import sys
from pathlib import Path

import pytest

from askless.core.errors import AskLessError
from askless.reports.live import Live
from tests.conftest import program
from tests.test_traffic import Made

OFFICE = """
import askless, sqlite3
db = sqlite3.connect(":memory:")
db.execute("CREATE TABLE berth (id INTEGER PRIMARY KEY, name TEXT)")
db.executemany("INSERT INTO berth VALUES (?, ?)", [(n, "Quay") for n in range(1, 9)])
for turn in range(2):
    with askless.request("berth board"):
        for (number,) in db.execute("SELECT id FROM berth").fetchall():
            db.execute("SELECT name FROM berth AS b WHERE id = ?", (number,)).fetchone()
with askless.request("berths by hand"):  # so many that they matter by their number, on a busy machine too
    for number in range(24):
        db.execute("SELECT id FROM berth AS c WHERE id = ?", (number,)).fetchone()
"""


def test_in_a_terminal(tmp_path: Path) -> None:
    script = tmp_path / "office.py"
    script.write_text(OFFICE)
    words = [
        "capture",
        "app",
        "--live",
        "-o",
        str(tmp_path / "calls"),
        "--",
        sys.executable,
        str(script),
    ]
    seen, terminal = pty.openpty()
    with os.fdopen(seen, "rb"):
        done = subprocess.run(
            [sys.executable, "-m", "askless", *words], stdout=terminal, stderr=subprocess.PIPE, text=True, check=False, env={**os.environ, "NO_COLOR": "1"}
        )  # fmt: skip
        os.close(terminal)
    assert done.returncode == 0, done.stderr
    lines = [line.split() for line in done.stderr.splitlines()]
    assert ["berth", "board", "9", "7"] in [line[:4] for line in lines], done.stderr
    assert any(
        line[:2] == ["found:", "worthwhile"] or line[:2] == ["found:", "urgent"] for line in lines
    )
    assert lines.index(next(line for line in lines if line[:1] == ["Recorded"])) > 3


def test_nowhere_else(tmp_path: Path) -> None:
    script = tmp_path / "office.py"
    script.write_text(OFFICE)
    ran = program(
        "capture", "app", "--live", "-o", tmp_path / "calls", "--", sys.executable, script
    )
    assert ran.code == 0 and "found:" not in ran.err and "repeated" not in ran.err


def test_what_is_new_is_told_once(tmp_path: Path) -> None:
    folder = tmp_path / "calls"
    folder.mkdir()
    times = iter(range(1000))
    live = Live(folder, lambda: float(next(times)))
    assert live.look() == live.look(last=True)
    made = Made(folder, "postgresql").parents()
    for key in range(6):
        made.ask("SELECT id, name FROM vessel WHERE id = $1", 9000 + 3 * key)
    whole = made.write().read_bytes()
    (folder / "made.jsonl").write_bytes(whole[:300])
    assert not live.look().requests, "a line that is not whole yet waits"
    (folder / "made.jsonl").write_bytes(whole)
    look = live.look()
    assert [(row.route, row.queries, row.repeated) for row in look.requests] == [
        ("GET /calls", 7, 5)
    ]
    assert [finding.pattern for finding in look.findings] == ["n-plus-one"]
    assert live.look(last=True) == live.look(last=True) and not live.look(last=True).findings
    (folder / "other.jsonl").write_text("no capture\n")
    assert not live.look().requests


def test_the_project_decides_as_it_does_for_findings(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    folder = tmp_path / "calls"
    folder.mkdir()
    made = Made(folder, "postgresql").parents()
    for key in range(6):
        made.ask("SELECT id, name FROM vessel WHERE id = $1", 9000 + 3 * key)
    made.write()
    monkeypatch.chdir(tmp_path)
    rules = tmp_path / "askless.toml"
    rules.write_text(
        '[thresholds]\nrepeat_least = 7\n[[routes]]\nmatches = "GET /ca.*"\nname = "GET calls"'
    )
    look = Live(folder).look(last=True)
    assert not look.findings and [row.route for row in look.requests] == ["GET calls"]
    rules.write_text("[thresholds]\nno_such = 1\n")
    with pytest.raises(AskLessError, match="no_such"):
        Live(folder)
