"""One name for each request and each finding, the same everywhere; a number counts in the list that
was shown last.
"""

from __future__ import annotations

import json
import shutil
from collections.abc import Callable
from datetime import date, timedelta
from pathlib import Path
from typing import Any

import pytest

from askless.capture import events
from askless.capture.reading import read, tag_of, tags_of
from askless.project import last_list
from tests.conftest import findings, run

TWO_PROCESSES = """
import os, sqlite3, askless
pid = os.fork()
db = sqlite3.connect(":memory:")
db.execute("CREATE TABLE vessel (id INTEGER PRIMARY KEY, name TEXT)")
for page in range(3):
    with askless.request("page %d" % page):
        for n in range(4):
            db.execute("SELECT name FROM vessel WHERE id = ?", (n + page,)).fetchone()
if pid:
    os.waitpid(pid, 0)
"""


@pytest.fixture
def forked(record: Callable[..., Path]) -> Path:
    return record(TWO_PROCESSES)


def test_names_of_requests_are_unique_in_a_capture_of_several_processes(forked: Path) -> None:
    requests = list(read(forked))
    assert len({request.number for request in requests}) < len(requests), (
        "the recorders count alike"
    )
    names = [request.name for request in requests]
    assert len(set(names)) == len(names) and names == [request.name for request in read(forked)]
    listed = run("requests", forked, "--each", "--json").json["requests"]
    assert [row["name"] for row in listed] == names
    for row in listed:
        shown = run("timeline", forked, row["name"], "--json").json
        assert (shown["name"], shown["route"], shown["queries"]) == (
            row["name"],
            row["route"],
            row["queries"],
        )


def test_a_name_does_not_depend_on_the_file_that_it_stands_in(forked: Path, tmp_path: Path) -> None:
    names = {request.name for request in read(forked)}
    elsewhere = tmp_path / "moved"
    elsewhere.mkdir()
    for place, file in enumerate(sorted(forked.iterdir(), reverse=True)):
        shutil.copy(file, elsewhere / f"{place}.jsonl")
    assert {request.name for request in read(elsewhere)} == names
    (first, second) = sorted(elsewhere.iterdir())
    alone = {request.name for request in read(first)} | {request.name for request in read(second)}
    assert alone == names


def test_files_that_look_alike_are_told_apart(tmp_path: Path) -> None:
    header = events.Capture(events.FORMAT, 1, pid=5, started_unix_s=2.0)
    same = [tmp_path / f"{n}.jsonl" for n in range(3)]
    for file in same:
        file.write_text(
            '{"event":"capture","format":"askless capture","version":1,"pid":5,"started_unix_s":2.0}\n'
        )
    tags = tags_of(same)
    assert len(set(tags)) == 3 and all(tag.startswith(tag_of(header)) for tag in tags)
    assert tag_of(header).isalpha() and len(tag_of(header)) == 3


def test_a_number_counts_in_the_list_that_was_shown(pages: dict[str, Path], harbour: Path) -> None:
    capture = pages["grown"]
    everything = [f["key"] for f in findings(capture)]
    shown = run("findings", capture, "--route", "/berths").out
    (of_route,) = [[f["key"] for f in findings(capture, "--route", "/berths")]]
    assert of_route != everything[: len(of_route)] and all(key in shown for key in of_route)
    for place, key in enumerate(of_route, 1):
        assert key in run("findings", capture, "--show", place).out.splitlines()[0], (
            "in the list just shown"
        )
    tried = run("trial", capture, "--db", f"sqlite:///{harbour}", "--finding", "1", "--json")
    assert tried.json["finding"] == of_route[0], "trial means the same list"
    assert (
        findings(capture, "--pattern", "duplicate", "--show", "1")[0]["pattern"] == "duplicate"
    ), "filters make a list"
    run("findings", capture)
    assert everything[2] in run("findings", capture, "--show", "3").out.splitlines()[0]
    gone = run("findings", capture, "--show", "99")
    assert gone.code == 2 and f"no finding 99: {len(everything)} were listed" in gone.err
    assert findings(capture, "--show", everything[0])[0]["key"] == everything[0], (
        "a name is a name everywhere"
    )


