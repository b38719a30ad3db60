"""Code that a library makes up as it runs is no place of the program; code of `python -c` is."""

from __future__ import annotations

import sys
from pathlib import Path

from askless.api.captures import read
from tests.conftest import run

PROGRAM = """
import sqlite3
db = sqlite3.connect(":memory:")
names = {"db": db}
exec("def made_up():\\n    return db.execute('SELECT 1').fetchall()", names)

def page():
    return names["made_up"]()

page()
"""


def places_of(capture: Path) -> list[tuple[str, int, str]]:
    queries = read(capture).queries
    return [(Path(one.file).name, one.line, one.function) for one in queries if one.file]


def test_the_line_that_calls_made_up_code_is_named(tmp_path: Path) -> None:
    script = tmp_path / "office.py"
    script.write_text(PROGRAM)
    words = ("-o", tmp_path / "c", "--", sys.executable, script)
    assert run("capture", "app", *words).code == 0
    assert places_of(tmp_path / "c") == [("office.py", 8, "page")]


def test_code_on_the_command_line_is_the_programs_own(tmp_path: Path) -> None:
    code = "import sqlite3\nsqlite3.connect(':memory:').execute('SELECT 1').fetchall()"
    assert run("capture", "app", "-o", tmp_path / "c", "--", sys.executable, "-c", code).code == 0
    assert places_of(tmp_path / "c") == [("<string>", 2, "<module>")]
