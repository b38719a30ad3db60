"""Drives the program as its users do, on files in a temporary folder.

`run` calls the command line in this process, with its own standard streams: starting Python for
each of a thousand calls would take most of the time. `program` starts the installed program, for
what only a process of its own shows.
"""

from __future__ import annotations

import contextlib
import io
import json
import os
import subprocess
import sys
import textwrap
from collections.abc import Callable, Iterator
from contextlib import ExitStack
from pathlib import Path
from typing import Any

import pytest
from hypothesis import settings

import askless
from askless.cli.main import main
from tests import servers
from tests.possible import impossible

ASKLESS = [sys.executable, "-m", "askless"]
# A change must not fail in CI for what it did not touch: there the same examples are tried each
# time, at a desk new ones.
# how long an example takes is not a matter of a test
settings.register_profile("any machine", deadline=None)
settings.load_profile("any machine")
settings.register_profile("ci", derandomize=True, deadline=None)
if os.environ.get("CI"):
    settings.load_profile("ci")

HARBOUR = Path(__file__).parent.parent / "src" / "askless" / "demo" / "harbour"


INJECT = Path(askless.__file__).parent / "probe" / "inject"


@contextlib.contextmanager
def recorder_on_path() -> Iterator[None]:
    """Within the block the recorder's own modules can be imported, as a recorded program has them."""
    sys.path.insert(0, str(INJECT))
    try:
        yield
    finally:
        sys.path.remove(str(INJECT))
        for name in [name for name in sys.modules if name.startswith("askless_probe")]:
            del sys.modules[name]


class Ran:
    """A finished run of the program."""

    def __init__(self, code: int, out: str, err: str) -> None:
        self.code = code
        self.out = out
        self.err = err

    @property
    def json(self) -> Any:
        return json.loads(self.out)


def refused(ran: Ran, *words: str) -> None:
    """Bad input: one message with these words and a remedy, exit code 2, no traceback."""
    code, err, out = ran.code, ran.err, ran.out
    assert code == 2, (code, err)
    assert err.startswith("askless: ") and "Traceback" not in err and out == ""
    assert len(err.splitlines()) >= 2, "a message and a remedy"
    for word in words:
        assert word in err, err


def program(*words: object, cwd: Path | None = None, env: dict[str, str] | None = None) -> Ran:
    """Start `askless` and wait. A PYTHONPATH of `env` goes before the one that the tests run with,
    which may name other sources.
    """
    own = {**os.environ, "COLUMNS": "100", **(env or {})}
    if "PYTHONPATH" in os.environ and "PYTHONPATH" in (env or {}):
        own["PYTHONPATH"] += os.pathsep + os.environ["PYTHONPATH"]
    done = subprocess.run(
        [*ASKLESS, *map(str, words)],
        cwd=cwd,
        env=own,
        capture_output=True,
        text=True,
        timeout=300,
        stdin=subprocess.DEVNULL,
        check=False,
    )
    return Ran(done.returncode, done.stdout, done.stderr)


def run(*words: object, cwd: Path | None = None, env: dict[str, str] | None = None) -> Ran:
    """Call `askless` and catch what it says; a program to be recorded gets a process of its own."""
    if [str(word) for word in words[:2]] == ["capture", "app"] or words[:1] == ("demo",):
        return program(*words, cwd=cwd, env=env)
    out, err = (
        io.TextIOWrapper(io.BytesIO(), encoding="utf-8", write_through=True) for _ in range(2)
    )
    with ExitStack() as stack:
        patched = stack.enter_context(pytest.MonkeyPatch.context())
        for name, value in {"COLUMNS": "100", **(env or {})}.items():
            patched.setenv(name, value)
        patched.setattr(sys, "stdin", stack.enter_context(Path(os.devnull).open()))
        if cwd is not None:
            stack.enter_context(contextlib.chdir(cwd))
        stack.enter_context(contextlib.redirect_stdout(out))
        stack.enter_context(contextlib.redirect_stderr(err))
        try:
            code = main([str(word) for word in words])
        except SystemExit as end:
            code = int(end.code or 0)
    is_document = "--json" in words and "--patch" not in words
    if words[:1] == ("findings",) and is_document and code in (0, 1):
        assert impossible(json.loads(out.buffer.getvalue())) == []
    return Ran(code, *(stream.buffer.getvalue().decode() for stream in (out, err)))


