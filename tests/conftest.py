"""Drives the installed program as its users do: as a subprocess, on files in a temporary folder."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import textwrap
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

ASKLESS = [sys.executable, "-m", "askless"]
HARBOUR = Path(__file__).parent.parent / "src" / "askless" / "demo" / "harbour"


class Ran:
    """A finished run of the program."""

    def __init__(self, done: subprocess.CompletedProcess[str]) -> None:
        self.code = done.returncode
        self.out = done.stdout
        self.err = done.stderr

    @property
    def json(self) -> Any:
        return json.loads(self.out)


def run(*words: object, cwd: Path | None = None, env: dict[str, str] | None = None, timeout: float = 120) -> Ran:
    """Run `askless` and wait."""
    merged = {**os.environ, "COLUMNS": "100", **(env or {})}
    done = subprocess.run(
        [*ASKLESS, *map(str, words)],
        cwd=cwd,
        env=merged,
        capture_output=True,
        text=True,
        timeout=timeout,
        stdin=subprocess.DEVNULL,
        check=False,
    )
    return Ran(done)


@pytest.fixture(scope="session")
def harbour(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A small harbour office's database: 600 vessels, 4,500 calls. Tests only read it."""
    path = tmp_path_factory.mktemp("harbour") / "harbour.db"
    code = "import sys, data, sqlalchemy; data.fill(sqlalchemy.create_engine(sys.argv[1]), scale=2)"
    subprocess.run([sys.executable, "-c", code, f"sqlite:///{path}"], cwd=HARBOUR, check=True, timeout=120)
    return path


@pytest.fixture(scope="session")
def pages(harbour: Path, tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    """Captures of the demo's pages, as they grew and as tuned, and what the pages gave (in a file beside them)."""
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
        ran = run("capture", "app", "-o", capture, "--", sys.executable, driver, kind, folder / f"{kind}.json")
        assert ran.code == 0, ran.err
        captures[kind] = capture
    return captures


PAGES = ["/calls/due", "/calls/5990", "/berths", "/statistics", "/inspections", "/vessels", "/vessels/H00042"]


@pytest.fixture
def record(tmp_path: Path) -> Callable[..., Path]:
    """Record a script given as text; returns the capture's folder."""

    def record_script(
        code: str, *arguments: object, name: str = "script.py", expect: int = 0, env: dict[str, str] | None = None
    ) -> Path:
        script = tmp_path / name
        script.write_text(textwrap.dedent(code))
        folder = tmp_path / f"capture-{len(list(tmp_path.iterdir()))}"
        ran = run("capture", "app", "-o", folder, "--", sys.executable, script, *arguments, cwd=tmp_path, env=env)
        assert ran.code == expect, ran.err
        return folder

    return record_script


def findings(capture: Path, *words: object) -> list[dict[str, Any]]:
    """The findings of a capture, as the program prints them for programs."""
    ran = run("findings", capture, "--json", *words)
    assert ran.code == 0, ran.err
    found: list[dict[str, Any]] = ran.json["findings"]
    return found
