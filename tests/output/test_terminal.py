"""The terminal: every width is used well, links and a pager where there is someone to use them."""

from __future__ import annotations

import os
import pty
import re
import select
import subprocess
from pathlib import Path

import pytest
from hypothesis import given, strategies as st

from askless.output import paging
from askless.output.terminal.drawing import follows_links
from askless.output.text import brief
from tests.conftest import ASKLESS, run

WIDTHS = (80, 100, 140, 200)
PLAN = Path(__file__).parents[2] / "docs" / "examples" / "postgresql-plan.txt"
LINKING = (
    "KITTY_WINDOW_ID",
    "WT_SESSION",
    "KONSOLE_VERSION",
    "VTE_VERSION",
    "WEZTERM_PANE",
    "TERM_PROGRAM",
)


@pytest.mark.parametrize("width", WIDTHS)
def test_nothing_is_wider_than_the_terminal(
    width: int, pages: dict[str, Path], hostile: Path
) -> None:
    views = [["requests"], ["requests", "--each"], ["timeline"], ["findings"], ["findings", "--each"],
             ["findings", "--show", "1"], ["growth"], ["growth", "--over-time"]]  # fmt: skip
    for capture in (pages["grown"], hostile):
        for command, *options in views:
            ran = run(command, capture, *options, env={"COLUMNS": str(width)})
            # to be copied whole
            told = [line for line in ran.out.splitlines() if not line.startswith("  askless ")]
            assert ran.code == 0 and max(map(len, told)) <= width, (command, options)


def test_wide_terminals_are_used(pages: dict[str, Path]) -> None:
    def longest(*words: object, width: int) -> int:
        out = run(*words, env={"COLUMNS": str(width)}).out
        return max(len(line.rstrip()) for line in out.splitlines())

    due = ("timeline", pages["grown"], "--route", "/calls/due")
    assert (
        75
        < longest(*due, width=80)
        <= 80
        < 130
        < longest(*due, width=140)
        <= 140
        < longest(*due, width=200)
    )
    # Sentences end where an eye still finds the next line. Of one pattern: which finding of all is
    # the first depends on the times.
    first = ("findings", pages["grown"], "--pattern", "n-plus-one", "--show", "1")
    story = run(*first, env={"COLUMNS": "200"}).out.splitlines()
    prose = [
        line
        for line in story
        if not line.lstrip().startswith((".", "─", "SELECT", "FROM", "WHERE"))
    ]
    assert max(len(line.rstrip()) for line in prose if "  " not in line.strip()) <= 110


@pytest.mark.parametrize("width", WIDTHS)
def test_observations_run_below_their_step_over_the_whole_width(width: int) -> None:
    lines = run("plan", "--file", PLAN, "--tree", env={"COLUMNS": str(width)}).out.splitlines()
    seen = [
        line for line in lines if "reads 20,000 rows to keep" in line or "expected 10 rows" in line
    ]
    assert len(seen) == 2 and all(len(line) > min(width, 110) - 16 for line in seen)
    assert all(len(line) <= width for line in lines)
    head = next(line for line in lines if "rows expected" in line)
    scan = next(line for line in lines if "full scan on port_call" in line)
    assert scan.index("2,000") + len("2,000") == head.index("rows found") + len("rows found"), (
        "numbers under their name"
    )


def test_names_are_shortened_in_the_middle(
    pages: dict[str, Path], hostile: Path, tmp_path: Path
) -> None:
    text = next(pages["grown"].glob("*.jsonl")).read_text()
    long = tmp_path / "long.jsonl"
    route = "/api/v2/harbours/{harbour}/basins/{basin}/quays/{quay}/berths/{berth}/calls/due"
    long.write_text(
        text.replace("/calls/due", route).replace(
            "grown.py", "pages_of_the_office_as_they_grew/over_years.py"
        )
    )
    shown = run("requests", long, env={"COLUMNS": "80"}).out
    assert re.search(r"GET /api/\S*…/\S*due", shown)
    found = run("findings", long, env={"COLUMNS": "80"}, cwd=Path("/")).out
    places = re.findall(r"\S*over_years\.py:\d+", found)
    assert places and all("…" in place and len(place) <= 64 + 5 for place in places)


def told_in_a_terminal(
    *words: object, env: dict[str, str], rows: int = 24, typed: bytes = b""
) -> str:
    """What the program writes into a terminal of so many lines."""
    ours, theirs = pty.openpty()
    os.set_blocking(ours, False)
    import fcntl
    import struct
    import termios

    fcntl.ioctl(theirs, termios.TIOCSWINSZ, struct.pack("HHHH", rows, 100, 0, 0))
    plain = {
        name: value
        for name, value in os.environ.items()
        if name not in (*LINKING, "COLUMNS", "LINES", "PAGER", "LESS")
    }
    process = subprocess.Popen(
        [*ASKLESS, *map(str, words)],
        stdin=theirs,
        stdout=theirs,
        stderr=theirs,
        env={**plain, "TERM": "xterm-256color", **env},
    )
    os.close(theirs)
    if typed:
        os.write(ours, typed)
    seen = b""
    while process.poll() is None or select.select([ours], [], [], 0)[0]:
        if select.select([ours], [], [], 0.1)[0]:
            try:
                seen += os.read(ours, 65536)
            except OSError:  # the other side is gone
                break
    process.wait(60)
    os.close(ours)
    assert process.returncode == 0, seen.decode()
    return seen.decode()


