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
    "patches": {"core", "reports", "patches"},
    "api": {
        "core",
        "capture",
        "sources",
        "database",
        "reports",
        "output",
        "project",
        "patches",
        "api",
    },
    "testing": {"core", "capture", "sources", "reports", "output", "project", "testing"},
    "demo": {"demo"},
    "probe": set(),
}
# The packages of a package, in the order in which they may import: each only those before it, and
# itself.
ORDER = {
    "core": [
        "errors",
        "whole_numbers",
        "settings",
        "formatting",
        "statistics",
        "verdicts",
        "progress",
        "json_encoding",
        "systems",
        "sql",
        "records",
        "aggregation",
        "inference",
        "findings",
        "plans",
        "indexing",
        "advice",
        "patterns",
        "analysis",
        "trials",
        "comparison",
        "growth",
    ],
    "sources": [
        "sampling",
        "capture_folder",
        "decompression",
        "programs",
        "wire",
        "attribution",
        "recording",
        "app",
        "relay",
        "packets",
        "otlp",
        "logs",
    ],
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


@pytest.mark.parametrize("room", ORDER)
def test_packages_import_in_order(room: str) -> None:
    """What is imported from `askless.core` is `askless.core.X`, or `X` of `askless.core`."""
    order = ORDER[room]
    for path in files(room):
        own = path.relative_to(SOURCE / room).parts[0].removesuffix(".py")
        if own == "__init__":
            continue
        assert own in order, f"{own} has no place in the order"
        for node in ast.walk(ast.parse(path.read_text())):
            if not isinstance(node, ast.ImportFrom) or not (node.module or "").startswith(
                f"askless.{room}"
            ):
                continue
            inner = (node.module or "").split(".")[2:3] or [
                name.name for name in node.names if name.name in order
            ]
            for other in inner:
                assert order.index(other) <= order.index(own), f"{path}: {own} imports {other}"


def test_no_modules_import_each_other() -> None:
    """No circle: of imports at the top of a module, and of those inside of functions."""
    paths = {
        ".".join(("askless", *path.relative_to(SOURCE).with_suffix("").parts)).removesuffix(
            ".__init__"
        ): path
        for path in SOURCE.rglob("*.py")
        if not {"probe", "harbour", "harbour_django"} & set(path.parts)
    }
    graph: dict[str, set[str]] = {}
    for name, path in paths.items():
        imports = [
            node
            for node in ast.walk(ast.parse(path.read_text()))
            if isinstance(node, ast.ImportFrom)
        ]
        named = [(str(node.module), one.name) for node in imports for one in node.names]
        graph[name] = {
            f"{module}.{one}" if f"{module}.{one}" in paths else module for module, one in named
        } & paths.keys()
    done: set[str] = set()

    def visit(name: str, above: tuple[str, ...]) -> None:
        assert name not in above, " -> ".join((*above[above.index(name) :], name))
        if name not in done:
            for other in graph[name] - {name}:
                visit(other, (*above, name))
            done.add(name)

    for name in graph:
        visit(name, ())


def test_core_does_no_io() -> None:
    for path in files("core"):
        tops = {name.split(".")[0] for name in imported(path)}
        if path.name == "parsing.py":
            tops.discard("sys")  # for the depth of recursion
        assert not tops & NO_IO, f"{path} imports {tops & NO_IO}"


def test_only_cli_knows_argparse() -> None:
    knowing = {
        path.relative_to(SOURCE).parts[0]
        for path in SOURCE.rglob("*.py")
        if "argparse" in imported(path)
    }
    assert knowing == {"cli", "demo"}, "the demo's own application has a command line too"


def test_tests_of_the_core_need_pytest_and_hypothesis_alone() -> None:
    """Neither they nor what they import at the top: no driver, no browser."""
    tests = SOURCE.parent.parent / "tests"
    allowed = set(sys.stdlib_module_names) | {
        "pytest",
        "hypothesis",
        "askless",
        "tests",
        "msgspec",
        "sqlglot",
    }
    for path in [
        *sorted((tests / "core").glob("*.py")),
        tests / "conftest.py",
        tests / "servers.py",
    ]:
        at_top = [
            node
            for node in ast.parse(path.read_text()).body
            if isinstance(node, ast.Import | ast.ImportFrom)
        ]
        tops = {
            name.split(".")[0]
            for node in at_top
            for name in (
                [one.name for one in node.names]
                if isinstance(node, ast.Import)
                else [node.module or ""]
            )
        }
        assert tops <= allowed, f"{path} imports {tops - allowed}"


def test_the_recorder_needs_the_standard_library_only() -> None:
    allowed = set(sys.stdlib_module_names) | {"askless_probe", "sitecustomize"}
    # imported inside hooks that run once the program has imported them
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
    }
    for path in [*files("probe/inject"), *files("probe/fallback")]:
        tops = {name.split(".")[0] for name in imported(path) if name}
        assert tops <= allowed | hooked, f"{path} imports {tops - allowed}"
        at_start = {
            name.name.split(".")[0]
            if isinstance(node, ast.Import)
            else (node.module or "").split(".")[0]
            for node in ast.parse(path.read_text()).body
            if isinstance(node, ast.Import | ast.ImportFrom) and not getattr(node, "level", 0)
            for name in node.names
        }
        assert not at_start & hooked, path


def test_modules_stay_small() -> None:
    for path in SOURCE.rglob("*.py"):
        assert len(path.read_text().splitlines()) <= 640, (
            f"{path} has grown too large to have one reason"
        )


def test_plain_wrappers_are_the_twins_of_the_awaited_ones() -> None:
    done = subprocess.run([sys.executable, SOURCE / "probe" / "make-twins", "--check"], check=False)
    assert done.returncode == 0, "run src/askless/probe/make-twins"


BRANCHES_MOST = 15
_BRANCHES = (ast.If, ast.IfExp, ast.For, ast.AsyncFor, ast.While, ast.ExceptHandler, ast.match_case)


def _branches(function: ast.AST) -> int:
    """1, and 1 for each branch, `and`, `or`, loop, handler, comprehension and its conditions.
    Functions within it count for themselves.
    """
    count, waiting = 1, list(ast.iter_child_nodes(function))
    while waiting:
        node = waiting.pop()
        if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef | ast.ClassDef):
            continue
        if isinstance(node, _BRANCHES):
            count += 1
        elif isinstance(node, ast.BoolOp):
            count += len(node.values) - 1
        elif isinstance(node, ast.comprehension):
            count += 1 + len(node.ifs)
        waiting += ast.iter_child_nodes(node)
    return count


def test_branches_are_counted() -> None:
    function = ast.parse(
        "def f(x):\n"
        "    if x and x or y:\n"  # 1 and 2
        "        return [a for a in x if a if b]\n"  # 1 and 2
        "    def g():\n"
        "        if x: pass\n"
        "    return 1 if x else 2\n"
    ).body[0]
    assert _branches(function) == 8


def test_no_function_has_too_many_branches() -> None:
    """A branch for each kind of thing is one function too many from here on: name its parts."""
    too_many = [
        f"{file.relative_to(SOURCE.parent.parent)}:{node.lineno} {node.name}: {count}"
        for file in SOURCE.rglob("*.py")
        for node in ast.walk(ast.parse(file.read_text()))
        if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef)
        and (count := _branches(node)) > BRANCHES_MOST
    ]
    assert not too_many, too_many