def test_a_number_of_a_request_too(pages: dict[str, Path], harbour: Path) -> None:
    capture = pages["grown"]
    shown = run("requests", capture, "--each", "--route", "/berths")
    rows = run("requests", capture, "--each", "--route", "/berths", "--json").json["requests"]
    assert [line.split()[:2] for line in shown.out.splitlines() if "/berths" in line] == [
        [str(place), row["name"]] for place, row in enumerate(rows, 1)
    ]
    assert run("timeline", capture, "2", "--json").json["name"] == rows[1]["name"]
    planned = run("plan", capture, "--db", f"sqlite:///{harbour}", "--request", "2", "--json").json
    assert planned["statements"][0]["routes"] == ["GET /berths"]


def test_numbers_work_where_nothing_can_be_kept(
    pages: dict[str, Path], monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    (tmp_path / "file").write_text("")
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "file"))
    capture = pages["grown"]
    everything = [f["key"] for f in findings(capture)]
    assert run("findings", capture, "--route", "/berths").code == 0
    assert everything[0] in run("findings", capture, "--show", "1").out.splitlines()[0]
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    (tmp_path / "state" / "askless").mkdir(parents=True)
    (tmp_path / "state" / "askless" / "lists.json").write_text('{"broken": 5')
    assert everything[0] in run("findings", capture, "--show", "1").out.splitlines()[0]
    for number in range(last_list.CAPTURES_MOST + 5):
        last_list.remember(tmp_path / str(number), "finding", ["a"])
    # after its digest
    kept: dict[str, Any] = json.loads(
        (tmp_path / "state" / "askless" / "lists.json").read_bytes()[16:]
    )
    assert (
        len(kept) == last_list.CAPTURES_MOST and last_list.recall(tmp_path / "0", "finding") is None
    )


ACCEPTED = """
[[accepted]]
pattern = "n-plus-one"
route = "/berths"
reason = "there are 24 berths"
until = {until}
"""


def test_the_project_accepts_for_every_command(pages: dict[str, Path], tmp_path: Path) -> None:
    capture, today = pages["grown"], date.today()
    below = tmp_path / "src" / "office"
    below.mkdir(parents=True)
    words = ("findings", capture, "--route", "/berths", "--fail-on", "minor")
    assert run(*words, cwd=tmp_path).code == 1
    (tmp_path / "askless.toml").write_text(ACCEPTED.format(until=today))
    for folder in (tmp_path, below):
        assert run(*words, cwd=folder).code == 0, "the file counts below its folder too"
    shown = run("findings", capture, cwd=tmp_path)
    assert "1 finding accepted in askless.toml; use --accepted to show it." in shown.out
    with_it = run("findings", capture, "--accepted", cwd=tmp_path)
    assert (
        " accepted" in with_it.out
        and " accepted" not in run("findings", capture, cwd=tmp_path).out.rsplit("\n\n", 1)[0]
    )
    document = run("findings", capture, "--json", cwd=tmp_path).json
    assert len(document["accepted"]) == 1 and len(document["findings"]) == 7
    assert run("findings", capture, "--show", document["accepted"][0], cwd=tmp_path).code == 0
    compared = run("compare", pages["tuned"], capture, "--json", cwd=tmp_path).json
    assert len(compared["new"]) == 7 and compared["accepted"] == 1
    (tmp_path / "askless.toml").write_text(ACCEPTED.format(until=today - timedelta(1)))
    ended = run(*words, cwd=tmp_path)
    assert (
        ended.code == 1
        and "was accepted until" in ended.err
        and "it is reported again" in ended.err
    )
    (tmp_path / "askless.toml").write_text(
        "[[accepted]]\npattern = 'n-plus-on'\nreason = 'x'\nuntil = 2030-01-01"
    )
    assert run(*words, cwd=tmp_path).code == 2
