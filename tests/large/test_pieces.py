"""Large captures: in pieces, on processes, growing. Whatever the cut, each request is in one piece,
whole; whatever the number of workers, the answer is the same to the byte.
"""

from __future__ import annotations

import cProfile
import gc
import gzip
import json
import os
import pstats
import random
import signal
import subprocess
import threading
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings, strategies as st

from askless import executors
from askless.capture import partitions
from askless.capture.partitions import pieces_of, read_piece, together
from askless.capture.reading import FileReport, Reader, read
from askless.capture.writing import CaptureWriter
from askless.core.aggregation.summary import Summary
from askless.core.analysis.pipeline import summarise
from askless.core.records.model import LOOKED_MOST, CaptureTables, Request
from askless.core.records.traffic import QuerySeen, RequestBegan, RequestEnded
from askless.reports import findings, loading, requests
from tests.conftest import ASKLESS, refused, run

TEXTS = (
    "SELECT name FROM vessel WHERE id = ?",
    "SELECT id FROM port_call WHERE status = 'due' AND berth_id = %d",
    "COMMIT",
)


def written(
    path: Path, dice: random.Random, count: int, ended: float = 1.0, to_the_end: bool = False
) -> None:
    """A capture of requests side by side, some of which never end, unless it goes on `to_the_end`."""
    now = 0
    open_: list[list[int]] = []
    with closing(CaptureWriter(path, "python", "sqlite", clock_ns=dice.randrange(10**9))) as writer:
        for number in range(1, count + 1):
            writer.request_began(RequestBegan(number, f"GET /page/{number % 3}", now))
            open_.append([number, dice.randrange(6)])
            while open_ and dice.random() < 0.7:
                one = dice.choice(open_)
                now += 10
                if one[1] > 0:
                    one[1] -= 1
                    texts = [dice.choice(TEXTS) for _ in range(dice.randrange(1, 4))]
                    events = [
                        QuerySeen(
                            text % i if "%d" in text else text,
                            now + i,
                            5,
                            rows=1,
                            parameters=(i,) if "?" in text else (),
                        )
                        for i, text in enumerate(texts)
                    ]
                    writer.queries(one[0], events)
                    continue
                open_.remove(one)
                if dice.random() < ended:
                    writer.request_ended(RequestEnded(one[0], now))
        for number, _ in open_ if to_the_end else ():
            writer.request_ended(RequestEnded(number, now))


def seen(request: Request) -> tuple[Any, ...]:
    texts = [request.text(i) for i in range(len(request))]
    return (
        request.name,
        request.route,
        request.start_ns,
        request.end_ns,
        texts,
        list(request.starts_ns),
        list(request.parameters),
    )


def totals(summary: Summary) -> dict[str, Any]:
    return {
        route.route: (
            route.requests, route.repeated, route.elapsed_ns, route.shapes_asked, route.queries.median,
            {digest: (x.count, x.requests, x.rows, x.duration_ns, x.query_ns) for digest, x in sorted(route.shapes.items())},
        )
        for route in sorted(summary.routes.values(), key=lambda one: one.route)
    }  # fmt: skip


@settings(max_examples=60)
@given(
    dice=st.randoms(use_true_random=False), count=st.integers(1, 40), size=st.integers(200, 6_000), ended=st.booleans(),
    texts_most=st.sampled_from([1, 2, 50_000]),
)  # fmt: skip
def test_any_cut_gives_each_request_once_and_whole(
    dice: random.Random,
    count: int,
    size: int,
    ended: bool,
    texts_most: int,
    tmp_path_factory: pytest.TempPathFactory,
) -> None:
    """Also where the recorder releases its texts now and then."""
    folder = tmp_path_factory.mktemp("cut")
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr("askless.core.records.interning.TEXTS_MOST", texts_most)
        for number in range(dice.randrange(1, 4)):
            written(
                folder / f"{number}.askless.jsonl",
                random.Random(dice.getrandbits(32)),
                count,
                1.0 if ended else 0.7,
            )
    whole_reports: list[FileReport] = []
    whole = list(read(folder, whole_reports))
    reports: list[FileReport] = []
    cut = [list(read_piece(piece, reports)) for piece in pieces_of(folder, size)]
    assert sorted(map(seen, whole)) == sorted(seen(request) for piece in cut for request in piece)
    for one, other in zip(whole_reports, together(reports), strict=True):
        assert (one.path, one.lines, one.requests, one.queries, one.open_requests, one.closed, one.bad_lines) == (
            other.path, other.lines, other.requests, other.queries, other.open_requests, other.closed, other.bad_lines,
        )  # fmt: skip
    parts = [summarise(iter(piece)) for piece in cut]
    for order in (range(len(parts)), dice.sample(range(len(parts)), len(parts))):
        merged = summarise(iter(()))
        for place in order:
            merged.merge(summarise(iter(cut[place])))
        assert totals(merged) == totals(summarise(iter(whole)))


