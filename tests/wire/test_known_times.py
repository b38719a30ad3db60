"""Marks and access logs: what they say ran when, and what they can't say."""

from __future__ import annotations

import json
import sys
from datetime import UTC, datetime
from pathlib import Path

import pytest
from hypothesis import given, strategies as st

from askless.capture.reading import read
from askless.core.errors import AskLessError
from askless.core.records.model import Request
from askless.core.records.request_builder import LiveRequestBuilder
from askless.core.records.traffic import QuerySeen, RequestBegan, RequestEnded
from askless.sources.attribution.boundaries import Window
from askless.sources.attribution.request_facts import UNCLAIMED, RequestAttribution
from askless.sources.attribution.time_windows import (
    Entry,
    MarkedWindows,
    NamedWindow,
    entries,
    marks,
    seconds_of,
)
from askless.sources.wire import CompletedQuery
from tests.conftest import program
from tests.servers import Server

S = 1_000_000_000


def clock(at_s: float) -> int:
    return int((at_s - 1_795_790_000) * 1e9)


AT = "2026-11-27T15:43:20.250Z"
AT_S = datetime(2026, 11, 27, 15, 43, 20, 250_000, UTC).timestamp()


@pytest.mark.parametrize(
    "line, route, status, around_s",
    [
        ('127.0.0.1 - tide [27/Nov/2026:15:43:20 +0000] "GET /calls/17?x=1 HTTP/1.1" 200 512 "-" "harbour/1.0" 0.250', "GET /calls/{id}", 200, (-0.35, 1.35)),
        ('::1 - - [27/Nov/2026:16:43:20 +0100] "POST /due HTTP/1.0" 404 -', "POST /due", 404, (-0.1, 1.1)),
        (f'{{"time": "{AT}", "method": "GET", "path": "/berths", "status": 200, "duration_ms": 40}}', "GET /berths", 200, (-0.14, 0.14)),
        (f'{{"ts": {AT_S}, "request": "PUT /berths/3 HTTP/1.1"}}', "PUT /berths/{id}", 0, (-0.1, 0.1)),
    ],
)  # fmt: skip
def test_entries_of_a_log(
    line: str, route: str, status: int, around_s: tuple[float, float], tmp_path: Path
) -> None:
    (tmp_path / "log").write_text(line + "\n\n")
    (entry,) = entries(tmp_path / "log", clock)
    at_s = AT_S if line[0] == "{" else AT_S - 0.25
    assert (entry.route, entry.status) == (route, status)
    assert entry.start_ns == pytest.approx(clock(at_s + around_s[0]), abs=2000)
    assert entry.end_ns == pytest.approx(clock(at_s + around_s[1]), abs=2000)


def test_moments_in_many_forms() -> None:
    for form in (
        AT,
        AT.replace("T", " ").replace("Z", "+00:00"),
        AT_S,
        AT_S * 1e3,
        str(AT_S),
        "2026-11-27T16:43:20.250+01:00",
    ):
        assert seconds_of(form) == pytest.approx(AT_S, abs=1e-3), form


@pytest.mark.parametrize(
    "lines, said",
    [
        (['{"name": "a", "start": 1}'], "line 1 is not a valid mark: no 'end' in it"),
        (['{"name": "a", "start": 1, "end": 2}', "nothing"], "line 2 is not a valid mark"),
        (['{"name": "a", "start": 5, "end": 2}'], "it ends before it begins"),
        (['{"name": "a", "start": 1, "end": 3}', "", '{"name": "b", "start": 2, "end": 4}'], r"the marks of lines 1 \(a\) and 3 \(b\) overlap"),
    ],
)  # fmt: skip
def test_marks_that_make_no_sense(lines: list[str], said: str, tmp_path: Path) -> None:
    (tmp_path / "marks").write_text("\n".join(lines))
    with pytest.raises(AskLessError, match=said):
        marks(tmp_path / "marks", clock)
    with pytest.raises(AskLessError, match="can't read"):
        marks(tmp_path / "nowhere", clock)


@given(
    st.lists(st.tuples(st.floats(0, 50), st.floats(0.01, 3), st.integers(1, 3)), max_size=40),
    st.lists(st.floats(0.1, 4), max_size=8),
)
def test_marks_take_what_began_in_them(
    tmp_path_factory: pytest.TempPathFactory,
    asked: list[tuple[float, float, int]],
    lengths: list[float],
) -> None:
    windows, at_s = [], 1.0
    for turn, length_s in enumerate(lengths):
        windows.append(Window(f"mark {turn}", int(at_s * S), int((at_s + length_s) * S)))
        at_s += length_s + 1
    live: list[Request] = []
    marked = MarkedWindows(
        RequestAttribution(LiveRequestBuilder("sqlite", live.append)),
        tmp_path_factory.getbasetemp(),
    )
    for place, (start_s, taken_s, number) in sorted(
        enumerate(asked), key=lambda one: one[1][0] + one[1][1]
    ):
        marked.seen(
            number,
            CompletedQuery(
                QuerySeen(
                    f"SELECT {place} AS x", int(start_s * S), int(taken_s * S), connection=number
                ),
                "",
                False,
            ),
        )
    marked.close(windows)
    where = {request.text(i): request.route for request in live for i in range(len(request))}
    assert len(where) == len(asked)
    for place, (start_s, _, _) in enumerate(asked):
        inside = [w.route for w in windows if w.start_ns <= int(start_s * S) <= w.end_ns]
        assert where[f"SELECT {place} AS x"] == (inside[0] if inside else UNCLAIMED)


