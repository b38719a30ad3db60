"""Numbers that reports are made of, each against one worked out here: mistakes in them change no
test's words.
"""

from __future__ import annotations

import itertools
import statistics
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest

from askless.capture.reading import read
from askless.capture.sampling import SamplingWriter
from askless.core.analysis.pipeline import summarise
from askless.core.patterns.base import around
from askless.core.records.sampling import SamplingRules, total_of
from askless.core.records.traffic import QuerySeen, RequestBegan, RequestEnded
from askless.database import timing
from askless.database.connecting import parse_url, shown
from tests.conftest import recorder_on_path
from tests.test_traffic import Made, written
from tests.wire.test_requesting import requests_of


def test_the_work_around_queries_is_the_lower_quartile_of_the_pauses() -> None:
    """A page does other things between some of them."""
    starts, pauses = [0], [10, 20, 30, 40, 50, 60, 70, 8000]
    for pause in pauses:
        starts.append(starts[-1] + 5 + pause)
    request: Any = SimpleNamespace(
        starts_ns=starts, durations_ns=[5] * len(starts), usual_gap_ns=30
    )
    assert around(request, range(len(starts))) == 30 and statistics.median(pauses) != 30
    assert around(request, [0]) == 0
    assert around(request, [8]) == 30, "no more than around the others"


@pytest.mark.parametrize("sampled_out", [1, 10, 1000])
def test_a_total_of_nearly_all_requests_is_nearly_exact(sampled_out: int) -> None:
    """Cochran 1977, (2.13): sampling without replacement has the factor 1 - n/N."""
    queries = [3, 5, 5, 8, 13, 2, 9, 4, 6, 5]
    total = total_of(len(queries), sampled_out, sum(queries), sum(one * one for one in queries))
    everything = len(queries) + sampled_out
    error = (
        everything
        * statistics.stdev(queries)
        / len(queries) ** 0.5
        * (1 - len(queries) / everything) ** 0.5
    )
    assert total.value == pytest.approx(statistics.mean(queries) * everything)
    assert total.margin == pytest.approx(1.96 * error)


def test_a_route_adds_up_squares_and_dropped_queries(tmp_path: Path) -> None:
    writer = SamplingWriter(
        tmp_path / "c.jsonl", "test", "postgresql", sparing=SamplingRules(sample=2, at_most=2)
    )
    for number, count in enumerate((1, 2, 6), 1):
        # A trace whose number is small is never sampled out.
        writer.request_began(
            RequestBegan(number, "GET /calls", 0, trace="0af7651916cd43dd84" + "1".zfill(14))
        )
        rows = [
            QuerySeen("SELECT id FROM berth", turn * 1000, 500 + turn, 1, 8, turn + 1)
            for turn in range(count)
        ]
        writer.queries(number, rows)
        writer.request_ended(RequestEnded(number, 10_000))
    writer.close()
    counts = [len(one) + one.more for one in read(tmp_path / "c.jsonl") if not one.warm_up]
    route = summarise(read(tmp_path / "c.jsonl")).routes["GET /calls"]
    assert counts == [1, 2, 6]
    spent = [sum(500 + turn for turn in range(count)) for count in counts]
    assert (route.total_queries, route.total_queries_squared) == (
        sum(counts),
        sum(count * count for count in counts),
    )
    assert (route.spent_ns, route.spent_squares) == (sum(spent), sum(one * one for one in spent))
    assert (route.more, route.more_ns) == (4, sum(500 + turn for turn in range(2, 6)))


def test_requests_that_warm_up_are_never_sampled_out(tmp_path: Path) -> None:
    writer = SamplingWriter(
        tmp_path / "c.jsonl", "test", "postgresql", sparing=SamplingRules(sample=10**9)
    )
    for number in range(1, 101):
        writer.request_began(RequestBegan(number, "GET /calls", 0, warm_up=number <= 50))
        writer.request_ended(RequestEnded(number, 10_000))
    writer.close()
    assert [one.warm_up for one in read(tmp_path / "c.jsonl")] == [True] * 50
    with recorder_on_path():
        from askless_probe import sampling  # type: ignore[import-not-found]

        sampler = sampling.configured(str(tmp_path), {"ASKLESS_SAMPLE": str(10**9)})
        requests = [SimpleNamespace(kind="http", warm_up=warm_up) for warm_up in (True, False)]
        assert [sampler.is_left_out(one, "") for one in requests] == [False, True]


@pytest.mark.parametrize(("long_lived", "way"), [(0, "connections"), (1, "pauses"), (2, "pauses")])
def test_connections_are_requests_only_if_all_are_short(long_lived: int, way: str) -> None:
    asked = []
    for number in range(1, 6):
        first_ms, pause_ms = (
            (100.0 * number, 12_000.0) if number <= long_lived else (20_000 + 100.0 * number, 80.0)
        )
        asked += [
            (number, "SELECT id FROM berth", first_ms, False),
            (number, "SELECT id FROM tug", first_ms + pause_ms, False),
        ]
    _, notes = requests_of(sorted(asked, key=lambda one: one[2]), closed=True)
    assert [f"by {way}" in note for note in notes] == [True], notes


def test_the_sides_of_a_trial_take_turns() -> None:
    """Who goes first changes, so that a drift of the machine hits both alike."""
    calls: list[str] = []
    times = timing.interleaved(
        [lambda: calls.append("before"), lambda: calls.append("after")], budget_s=0, least=4
    )
    rounds = [tuple(calls[i : i + 2]) for i in range(0, len(calls), 2)]
    assert set(rounds) == {("before", "after"), ("after", "before")}
    assert all(one != other for one, other in itertools.pairwise(rounds)), rounds
    assert [len(side) for side in times] == [len(rounds) - timing.WARM_UPS] * 2


def test_no_part_of_a_url_shows_a_password() -> None:
    for url in (
        "postgresql://harbour:tide@db/office",
        "postgresql://harbour@db/office?password=tide&sslpassword=tide",
    ):
        assert "tide" not in shown(parse_url(url)) and "office" in shown(parse_url(url))


@pytest.mark.parametrize(("known", "claimed"), [(10, True), (8, False), (6, False)])
def test_rows_count_as_loaded_if_nearly_all_of_them_were(
    known: int, claimed: bool, tmp_path: Path
) -> None:
    """Of ten rows looked up, as many as that were in an earlier result of the same table."""
    made = Made(tmp_path, "postgresql")
    rows = tuple((key, f"Tern {key}") for key in range(100, 100 + known)) + tuple(
        (key, "Skua") for key in range(10 - known)
    )
    made.ask("SELECT id, name FROM vessel", rows=10, columns=("id", "name"), sample=rows)
    for key in range(100, 110):
        made.ask(
            "SELECT id, name FROM vessel WHERE id = $1",
            key,
            columns=("id", "name"),
            sample=((key, f"Tern {key}"),),
        )
    found = {one.finding.pattern for one in _diagnoses(written([made]))}
    assert ("already-loaded" in found) is claimed, found


def _diagnoses(path: Path) -> list[Any]:
    from askless.core.analysis.pipeline import diagnoses_of

    return list(diagnoses_of(summarise(read(path))))
