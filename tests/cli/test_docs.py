"""What the documents say works: their commands are understood, their links lead somewhere, completion completes."""

from __future__ import annotations

import os
import re
import shlex
import subprocess
import sys
from pathlib import Path

import pytest

from askless.cli.main import COMMANDS, make_parser
from askless.core import patterns
from tests.conftest import run

ROOT = Path(__file__).parents[2]
DOCUMENTS = [ROOT / "README.md", ROOT / "CONTRIBUTING.md", ROOT / "CHANGELOG.md", ROOT / "docs" / "capture-format.md"]


def commands_of(text: str) -> list[str]:
    joined = re.sub(r"\\\n\s*", "", text)
    return re.findall(r"^\$ (askless .*)$", joined, re.M) + re.findall(r"^  (askless .*?)(?:   .*)?$", joined, re.M)


@pytest.mark.parametrize("source", ["README.md", *COMMANDS])
def test_every_command_shown_is_understood(source: str) -> None:
    if source == "README.md":
        text = (ROOT / source).read_text()
    else:
        text = re.sub(r"^ {4}", "  ", run(source, "--help").out.split("examples:")[1], flags=re.M)
    shown = commands_of(text)
    assert shown
    for line in shown:
        words = shlex.split(line.partition(" > ")[0])[1:]
        assert make_parser(None).parse_args(words).run, line


@pytest.mark.parametrize("document", DOCUMENTS, ids=lambda path: path.name)
def test_links_lead_somewhere(document: Path) -> None:
    for target in re.findall(r"\]\(([^)#]+)\)", document.read_text()):
        assert (document.parent / target).exists(), target


def test_the_readme_names_every_pattern_and_picture() -> None:
    text = (ROOT / "README.md").read_text()
    assert all(f"| {name} |" in text for name in patterns.REGISTRY)
    assert all(f"docs/screenshots/{picture.name}" in text for picture in (ROOT / "docs" / "screenshots").glob("*.png"))


def test_the_format_page_names_every_event_and_column() -> None:
    from askless.capture import events

    text = (ROOT / "docs" / "capture-format.md").read_text()
    names = [kind.__struct_config__.tag for kind in events.AnyEvent.__args__]
    columns = [field for field in events.Queries.__struct_fields__ if field not in ("request", "count")]
    assert [name for name in [*names, *columns] if f"`{name}`" not in text] == []


def test_the_shell_completes_commands_and_options(tmp_path: Path) -> None:
    def completed(line: str) -> set[str]:
        out = tmp_path / "completions"
        env = {**os.environ, "_ARGCOMPLETE": "1", "_ARGCOMPLETE_IFS": "\n", "_ARGCOMPLETE_STDOUT_FILENAME": str(out),
               "COMP_LINE": line, "COMP_POINT": str(len(line)), "_ARGCOMPLETE_SUPPRESS_SPACE": "1"}  # fmt: skip
        subprocess.run([sys.executable, "-m", "askless"], env=env, capture_output=True, check=False, timeout=30)
        return set(out.read_text().splitlines())

    assert {"findings"} <= completed("askless fin")
    assert {"--route", "--pattern", "--show"} <= completed("askless findings --")
