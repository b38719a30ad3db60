"""What a capture came to is kept: the same answer, as long as nothing has changed."""

from __future__ import annotations

import os
import shutil
import stat
import subprocess
import sys
from pathlib import Path

import pytest

from askless.core.analysis import pipeline
from tests.conftest import run


@pytest.fixture
def kept(
    pages: dict[str, Path], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> tuple[Path, Path]:
    """A capture of its own, and an empty cache folder."""
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    capture = tmp_path / "calls"
    shutil.copytree(pages["grown"], capture)
    return capture, tmp_path / "cache" / "askless"


def test_an_unchanged_capture_is_not_judged_again(
    kept: tuple[Path, Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    capture, cache = kept
    first = run("findings", capture)
    # next to what was parsed, if this process had not parsed it before
    (file,) = cache.glob("*.json")
    assert {stat.S_IMODE(one.stat().st_mode) for one in (file, *cache.iterdir())} == {0o600}
    assert stat.S_IMODE(cache.stat().st_mode) == 0o700
    monkeypatch.setattr(pipeline, "judgement_of", None)
    again, story = run("findings", capture), run("findings", capture, "--show", "1")
    assert (again.code, again.out) == (0, first.out) and story.code == 0
    assert run("findings", capture, "--route", "{call_sign}").out.startswith(
        "No findings match the filters"
    )


def test_whatever_has_changed_is_judged_anew(kept: tuple[Path, Path]) -> None:
    capture, cache = kept
    first = run("findings", capture, "--json").json
    (file,) = capture.iterdir()
    with file.open("a") as stream:
        stream.write('{"event":"note","text":"a tide later"}\n')
    changed = run("findings", capture, "--json").json
    assert len(list(cache.iterdir())) == 2 and changed["findings"] == first["findings"]
    assert any("a tide later" in note for note in changed["notes"])
    os.utime(file, ns=(1, 1))
    run("findings", capture)
    assert len(list(cache.iterdir())) == 3


def test_what_is_kept_and_can_not_be_read_is_worked_out_anew(kept: tuple[Path, Path]) -> None:
    capture, cache = kept
    first = run("findings", capture)
    for text in (b"", b"{}", b"[" * 100_000, b"\xff"):
        for file in cache.iterdir():
            file.write_bytes(text)
        assert run("findings", capture).out == first.out


def test_values_are_never_kept(kept: tuple[Path, Path]) -> None:
    capture, cache = kept
    assert run("findings", capture, "--values").code == 0
    assert not cache.exists()


def test_a_home_that_takes_nothing(
    kept: tuple[Path, Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    capture, _ = kept
    monkeypatch.setenv("XDG_CACHE_HOME", os.devnull)
    assert run("findings", capture).code == 0


@pytest.mark.parametrize(
    "words",
    [("requests",), ("timeline", "1"), ("findings",), ("findings", "--show", "1")],
    ids=" ".join,
)
def test_what_needs_no_parser_imports_none(words: tuple[str, ...], kept: tuple[Path, Path]) -> None:
    """The SQL parser and SQLAlchemy take longer to import than most commands to answer."""
    capture, _ = kept
    run("requests", capture, "--each")
    run("findings", capture)  # from here on it is known
    command = [
        sys.executable,
        "-X",
        "importtime",
        "-m",
        "askless",
        words[0],
        str(capture),
        *words[1:],
    ]
    done = subprocess.run(command, capture_output=True, text=True, check=True)
    heavy = {line.rsplit("|", 1)[-1].strip() for line in done.stderr.splitlines()} & {
        "sqlglot",
        "sqlalchemy",
    }
    assert done.stdout and heavy == set()
