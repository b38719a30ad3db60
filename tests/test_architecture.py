"""The house: imports run one way, only `cli` knows argparse, the recorder is on its own."""

from __future__ import annotations

import ast
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

SOURCE = Path(__file__).parent.parent / "src" / "askless"
MAY_IMPORT = {
    "core": {"core"},
    "capture": {"core", "capture"},
    "sources": {"core", "capture", "project", "sources"},
    "database": {"core", "database"},
    "executors": {"core", "executors"},
    "reports": {"core", "capture", "project", "database", "executors", "reports"},
    "output": {"core", "reports", "output"},
    "project": {"core", "project"},
    "api": {"core", "capture", "sources", "database", "reports", "output", "project", "api"},
    "testing": {"core", "capture", "sources", "reports", "output", "project", "testing"},
    "demo": {"demo"},
    "probe": set(),
}
NO_IO = {
    "os",
    "sys",
    "pathlib",
    "socket",
    "subprocess",
    "sqlite3",
    "sqlalchemy",
    "rich",
    "argparse",
    "io",
    "shutil",
    "tempfile",
}


def imported(path: Path) -> Iterator[str]:
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            yield from (name.name for name in node.names)
        elif isinstance(node, ast.ImportFrom) and node.level == 0:
            yield node.module or ""


def files(room: str) -> list[Path]:
    found = sorted((SOURCE / room).rglob("*.py"))
    assert found, room
    return found


@pytest.mark.parametrize("room", [room for room in MAY_IMPORT if room not in ("probe", "demo")])
def test_imports_run_one_way(room: str) -> None:
    for path in files(room):
        rooms = {name.split(".")[1] for name in imported(path) if name.startswith("askless.")}
        assert rooms <= MAY_IMPORT[room], f"{path} imports {rooms - MAY_IMPORT[room]}"


def test_core_does_no_io() -> None:
    for path in files("core"):
        tops = {name.split(".")[0] for name in imported(path)}
        if path.name == "parsing.py":
            tops.discard("sys")  # for the depth of recursion
        assert not tops & NO_IO, f"{path} imports {tops & NO_IO}"


def test_only_cli_knows_argparse() -> None:
    knowing = {path.relative_to(SOURCE).parts[0] for path in SOURCE.rglob("*.py") if "argparse" in imported(path)}
    assert knowing == {"cli", "demo"}, "the demo's own application has a command line too"


def test_the_recorder_needs_the_standard_library_only() -> None:
    allowed = set(sys.stdlib_module_names) | {"askless_probe", "sitecustomize"}
    hooked = {
        "flask",
        "quart",
        "grpc",
        "asyncmy",
        "sqlalchemy",
        "asyncpg",
        "psycopg2",
        "pymysql",
        "MySQLdb",
        "pytest",
    }  # imported inside hooks that run once the program has imported them
    for path in [*files("probe/inject"), *files("probe/fallback")]:
        tops = {name.split(".")[0] for name in imported(path) if name}
        assert tops <= allowed | hooked, f"{path} imports {tops - allowed}"
        at_start = {
            name.name.split(".")[0] if isinstance(node, ast.Import) else (node.module or "").split(".")[0]
            for node in ast.parse(path.read_text()).body
            if isinstance(node, ast.Import | ast.ImportFrom) and not getattr(node, "level", 0)
            for name in node.names
        }
        assert not at_start & hooked, path


def test_modules_stay_small() -> None:
    for path in SOURCE.rglob("*.py"):
        assert len(path.read_text().splitlines()) <= 560, f"{path} has grown too large to have one reason"


def test_plain_wrappers_are_the_twins_of_the_awaited_ones() -> None:
    done = subprocess.run([sys.executable, SOURCE / "probe" / "make-twins", "--check"], check=False)
    assert done.returncode == 0, "run src/askless/probe/make-twins"