@pytest.fixture(scope="session", autouse=True)
def state_of_its_own(tmp_path_factory: pytest.TempPathFactory) -> Iterator[None]:
    """What the program keeps for its user goes where this run's other files are."""
    with pytest.MonkeyPatch.context() as patched:
        patched.setenv("XDG_STATE_HOME", str(tmp_path_factory.mktemp("state")))
        patched.setenv("XDG_CACHE_HOME", str(tmp_path_factory.mktemp("cache")))
        yield


class Running:
    """The servers of this run, each started when a test asks for it and stopped at the end."""

    def __init__(self, stack: ExitStack) -> None:
        self._stack = stack
        self._known: dict[str, servers.Server] = {}

    def __getitem__(self, system: str) -> servers.Server:
        if system not in self._known:
            start = {"postgresql": servers.postgresql, "mariadb": servers.mariadb}[system]
            self._known[system] = self._stack.enter_context(start())
        return self._known[system]


@pytest.fixture(scope="session")
def running() -> Iterator[Running]:
    """One throw-away server of each kind; under several processes, for each process."""
    with ExitStack() as stack:
        yield Running(stack)


@pytest.fixture(scope="session")
def postgresql(running: Running) -> servers.Server:
    return running["postgresql"]


@pytest.fixture(scope="session")
def mariadb(running: Running) -> servers.Server:
    return running["mariadb"]


@pytest.fixture(scope="session")
def harbour(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A small harbour office's database: 600 vessels, 4,500 calls. Tests only read it."""
    path = tmp_path_factory.mktemp("harbour") / "harbour.db"
    code = "import sys, data, sqlalchemy; data.fill(sqlalchemy.create_engine(sys.argv[1]), scale=2)"
    subprocess.run(
        [sys.executable, "-c", code, f"sqlite:///{path}"], cwd=HARBOUR, check=True, timeout=120
    )
    return path


@pytest.fixture(scope="session")
def pages(harbour: Path, tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    """Captures of the demo's pages, as they grew and as tuned, and what the pages gave (in a file
    next to them).
    """
    folder = tmp_path_factory.mktemp("pages")
    driver = folder / "drive.py"
    driver.write_text(
        textwrap.dedent(f"""
        import sys, json
        sys.path.insert(0, {str(HARBOUR)!r})
        import app
        client = app.make_app("sqlite:///{harbour}", sys.argv[1]).test_client()
        given = {{}}
        for turn in range(6):
            for page in {PAGES!r}:
                answer = client.get(page, headers={{"X-Ask-Less-Warm-Up": "1"}} if turn == 0 else {{}})
                assert answer.status_code == 200, (page, answer.status_code)
                given[page] = answer.text
        open(sys.argv[2], "w").write(json.dumps(given))
        """)
    )
    captures = {}
    for kind in ("grown", "tuned"):
        capture = folder / kind
        ran = run(
            "capture",
            "app",
            "-o",
            capture,
            "--",
            sys.executable,
            driver,
            kind,
            folder / f"{kind}.json",
        )
        assert ran.code == 0, ran.err
        captures[kind] = capture
    return captures


PAGES = [
    "/calls/due",
    "/calls/5990",
    "/berths",
    "/statistics",
    "/inspections",
    "/vessels",
    "/vessels/H00042",
]


@pytest.fixture
def record(tmp_path: Path) -> Callable[..., Path]:
    """Record a script given as text; returns the capture's folder."""

    def record_script(
        code: str,
        *arguments: object,
        name: str = "script.py",
        expect: int = 0,
        env: dict[str, str] | None = None,
    ) -> Path:
        script = tmp_path / name
        script.write_text(textwrap.dedent(code))
        folder = tmp_path / f"capture-{len(list(tmp_path.iterdir()))}"
        ran = run(
            "capture",
            "app",
            "-o",
            folder,
            "--",
            sys.executable,
            script,
            *arguments,
            cwd=tmp_path,
            env=env,
        )
        assert ran.code == expect, ran.err
        return folder

    return record_script


def findings(capture: Path, *words: object) -> list[dict[str, Any]]:
    """The findings of a capture, as the program prints them for programs."""
    ran = run("findings", capture, "--json", *words)
    assert ran.code == 0, ran.err
    found: list[dict[str, Any]] = ran.json["findings"]
    return found