def document(path: Path, wish: executors.ExecutorOptions) -> bytes:
    """All that is reported of a capture, as bytes."""
    import msgspec

    with executors.wished(wish):
        summary, notes = loading.load(path)
    judged = findings.judged_from(summary, notes)
    return msgspec.json.encode(judged) + msgspec.json.encode(
        requests.document_of(path, summary, notes)
    )


def test_the_answer_is_the_same_whatever_the_number_of_workers(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    for number in range(3):
        written(tmp_path / f"{number}.askless.jsonl", random.Random(number), 300)
    with gzip.open(tmp_path / "3.askless.jsonl.gz", "wb") as packed:
        packed.write(
            (tmp_path / "0.askless.jsonl")
            .read_bytes()
            .replace(b'"clock_ns"', b'"pid":7,"clock_ns"')
        )
    monkeypatch.setattr(partitions, "PIECE_BYTES", 20_000)
    assert len(pieces_of(tmp_path)) > 6
    alone = document(tmp_path, executors.ExecutorOptions(1))
    assert b"n-plus-one" in alone or b"duplicate" in alone
    assert document(tmp_path, executors.ExecutorOptions(2)) == alone
    assert document(tmp_path, executors.ExecutorOptions(3)) == alone


def test_what_is_wrong_with_a_piece_is_said_as_ever(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    written(tmp_path / "0.askless.jsonl", random.Random(1), 300)
    whole = (tmp_path / "0.askless.jsonl").read_bytes()
    lines = whole.splitlines(keepends=True)
    torn = (
        b"".join([*lines[:200], b'{"event":"queries","request":\n', *lines[200:-3]])
        + lines[-2][:20]
    )
    (tmp_path / "0.askless.jsonl").write_bytes(torn)
    expected = loading.load(tmp_path)[1]
    assert any("line 201" in note for note in expected) and any("torn" in note for note in expected)
    monkeypatch.setattr(partitions, "PIECE_BYTES", 10_000)
    for workers in (1, 2):
        with executors.wished(executors.ExecutorOptions(workers)):
            assert loading.load(tmp_path)[1] == expected
    (tmp_path / "1.askless.jsonl").write_text("no capture\n")
    for workers in ("1", "2"):
        refused(run("requests", tmp_path, "--workers", workers), "is not an Ask Less capture")
    refused(run("findings", tmp_path, "--workers", "0"), "--workers takes a whole number from 1")


def test_a_file_that_goes_while_the_capture_is_read(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Rotation removes the oldest: an answer without it is not passed off as the whole."""
    for number in range(3):
        written(tmp_path / f"{number}.askless.jsonl", random.Random(number), 30)
    plain = partitions._size
    monkeypatch.setattr(
        partitions,
        "_size",
        lambda file: plain(file) if "1." not in file.name else plain(file.with_name("gone")),
    )
    refused(run("requests", tmp_path), "can't read", "gone", "--max-size deletes the oldest files")
    monkeypatch.undo()
    found = partitions.pieces_of
    monkeypatch.setattr(
        loading, "pieces_of", lambda path: (found(path), (path / "1.askless.jsonl").unlink())[0]
    )
    refused(run("requests", tmp_path), "can't read", "--max-size deletes the oldest files")


def test_a_request_with_very_many_queries_is_added_up(tmp_path: Path) -> None:
    path = tmp_path / "giant.jsonl"
    with closing(CaptureWriter(path, "python", "sqlite")) as writer:
        writer.request_began(RequestBegan(1, "job import", 0))
        for start in range(0, LOOKED_MOST + 20_000, 100):
            writer.queries(
                1,
                [
                    QuerySeen(TEXTS[0], n, 7, rows=2, bytes=3, parameters=(n,))
                    for n in range(start, start + 100)
                ],
            )
        writer.request_ended(RequestEnded(1, 10**6))
    (request,) = list(read(path))
    assert (
        len(request) == LOOKED_MOST and sum(one.count for one in request.beyond.values()) == 20_000
    )
    (row,) = run("requests", path, "--json").json["routes"]
    assert (row["queries"], row["rows"], row["bytes"]) == (70_000, 140_000, 210_000)
    # A query of 7 ns each nanosecond: they run for as long as the request takes.
    assert row["database_ms"] == pytest.approx(70_000 / 1e6, rel=1e-3)
    told = run("findings", path)
    assert (
        "first 50,000 queries of a request" in " ".join(told.err.split())
        and "70,000 queries per request" in told.out
    )


def test_many_shapes_are_judged_in_proportion(tmp_path: Path) -> None:
    """Twice the shapes are asked twice as much of: calls are counted, no time is taken."""

    def calls(shapes: int) -> int:
        path = tmp_path / f"{shapes}.jsonl"
        with closing(CaptureWriter(path, "python", "sqlite")) as writer:
            for number in range(1, shapes // 20 + 1):
                writer.request_began(RequestBegan(number, "GET /all", number * 10**6))
                events = [
                    QuerySeen(
                        f"SELECT c{number * 20 + n}_{shapes} FROM vessel WHERE id = ?",
                        number * 10**6 + 4 * n + k,
                        5,
                        rows=1,
                        parameters=(k,),
                        digest=k + 1,
                    )
                    for n in range(20)
                    for k in range(3)
                ]
                writer.queries(number, events)
                writer.request_ended(RequestEnded(number, number * 10**6 + 10**5))
        summary = summarise(read(path))
        profile = cProfile.Profile()
        found = profile.runcall(findings.judged_from, summary).findings
        assert len(found) == shapes
        return int(pstats.Stats(profile).total_calls)  # type: ignore[attr-defined]

    calls(20)  # imports
    assert calls(400) < 2.3 * calls(200)


def test_shapes_that_never_come_again_are_bounded(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("askless.core.aggregation.aggregator.SHAPES_MOST", 40)
    monkeypatch.setattr("askless.core.records.interning.TEXTS_MOST", 30)
    path = tmp_path / "churn.jsonl"
    with closing(CaptureWriter(path, "python", "sqlite")) as writer:
        for number in range(1, 101):
            writer.request_began(RequestBegan(number, "GET /all", number * 1000))
            events = [
                QuerySeen(
                    f"SELECT a AS name_{number}_{n} FROM vessel", number * 1000 + n, 7, rows=1
                )
                for n in range(3)
            ]
            events += [
                QuerySeen(
                    TEXTS[0], number * 1000 + 10 + n, 7, rows=1, parameters=(n,), digest=n + 1
                )
                for n in range(3)
            ]
            writer.queries(number, events)
            writer.request_ended(RequestEnded(number, number * 1000 + 100))
    assert [len(one) for one in read(path)] == [6] * 100
    summary = summarise(read(path))
    (route,) = summary.routes.values()
    assert len(route.shapes) == 41 and sum(stats.count for stats in route.shapes.values()) == 600
    assert route.repeated == 200, "those beyond the most are none of each other's repeats"
    (found,) = [
        one for one in findings.judged_from(summary).findings if one.pattern == "n-plus-one"
    ]
    assert found.tables == ("vessel",) and found.requests == 100
    ran = run("requests", path, "--json")
    (row,) = ran.json["routes"]
    assert row["queries"] == 6 and row["rows"] == 6
    reader = Reader(path)
    assert sum(1 for _ in reader) == 100
    assert len(reader.assembly.tables.statements) <= 2 * 31, (
        "texts that do not come again are let go"
    )


def test_tables_that_nothing_refers_to_any_more_are_let_go(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Also by routes that are seldom asked."""
    monkeypatch.setattr("askless.core.records.interning.TEXTS_MOST", 4)
    path = tmp_path / "churn.jsonl"
    with closing(CaptureWriter(path, "python", "sqlite")) as writer:
        for number in range(1, 101):
            writer.request_began(RequestBegan(number, f"GET /once/{number}", number * 1000))
            texts = [f"SELECT a AS name_{number}_{n} FROM vessel" for n in range(3)]
            writer.queries(
                number, [QuerySeen(text, number * 1000 + n, 7) for n, text in enumerate(texts)]
            )
            writer.request_ended(RequestEnded(number, number * 1000 + 100))

    def living() -> list[object]:
        return [one for one in gc.get_objects() if type(one) is CaptureTables]

    # Those of other tests are held here, so that none of them goes away while we count.
    before = living()
    alive = []

    def watched() -> Iterator[Request]:
        for request in read(path):
            yield request
            alive.append(len(living()) - len(before))

    assert len(summarise(watched()).routes) == 100
    assert 1 <= max(alive) <= 3


def test_totals_over_all_routes_are_bounded_and_patterns_pass_over_the_rest(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Routes with values in their names, say. What came first is distinguished, all is counted, and
    a note says so.
    """
    path = tmp_path / "routes.jsonl"
    with closing(CaptureWriter(path, "python", "sqlite")) as writer:
        for number in range(1, 41):
            writer.request_began(RequestBegan(number, f"GET /page/{number % 20}", number * 10**6))
            events = [
                QuerySeen(f"SELECT a, {kind}_{number % 20} FROM vessel WHERE id = ?", number * 10**6 + 9 * n + k, 7, rows=1,
                          parameters=(n,), digest=n + 1, in_transaction=True, error="no such column: a" if kind == "wrong" else "")
                for k, kind in enumerate(("loop", "wrong"))
                for n in range(4)
            ]  # fmt: skip
            writer.queries(number, sorted(events, key=lambda one: one.start_ns))
            writer.request_ended(RequestEnded(number, (number + 1) * 10**6 + 10**8))
    everything = findings.judged_from(loading.load(path)[0])
    monkeypatch.setattr("askless.core.aggregation.aggregator.TOTALS_MOST", 8)
    monkeypatch.setattr("askless.core.aggregation.summary.TOTALS_MOST", 8)
    for size in (10**9, 3_000):
        monkeypatch.setattr(partitions, "PIECE_BYTES", size)
        summary, notes = loading.load(path)
        assert (
            sum(stats.count for route in summary.routes.values() for stats in route.shapes.values())
            == 320
        )
        assert (
            sum(stats.count for route in summary.routes.values() for stats in route.own_shapes())
            == 320
        )
        assert summary.lumped > 200 and any("added up together" in note for note in notes)
        found = findings.judged_from(summary).findings
        assert 0 < len(found) < len(everything.findings)
        assert {one.key for one in found} <= {one.key for one in everything.findings}


def test_a_recorder_that_lets_go_of_texts_says_so(tmp_path: Path) -> None:
    """Ten thousand texts that never come again, and one that does."""
    program = tmp_path / "churn.py"
    program.write_text(
        "import sqlite3\n"
        "base = sqlite3.connect(':memory:')\n"
        "for n in range(10_200):\n"
        "    base.execute('SELECT 1 AS c%d' % n).fetchall()\n"
        "    if n % 500 == 0: base.execute('SELECT ? AS again', [n]).fetchall()\n"
    )
    assert run("capture", "app", "-o", tmp_path / "calls", "--", "python", program).code == 0
    (path,) = (tmp_path / "calls").glob("*.jsonl")
    lines = path.read_bytes().splitlines()
    forgotten = [
        json.loads(line)["before"]
        for line in lines
        if line.startswith(b'{"event": "forget"') or line.startswith(b'{"event":"forget"')
    ]
    assert forgotten
    reader = Reader(path)
    (request,) = list(reader)
    texts = [request.text(i) for i in range(len(request))] if not request.beyond else []
    assert [text for text in texts if "again" not in text] == [
        f"SELECT 1 AS c{n}" for n in range(10_200)
    ]
    assert [request.parameters[i] for i, text in enumerate(texts) if "again" in text] == [
        (n,) for n in range(0, 10_200, 500)
    ]
    assert min(reader.assembly.tables.statements) < forgotten[0], (
        "an open request keeps what it asked"
    )


def grown(folder: Path, number: int) -> None:
    written(folder / f"{number}.askless.jsonl", random.Random(number), 60, to_the_end=True)


@pytest.mark.parametrize("command", ["findings", "requests"])
def test_following_reads_what_is_new(command: str, tmp_path: Path) -> None:
    folder = tmp_path / "calls"
    folder.mkdir()
    grown(folder, 1)
    process = subprocess.Popen(
        [*ASKLESS, command, folder, "--follow", "--json"], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
        env={**os.environ, "XDG_CACHE_HOME": str(tmp_path / "cache")},
    )  # fmt: skip
    assert process.stdout is not None
    killer = threading.Timer(120, process.kill)
    killer.start()
    try:
        counts = [json.loads(process.stdout.readline())["requests"]]
        while counts[-1] < 120:
            if len(counts) == 1:
                grown(folder, 2)
            counts.append(json.loads(process.stdout.readline())["requests"])
        process.send_signal(signal.SIGINT)
        _, err = process.communicate(timeout=60)
    finally:
        killer.cancel()
        process.kill()
    assert process.returncode == 0 and "Traceback" not in err
    assert counts[0] == 60 and counts[-1] == 120


def test_following_takes_no_options_that_need_an_end(tmp_path: Path) -> None:
    grown(tmp_path, 1)
    refused(
        run("findings", tmp_path, "--follow", "--show", "1"),
        "--follow can't be combined with --show",
    )
    refused(
        run("requests", tmp_path, "--follow", "--each"), "--follow can't be combined with --each"
    )
    refused(run("requests", tmp_path / "none", "--follow"), "there is no capture")


def test_structures_are_kept_between_runs_without_values(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from askless.core.sql.structure_store import structure_of
    from askless.project.structure_cache import cached_structures

    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    text = "SELECT v.name FROM vessel v JOIN port_call c ON c.vessel_id = v.id WHERE c.agent = 'Tern & Sons' AND v.id = ? LIMIT 3"
    structure_of.cache_clear()
    with cached_structures(), cached_structures():
        first = structure_of(text, "sqlite")
    (kept,) = (tmp_path / "askless").glob("parsed*")
    assert b"port_call" in kept.read_bytes() and b"Tern & Sons" not in kept.read_bytes()
    assert kept.stat().st_mode & 0o077 == 0
    structure_of.cache_clear()
    with monkeypatch.context() as patch, cached_structures():
        patch.setattr(
            "askless.core.sql.structure_reader.read", lambda *_: pytest.fail("parsed again")
        )
        assert structure_of(text, "sqlite") == first
    kept.write_bytes(b"something else")
    structure_of.cache_clear()
    with cached_structures():
        assert structure_of(text, "sqlite") == first


def test_what_is_judged_here_is_parsed_once_whoever_added_it_up(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from askless.core.sql.structure_store import structure_of

    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    monkeypatch.setattr(partitions, "PIECE_BYTES", 20_000)
    written(tmp_path / "x.askless.jsonl", random.Random(5), 300)
    assert len(pieces_of(tmp_path)) > 1

    def judged() -> list[str]:
        structure_of.cache_clear()
        with executors.wished(executors.ExecutorOptions(2)):
            summary = loading.load(tmp_path)[0]
        return [one.key for one in findings.judged_from(summary).findings]

    first = judged()
    monkeypatch.setattr(
        "askless.core.sql.structure_reader.read", lambda *_: pytest.fail("parsed again")
    )
    assert first and judged() == first
