"""Recording that stays on: requests omitted by chance or for being quick, queries beyond a number,
a size, a pause, a full disk.

What is kept is whole, what is omitted is counted, and both together are what the program asked.
"""

from __future__ import annotations

import os
import random
import sqlite3
import subprocess
import sys
import textwrap
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings, strategies as st

import askless
from askless.capture.reading import FileReport, read
from askless.capture.sampling import SamplingWriter
from askless.core.records.sampling import SamplingRules, total_of
from askless.core.records.traffic import QuerySeen, RequestBegan, RequestEnded
from askless.reports.loading import left_out_of
from tests import servers
from tests.conftest import Ran, refused, run

PAGES = """
    import os, sqlite3, sys
    from wsgiref.util import setup_testing_defaults
    import askless_probe.recorder as recorder, askless_probe.sampling as sampling
    import askless_probe.web.wsgi as wsgi
    db = sqlite3.connect(":memory:")
    db.execute("CREATE TABLE vessel (id INTEGER PRIMARY KEY, name TEXT)")
    db.executemany("INSERT INTO vessel VALUES (?, ?)", [(n, "Tern %d" % n) for n in range(40)])
    cursor = db.cursor()
    def application(environ, start_response):
        for key in range(int(environ["PATH_INFO"].rpartition("/")[2])):
            cursor.execute("SELECT name FROM vessel WHERE id = ?", (key % 40,))
            assert cursor.fetchone() is not None  # the rest stays unread
        start_response("200 OK", [])
        return []
    def visit(path, trace=""):
        environ = {"PATH_INFO": path}
        setup_testing_defaults(environ)
        if trace:
            environ["HTTP_TRACEPARENT"] = "00-%s-00f067aa0ba902b7-01" % trace
        list(wsgi.recorded(application)(environ, lambda status, headers: None))
"""


def ran(body: str, folder: Path, *words: object) -> Ran:
    script = folder.parent / f"{folder.name}.py"
    script.write_text(textwrap.dedent(PAGES) + textwrap.dedent(body))
    done = run("capture", "app", "-o", folder, *words, "--", sys.executable, script)
    assert done.code == 0, done.err
    return done


def pages(folder: Path) -> list[Any]:
    return [one for one in read(folder) if one.kind == "http"]


def total(folder: Path) -> Any:
    return run("requests", folder, "--json").json