def test_a_log_names_what_it_alone_fits() -> None:
    live: list[Request] = []
    named = NamedWindow(LiveRequestBuilder("sqlite", live.append))
    for number, (start, end) in enumerate([(10, 12), (20, 21), (20, 22), (40, 41), (60, 61)]):
        named.request_began(RequestBegan(number, UNCLAIMED, start))
        named.queries(number, [QuerySeen("SELECT 1", start, 1)])
        named.request_ended(RequestEnded(number, end, "berth, tug"))
    assert not live
    found = [
        Entry("GET /one", 9, 13, 200),
        Entry("GET /two", 19, 23, 200),
        Entry("GET /b", 39, 42, 0),
        Entry("GET /c", 40, 45, 0),
    ]
    assert named.settle(found) == 1
    assert [request.route for request in live] == [
        "GET /one",
        "berth, tug",
        "berth, tug",
        "berth, tug",
        "berth, tug",
    ]


MARKING = """
import json, os, sys, time, psycopg
ask = psycopg.connect(f"host={os.environ['PGHOST']} port={os.environ['PGPORT']} user=harbour dbname=postgres", autocommit=True).execute
with open(sys.argv[1], "w") as marks:
    for name in ("tide table", "berth board", "tide table"):
        start = time.time()
        for number in range(4):
            ask("SELECT %s + 0", (number,))
        marks.write(json.dumps({"name": name, "start": start, "end": time.time()}) + "\\n")
        ask("SELECT 'between'")
"""


def test_a_script_marks_what_it_does(postgresql: Server, tmp_path: Path) -> None:
    script, marked = tmp_path / "work.py", tmp_path / "marks.jsonl"
    script.write_text(MARKING)
    to = [
        "--to",
        f"postgresql://127.0.0.1:{postgresql.port}",
        "--marks",
        marked,
        "--",
        sys.executable,
        script,
        marked,
    ]
    ran = program("capture", "relay", "-o", tmp_path / "calls", *to)
    assert ran.code == 0, ran.err
    found = [
        (request.route, len([1 for i in range(len(request)) if "+ 0" in request.text(i)]))
        for request in read(tmp_path / "calls")
    ]
    assert [one for one in found if one[0] != UNCLAIMED] == [
        ("tide table", 4),
        ("berth board", 4),
        ("tide table", 4),
    ]
    # What can't be read is said, and what was recorded is kept.
    script.write_text(MARKING.replace('"end": time.time()', '"end": 0'))
    to[3] = tmp_path / "other.jsonl"
    ran = program(
        "capture", "relay", "-o", tmp_path / "kept", *to[:3], tmp_path / "marks.jsonl", *to[4:]
    )
    assert ran.code == 0 and "line 1 is not a valid mark: it ends before it begins" in " ".join(
        ran.err.split()
    ), ran.err
    assert sum(len(request) for request in read(tmp_path / "kept")) >= 15
    ran = program("capture", "relay", "--to", "postgresql://h", "--marks", "a", "--access-log", "b")
    assert ran.code == 2 and "use one of them" in ran.err


def test_a_log_of_a_web_server_names_requests(postgresql: Server, tmp_path: Path) -> None:
    log = tmp_path / "access.log"
    script = tmp_path / "work.py"
    script.write_text(
        MARKING.replace('"tide table")', '"tide table")[:1]').replace(
            'json.dumps({"name": name, "start": start, "end": time.time()})',
            'json.dumps({"time": time.time(), "method": "GET", "path": "/tides/7", "status": 200, "duration_s": time.time() - start})',
        )
    )
    ran = program(
        "capture", "relay", "-o", tmp_path / "calls", "--to", f"postgresql://127.0.0.1:{postgresql.port}",
        "--access-log", log, "--request-by", "pause=2000", "--", sys.executable, script, log,
    )  # fmt: skip
    assert ran.code == 0 and json.loads(log.read_text())["path"] == "/tides/7", ran.err
    assert [(request.route, request.status) for request in read(tmp_path / "calls")] == [
        ("GET /tides/{id}", 200)
    ]
    assert "the access log names 1 request" in " ".join(ran.err.split())