def test_what_is_longer_than_the_screen_goes_through_the_pager(
    pages: dict[str, Path], tmp_path: Path
) -> None:
    pager = tmp_path / "pager"
    pager.write_text(
        f'#!/bin/sh\necho PAGED; cat > {tmp_path}/seen; echo "$LESS" > {tmp_path}/less\n'
    )
    pager.chmod(0o755)
    words = ("findings", pages["grown"])
    shown = told_in_a_terminal(*words, env={"PAGER": str(pager)})
    assert "PAGED" in shown and "GET /calls/due" not in shown
    assert (
        "GET /calls/due" in (tmp_path / "seen").read_text()
        and (tmp_path / "less").read_text() == "FRX\n"
    )
    for env, rows in (({"PAGER": str(pager)}, 500), ({"PAGER": ""}, 24), ({"PAGER": "cat"}, 24), ({"PAGER": "/nowhere/pager"}, 24),
                      ({"PAGER": str(pager), "TERM": "dumb"}, 24), ({"PAGER": "'"}, 24)):  # fmt: skip
        shown = told_in_a_terminal(*words, env=env, rows=rows)
        assert "GET /calls/due" in shown and "PAGED" not in shown, env
    assert "PAGED" not in told_in_a_terminal(*words, "--json", env={"PAGER": str(pager)})
    assert "PAGED" not in run(*words, env={"PAGER": str(pager)}).out


def test_a_pager_that_is_left_early(pages: dict[str, Path]) -> None:
    shown = told_in_a_terminal("findings", pages["grown"], env={"PAGER": "head -1"})
    assert shown.count("\n") == 1 and "Traceback" not in shown


def test_lines_of_code_are_links_where_the_terminal_follows_them(pages: dict[str, Path]) -> None:
    words = ("findings", pages["grown"], "--show", "1")
    link = re.compile(r"\x1b\]8;[^;]*;file://[^/]*(/[^#\x1b]+)#(\d+)\x1b\\")
    found = link.findall(told_in_a_terminal(*words, env={"PAGER": "", "VTE_VERSION": "7200"}))
    assert found and all(Path(path).is_file() and int(line) > 0 for path, line in found)
    for env in ({}, {"VTE_VERSION": "3400"}, {"TERM": "dumb", "VTE_VERSION": ""}):
        assert not link.search(told_in_a_terminal(*words, env={"PAGER": "", **env}))
    assert "\x1b" not in run(*words, env={"VTE_VERSION": "7200"}).out


@given(
    st.sampled_from(LINKING),
    st.text(st.characters(codec="ascii", exclude_characters="\0"), max_size=8),
)
def test_any_environment_is_read(name: str, value: str) -> None:
    with pytest.MonkeyPatch.context() as patched:
        patched.setenv(name, value)
        assert follows_links() in (True, False) and paging.pager() is not None


def test_nothing_is_told_twice_in_a_story(pages: dict[str, Path]) -> None:
    for finding in run("findings", pages["grown"], "--json").json["findings"]:
        story = run(
            "findings", pages["grown"], "--show", finding["key"], env={"COLUMNS": "200"}
        ).out
        told = [" ".join(line.split()) for line in story.splitlines() if len(line.split()) > 6]
        assert len(told) == len(set(told)), [line for line in told if told.count(line) > 1]


@pytest.mark.parametrize(
    "sql, shown",
    [
        ("SELECT v.id, v.name, (SELECT count(*) FROM port_call c WHERE c.v = v.id) AS n FROM vessel v", "SELECT … FROM vessel v"),
        ("SELECT ' from ( ' AS quoted, \" from \" AS twice, `a from b` AS thrice FROM tug", "SELECT … FROM tug"),
        ("SELECT id, name FROM vessel", "SELECT id, name FROM vessel"),
        ("SELECT extract(year FROM eta), count(*), min(eta), max(eta), sum(x) FROM port_call", "SELECT … FROM port_call"),
        ("UPDATE vessel SET name = 'a' WHERE id = 1", "UPDATE vessel SET name = 'a' WHERE id = 1"),
    ],
)  # fmt: skip
def test_a_long_list_of_columns_is_cut_out(sql: str, shown: str) -> None:
    assert brief(sql) == shown