def test_one_in_n_is_kept_by_its_trace_and_the_others_are_counted(tmp_path: Path) -> None:
    dice = random.Random(7)
    traces = [f"{dice.getrandbits(128):032x}" for _ in range(400)]
    (tmp_path / "traces").write_text("\n".join(traces))
    body = f"""
        for trace in open({str(tmp_path / "traces")!r}).read().split():
            visit("/calls/%d" % (int(trace[:2], 16) % 3 + 2), trace)
    """
    said = ran(body, tmp_path / "calls", "--sample", "1/8")
    kept = [trace for trace in traces if int(trace[-14:], 16) < (1 << 56) // 8]
    assert sorted(len(one) for one in pages(tmp_path / "calls")) == sorted(
        int(t[:2], 16) % 3 + 2 for t in kept
    )
    assert all(rows == 1 for one in pages(tmp_path / "calls") for rows in one.rows)
    document = total(tmp_path / "calls")
    assert document["total_requests"] == 400 + 1 and document["requests"] == len(kept) + 1
    asked = sum(int(trace[:2], 16) % 3 + 2 for trace in traces) + 2
    found = document["estimated_queries"]
    assert abs(found["value"] - asked) <= 1.5 * found["margin"] and 0 < found["margin"] < asked / 5
    assert f"1 of 8 requests was kept, by chance; {400 - len(kept)} others counted" in " ".join(
        said.err.split()
    )
    shown = run("requests", tmp_path / "calls").out
    assert f"401 requests; recorded {len(kept) + 1}" in shown and "±" in shown
    (finding,) = [
        f
        for f in run("findings", tmp_path / "calls", "--json").json["findings"]
        if f["pattern"] == "n-plus-one"
    ]
    assert finding["cost"]["total_ms"] > 4 * finding["cost"]["saving_ms"] * finding["requests"]


def test_without_a_trace_about_one_in_n_is_kept(tmp_path: Path) -> None:
    ran('for n in range(600): visit("/calls/2")', tmp_path / "calls", "--sample", "1/4")
    assert 90 <= len(pages(tmp_path / "calls")) <= 215, (
        "600 times one in four, give or take six standard deviations"
    )
    assert total(tmp_path / "calls")["total_requests"] == 601


def test_quick_requests_are_counted(tmp_path: Path) -> None:
    body = 'for n in range(30): visit("/calls/3")'
    ran(body, tmp_path / "all", "--min-duration", "1us")
    assert [len(one) for one in pages(tmp_path / "all")] == [3] * 30
    said = ran(body, tmp_path / "none", "--min-duration", "100s")
    assert pages(tmp_path / "none") == []
    document = total(tmp_path / "none")
    (row,) = [row for row in document["routes"] if row["kind"] == "http"]
    assert (row["total_requests"], row["estimated_queries"]["value"]) == (30, 90) and row[
        "estimated_database_ms"
    ]["value"] > 0
    assert "30 requests that took less than 100000 ms left out, with 90 queries" in " ".join(
        said.err.split()
    )


def test_queries_beyond_a_number_are_counted(tmp_path: Path) -> None:
    said = ran('for n in range(5): visit("/calls/30")', tmp_path / "calls", "--max-queries", "4")
    assert [(len(one), one.more) for one in pages(tmp_path / "calls")] == [(4, 26)] * 5
    assert all(one.more_ns > 0 for one in pages(tmp_path / "calls"))
    document = total(tmp_path / "calls")
    (row,) = [row for row in document["routes"] if row["kind"] == "http"]
    assert (
        row["queries"] == 30
        and row["dropped_queries"] == 26
        and row["estimated_queries"]["value"] == 150
    )
    assert "130 queries beyond that counted" in " ".join(said.err.split())


def test_a_capture_stays_within_its_size_and_says_what_went(tmp_path: Path) -> None:
    said = ran(
        'for n in range(9000): visit("/calls/%d" % (n % 4 + 1))',
        tmp_path / "calls",
        "--max-size",
        "1MiB",
    )
    files = sorted((tmp_path / "calls").glob("*.jsonl"))
    assert len(files) > 8 and sum(path.stat().st_size for path in files) <= 1024**2
    reports: list[FileReport] = []
    kept = [one for one in read(tmp_path / "calls", reports) if one.kind == "http"]
    dropped = max(report.dropped.requests for report in reports)
    assert dropped + len(kept) == 9000 + (dropped > 0), (
        "the program's own request, outside of all, was among them"
    )
    numbers = [len(one) for one in kept]
    assert numbers == [n % 4 + 1 for n in range(9000)][-len(kept) :], (
        "the newest are kept, each whole"
    )
    assert all(report.closed and not report.bad_lines for report in reports)
    assert "the capture is limited in size" in said.err and f"{dropped:,} requests" in " ".join(
        said.err.split()
    )
    assert " processes " not in said.err


def test_a_program_that_is_killed_after_many_files_loses_nothing(tmp_path: Path) -> None:
    """The ring that outlives it goes along from file to file, and is emptied; memory does not grow
    with their number.
    """
    script = tmp_path / "killed.py"
    body = """
        import resource
        for n in range(6000):
            visit("/calls/2")
            if n == 1000:
                before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before, flush=True)
        os.kill(os.getpid(), 9)
    """
    script.write_text(textwrap.dedent(PAGES) + textwrap.dedent(body))
    done = run(
        "capture",
        "app",
        "-o",
        tmp_path / "calls",
        "--max-size",
        "1MiB",
        "--",
        sys.executable,
        script,
    )
    assert done.code != 0 and int(done.out) < 4_000, "KiB: one ring is half of that"
    reports: list[FileReport] = []
    kept = [one for one in read(tmp_path / "calls", reports) if one.kind == "http"]
    assert {len(one) for one in kept} == {2} and len({one.name for one in kept}) == len(kept)
    dropped = max(report.dropped.requests for report in reports)
    assert dropped > 1000 and len(kept) + dropped == 6000 + 1
    assert not list((tmp_path / "calls").glob("*.tail"))


def test_a_request_that_goes_on_is_told_in_one_file(tmp_path: Path) -> None:
    """A file that is full waits for it, up to twice its size."""
    body = """
        for turn in range(40):
            visit("/calls/2")
            visit("/calls/600")
    """
    ran(body, tmp_path / "calls", "--max-size", "1MiB")
    assert len(list((tmp_path / "calls").glob("*.jsonl"))) > 5
    assert [len(one) for one in pages(tmp_path / "calls")][-20:] == [2, 600] * 10


def test_recording_pauses_by_a_file(tmp_path: Path) -> None:
    body = f"""
        sampling.LOOK_NS = recorder.spare.next_look = 0
        from subprocess import run
        def say(word):
            run([sys.executable, "-m", "askless", "capture", word, {str(tmp_path / "calls")!r}], check=True, env={{**os.environ, "ASKLESS_CAPTURE": ""}})
        for n in range(3): visit("/calls/2")
        say("pause")
        for n in range(4): visit("/calls/3")
        db.execute("SELECT 1 FROM vessel").fetchone()
        say("resume")
        for n in range(5): visit("/calls/4")
    """
    said = ran(body, tmp_path / "calls")
    assert [len(one) for one in pages(tmp_path / "calls")] == [2] * 3 + [4] * 5
    assert total(tmp_path / "calls")["total_requests"] == 3 + 4 + 5 + 1
    assert "4 requests came while recording was paused" in " ".join(said.err.split())
    refused(run("capture", "pause", tmp_path / "nowhere"), "is not a capture folder", "capture -o")


def test_a_full_disk_pauses_recording_until_there_is_room(tmp_path: Path) -> None:
    disk = tmp_path / "disk"
    disk.mkdir()
    mount = ["mount", "-t", "tmpfs", "-o", "size=4m", "tmpfs", str(disk)]
    if os.geteuid() or subprocess.run(mount, capture_output=True, check=False).returncode:
        pytest.skip("no right to mount here")
    try:
        body = f"""
            sampling.LOOK_NS = recorder.spare.next_look = 0
            visit("/calls/2")
            with open({str(disk / "filler")!r}, "wb", buffering=0) as filler:
                try:
                    while True:
                        filler.write(b"x" * 1024)
                except OSError:
                    pass
            for n in range(2000): visit("/calls/3")
            os.truncate({str(disk / "filler")!r}, 0)
            sampling.RETRY_NS = recorder.spare.full_until = 1
            for n in range(20): visit("/calls/4")
            print("served")
        """
        said = ran(body, disk / "calls")
        assert (
            said.out == "served\n"
            and said.err.count("the disk is full") >= 1
            and "recording stopped" not in said.err
        )
        sizes = [len(one) for one in pages(disk / "calls")]
        assert sizes[-20:] == [4] * 20 and sizes[0] == 2 and set(sizes[1:-20]) <= {3}
        assert all(not report.bad_lines and not report.torn for report in _reports(disk / "calls"))
    finally:
        subprocess.run(["umount", "-l", str(disk)], check=False)


def _reports(folder: Path) -> list[FileReport]:
    reports: list[FileReport] = []
    list(read(folder, reports))
    return reports


DRIVERS = """
    import sys
    sys.path.insert(0, "")
    import askless_probe.recorder as recorder
    import psycopg, pymysql
    postgresql = psycopg.connect(host="127.0.0.1", port=int(sys.argv[1]), user="harbour", dbname="postgres", autocommit=True)
    mariadb = pymysql.connect(host="127.0.0.1", port=int(sys.argv[2]), user="harbour", password="tide", database="harbour")
    cursors = [postgresql.cursor(), mariadb.cursor()]
    for turn in range(40):
        trace = "00-%032x-00f067aa0ba902b7-01" % (1 + (turn % 2 << 55))
        opened = recorder.begin("http", "GET /turn", trace=trace)
        for cursor in cursors:
            for rows in range(1, 4):
                cursor.execute("SELECT n FROM (SELECT 1 AS n UNION ALL SELECT 2 UNION ALL SELECT 3) t WHERE n <= %s", (rows,))
                assert cursor.fetchone() is not None
        recorder.end(*opened)
"""


def test_what_is_left_out_leaves_no_trace_in_what_is_kept(tmp_path: Path) -> None:
    """Cursors that are half read go from a request that is kept into one that is not, and back."""
    script = tmp_path / "turns.py"
    script.write_text(textwrap.dedent(DRIVERS))
    with servers.postgresql() as one, servers.mariadb() as other:
        done = run(
            "capture", "app", "-o", tmp_path / "calls", "--sample", "1/2", "--", sys.executable, script, one.port, other.port
        )  # fmt: skip
    assert done.code == 0, done.err
    kept = [request for request in read(tmp_path / "calls") if request.kind == "http"]
    assert len(kept) == 20
    for request in kept:
        own = [i for i in range(len(request)) if not request.statement(i).shape.noise]
        assert len(own) == 6
        assert [request.parameters[i] for i in own] == [(rows,) for rows in (1, 2, 3)] * 2
        assert [request.rows[i] for i in own] == [1, 2, 3] * 2


def test_totals_are_within_their_error_as_often_as_they_say() -> None:
    """A thousand samples of pages that ask 1 to 40 queries: the true total is within the error 19
    times of 20.
    """
    dice = random.Random(11)
    everything = [dice.choice((1, 2, 2, 3, 8, 40)) for _ in range(2_000)]
    hits = 0
    for _ in range(1_000):
        kept = [asked for asked in everything if dice.random() < 0.05]
        found = total_of(
            len(kept), len(everything) - len(kept), sum(kept), sum(asked * asked for asked in kept)
        )
        hits += abs(found.value - sum(everything)) <= found.margin
    assert 900 <= hits <= 980, hits


_PAGES = st.lists(
    st.tuples(
        st.lists(st.integers(0, 400), max_size=9), st.sampled_from(["GET /calls", "GET /berths"])
    ),
    max_size=25,
)


@settings(max_examples=60)
@given(
    told=_PAGES,
    sample=st.integers(1, 3),
    slower_ns=st.sampled_from([0, 100, 1_000]),
    at_most=st.sampled_from([0, 1, 4]),
    dice=st.randoms(use_true_random=False),
)
def test_a_sources_traffic_is_kept_whole_or_counted(
    told: list[tuple[list[int], str]], sample: int, slower_ns: int, at_most: int, dice: random.Random,
    tmp_path_factory: pytest.TempPathFactory,
) -> None:  # fmt: skip
    """Requests side by side, through a writer that omits what it may."""
    folder = tmp_path_factory.mktemp("kept")
    order = [
        number for number, (durations, _) in enumerate(told, 1) for _ in range(len(durations) + 1)
    ]
    dice.shuffle(order)  # side by side
    traces = [f"{dice.getrandbits(128):032x}" for _ in told]
    writer = SamplingWriter(
        folder / "x.askless.jsonl",
        "log",
        "postgresql",
        sparing=SamplingRules(sample, slower_ns, at_most),
    )
    with closing(writer):
        for number, ((_, route), trace) in enumerate(zip(told, traces, strict=True), 1):
            writer.request_began(RequestBegan(number, route, 0, trace=trace))
        left = {number: list(durations) for number, (durations, _) in enumerate(told, 1)}
        for number in order:
            at = sum(told[number - 1][0]) - sum(left[number])
            if left[number]:
                writer.queries(number, [QuerySeen(f"SELECT {number}", at, left[number].pop(0))])
            else:
                writer.request_ended(RequestEnded(number, at))
    reports: list[FileReport] = []
    kept = list(read(folder, reports))
    (report,) = reports
    assert len(kept) + report.left_out.requests == len(told)
    for request in kept:
        durations, route = told[request.number - 1]
        assert request.route == route and len(request) + request.more == len(durations)
        assert list(request.durations_ns) == durations[: len(request)] and request.more_ns == sum(
            durations[len(request) :]
        )
        assert len(request) == (min(at_most, len(durations)) if at_most else len(durations))
        assert sum(durations) >= slower_ns or not slower_ns
    if sample == 1:
        quick = [durations for durations, _ in told if slower_ns and sum(durations) < slower_ns]
        assert report.left_out.quick == len(quick) and report.left_out.quick_queries == sum(
            map(len, quick)
        )
        assert report.left_out.quick_ns == sum(map(sum, quick))
    assert bool(left_out_of(reports)) == bool(sample > 1 or slower_ns or report.more)


def test_totals_of_plans_and_of_growth_are_those_of_all_requests(tmp_path: Path) -> None:
    """One in four of 4,000 requests is kept; each asks twice, for a millisecond."""
    writer = SamplingWriter(tmp_path / "x.askless.jsonl", "log", "sqlite", sparing=SamplingRules(4))
    dice = random.Random(11)
    with closing(writer):
        for number in range(1, 4_001):
            start_ns = number * 10**9
            writer.request_began(
                RequestBegan(number, "GET /calls", start_ns, trace=f"{dice.getrandbits(128):032x}")
            )
            writer.queries(
                number,
                [
                    QuerySeen(
                        "SELECT name FROM vessel WHERE id = ?",
                        start_ns + k,
                        10**6,
                        rows=1,
                        parameters=(k,),
                    )
                    for k in (1, 2)
                ],
            )
            writer.request_ended(RequestEnded(number, start_ns + 10**7))
    with closing(sqlite3.connect(tmp_path / "harbour.db")) as base:
        base.execute("CREATE TABLE vessel (id INTEGER PRIMARY KEY, name TEXT)")
    ran = run(
        "plan", tmp_path / "x.askless.jsonl", "--db", f"sqlite:///{tmp_path}/harbour.db", "--json"
    )
    (planned,) = ran.json["statements"]
    assert planned["queries"] == pytest.approx(8_000, rel=0.01) and planned[
        "total_ms"
    ] == pytest.approx(8_000, rel=0.01)
    (row,) = run("growth", tmp_path / "x.askless.jsonl", "--over-time", "--json").json["shapes"]
    assert row["count"] == sum(row["counts"]) == pytest.approx(8_000, rel=0.15)
    assert row["total_ms"] == pytest.approx(row["count"])
    assert row["count"] % 4 == 0


def test_a_log_is_sampled_and_kept_within_a_size(tmp_path: Path) -> None:
    lines = [
        f"2026-11-28 {n // 3600:02}:{n // 60 % 60:02}:{n % 60:02}.{k:03} UTC [41] LOG:  duration: 0.4 ms  statement: "
        f"SELECT name FROM vessel WHERE id = {n + k}\n"
        for n in range(3_000)
        for k in range(1, 4)
    ]
    (tmp_path / "server.log").write_text("".join(lines))
    words = ("capture", "log", tmp_path / "server.log", "--prefix", "%m [%p] ", "-o")
    assert run(*words, tmp_path / "sampled", "--sample", "1/10").code == 0
    document = total(tmp_path / "sampled")
    assert document["total_requests"] == 3_000 and 150 <= document["requests"] <= 460
    assert document["estimated_queries"] == {"value": 9_000.0, "margin": 0.0}, (
        "all requests ask three"
    )
    assert run(*words, tmp_path / "kept", "--max-size", "1MiB").code == 0
    assert sum(path.stat().st_size for path in (tmp_path / "kept").glob("*.jsonl")) <= 1024**2
    rows = list(askless.read(tmp_path / "kept").requests)
    dropped = max(report.dropped.requests for report in _reports(tmp_path / "kept"))
    assert dropped > 0 and dropped + len(rows) == 3_000


@pytest.mark.parametrize(
    "words, said",
    [
        (("--sample", "50"), "--sample takes 1/N"),
        (("--sample", "1/0"), "--sample takes 1/N"),
        (("--min-duration", "200"), "a time with a unit"),
        (("--max-queries", "0"), "a whole number from 1"),
        (("--max-size", "lots"), "a size from 1MiB"),
        (("--max-size", "10KiB"), "a size from 1MiB"),
    ],
)
def test_wishes_that_make_no_sense(words: tuple[str, str], said: str, tmp_path: Path) -> None:
    refused(
        run("capture", "app", "-o", tmp_path / "c", *words, "--", sys.executable, "-c", ""),
        said,
        "as in" if "queries" not in words[0] else "omit it",
    )
    refused(run("capture", "log", "-o", tmp_path / "c", *words, tmp_path / "x.log"), said)
