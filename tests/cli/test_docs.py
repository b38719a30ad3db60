"""What the documents say works: their commands are understood, their links lead somewhere,
completion completes.
"""

from __future__ import annotations

import os
import re
import shlex
import subprocess
import sys
from pathlib import Path

import pytest

from askless import sources
from askless.cli.main import COMMANDS, apart, make_parser
from askless.core import patterns
from tests.conftest import run

ROOT = Path(__file__).parents[2]
PAGES = [ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md"))]
DOCUMENTS = [*PAGES, ROOT / "CONTRIBUTING.md", ROOT / "CHANGELOG.md"]


def commands_of(text: str) -> list[str]:
    joined = re.sub(r"\\\n\s*", "", text)
    return re.findall(r"^\$ (askless .*)$", joined, re.M) + re.findall(
        r"^  (askless .*?)(?:   .*)?$", joined, re.M
    )


@pytest.mark.parametrize("page", PAGES, ids=lambda path: path.name)
def test_every_command_of_a_page_is_understood(page: Path) -> None:
    shown = commands_of(page.read_text())
    assert shown or "```console" not in page.read_text()
    understood(shown)


@pytest.mark.parametrize("command", COMMANDS)
def test_every_example_of_a_command_is_understood(command: str) -> None:
    text = re.sub(r"^ {4}", "  ", run(command, "--help").out.split("examples:")[1], flags=re.M)
    shown = commands_of(text)
    assert shown
    understood(shown)


def understood(shown: list[str]) -> None:
    for line in shown:
        words = shlex.split(re.split(r" >>? ", line)[0])[1:]
        assert make_parser(None).parse_args(apart(words)[0]).run, line


@pytest.mark.parametrize("document", DOCUMENTS, ids=lambda path: path.name)
def test_links_lead_somewhere(document: Path) -> None:
    for target in re.findall(r"\]\(([^)#]+)\)", document.read_text()):
        assert (document.parent / target).exists(), target


def test_options_and_commands_in_running_text_exist() -> None:
    options: set[str] = set()
    for command in COMMANDS:
        options |= set(re.findall(r"--[a-z][a-z-]+", run(command, "--help").out))
    for source in sources.REGISTRY:
        options |= set(re.findall(r"--[a-z][a-z-]+", run("capture", source, "--help").out))
    options |= {"--version", "--help", "--check"}
    plugin = {"--asks-strict", "--asks-route"}
    for page in PAGES:
        text = re.sub(
            r"^[^$\n]*(?:pip|python|pytest|psql|sh) [^\n]*$", "", page.read_text(), flags=re.M
        )
        for quoted in re.findall(r"`([^`\n]+)`", text):
            named = set(re.findall(r"(?<![\w-])--[a-z][a-z-]+", quoted))
            assert named <= options | plugin, (page.name, quoted)
            found = re.match(r"askless ([a-z]+)", quoted)
            assert found is None or found[1] in COMMANDS, (page.name, quoted)


def test_the_readme_is_short_and_every_picture_and_page_is_linked() -> None:
    text = (ROOT / "README.md").read_text()
    assert len(text.splitlines()) <= 150
    every = "".join(page.read_text() for page in PAGES)
    assert all(
        f"screenshots/{picture.name}" in every
        for picture in (ROOT / "docs" / "screenshots").glob("*.png")
    )
    assert all(f"docs/{page.name}" in text for page in PAGES[1:])


def test_the_page_of_patterns_is_made_of_their_rules() -> None:
    done = subprocess.run([sys.executable, ROOT / "docs" / "make-patterns", "--check"], check=False)
    assert done.returncode == 0, "run docs/make-patterns"
    text = (ROOT / "docs" / "patterns.md").read_text()
    assert all(f"**{name}**" in text for name in patterns.REGISTRY)


def test_the_format_page_names_every_event_and_column() -> None:
    from askless.capture import events

    text = (ROOT / "docs" / "capture-format.md").read_text()
    names = [kind.__struct_config__.tag for kind in events.AnyEvent.__args__]
    columns = [
        field for field in events.Queries.__struct_fields__ if field not in ("request", "count")
    ]
    assert [name for name in [*names, *columns] if f"`{name}`" not in text] == []


def test_the_shell_completes_commands_and_options(tmp_path: Path) -> None:
    def completed(line: str) -> set[str]:
        out = tmp_path / "completions"
        env = {**os.environ, "_ARGCOMPLETE": "1", "_ARGCOMPLETE_IFS": "\n", "_ARGCOMPLETE_STDOUT_FILENAME": str(out),
               "COMP_LINE": line, "COMP_POINT": str(len(line)), "_ARGCOMPLETE_SUPPRESS_SPACE": "1"}  # fmt: skip
        subprocess.run(
            [sys.executable, "-m", "askless"], env=env, capture_output=True, check=False, timeout=30
        )
        return set(out.read_text().splitlines())

    assert {"findings"} <= completed("askless fin")
    assert {"--route", "--pattern", "--show"} <= completed("askless findings --")
