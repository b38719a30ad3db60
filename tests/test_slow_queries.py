"""The slower the queries, the more is found: a pause makes polling, a slow query does not."""

from __future__ import annotations

from pathlib import Path

import pytest

from askless.capture.writing import CaptureWriter
from askless.core.records.model import Wait
from askless.core.records.traffic import RequestBegan, RequestEnded
from tests.conftest import findings
from tests.test_traffic import Made

TARIFF = "SELECT id, rate FROM tariff WHERE class = $1"
COUNT = "SELECT count(*) FROM port_call WHERE status = $1"
S = 1_000_000_000


def patterns(request: Made, kind: str) -> list[str]:
    writer = CaptureWriter(request.path, "test", request.system)
    writer.request_began(RequestBegan(1, request.route, 0, kind))
    writer.queries(1, request.rows)
    if request.errands:
        writer.errands(1, request.errands)
    last = request.rows[-1]
    writer.request_ended(RequestEnded(1, last.start_ns + last.duration_ns + 1_000_000))
    writer.close()
    return [finding["pattern"] for finding in findings(request.path)]


def repeated(folder: Path, query_s: float, pause_s: float, times: int = 3) -> Made:
    made = Made(folder, "postgresql")
    for _ in range(times):
        gap_ms = (query_s + pause_s) * 1e3
        made.ask(TARIFF, "A", digest=7, gap_ms=gap_ms, duration_ns=int(query_s * S))
    return made


def counted(folder: Path, query_s: float) -> Made:
    made = Made(folder, "postgresql")
    for status in ("due", "in", "out", "gone"):
        gap_ms = query_s * 1e3 + 1
        made.ask(COUNT, status, gap_ms=gap_ms, duration_ns=int(query_s * S), columns=("count",))
    return made


@pytest.mark.parametrize("query_s", [0.001, 0.16, 0.6, 6.0])
@pytest.mark.parametrize("kind", ["http", "job", "program"])
def test_the_same_read_again_is_found_however_slow(
    tmp_path: Path, kind: str, query_s: float
) -> None:
    assert patterns(repeated(tmp_path, query_s, 0.001), kind) == ["duplicate"]


@pytest.mark.parametrize("query_s", [0.001, 0.16, 4.0])
def test_counts_for_each_constant_are_found_however_slow(tmp_path: Path, query_s: float) -> None:
    assert patterns(counted(tmp_path, query_s), "http") == ["sibling-filters"]


def test_polling_is_a_pause_of_a_program_or_a_sleep(tmp_path: Path) -> None:
    for number, kind in enumerate(("http", "job", "program", "marked")):
        (tmp_path / str(number)).mkdir()
        paused = repeated(tmp_path / str(number), 0.01, 0.8)
        expected = ["duplicate"] if kind in ("http", "job") else []
        assert patterns(paused, kind) == expected, f"a page that works in between: {kind}"
    sleeping = repeated(tmp_path, 0.01, 0.8)
    for row in sleeping.rows:
        end_ns = row.start_ns + row.duration_ns
        sleeping.errands.append(Wait("sleep", "", end_ns + 1_000, 700_000_000))
    assert patterns(sleeping, "http") == [], "it waits for something to change"
