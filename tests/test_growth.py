"""Growth with the rows of a page, and change over time."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, strategies as st

from askless.core.growth.by_rows import POINTS_MOST, theil
from tests.conftest import Ran, run
from tests.test_traffic import Made, written

LIST = "SELECT id, vessel_id FROM port_call WHERE status = $1 ORDER BY eta LIMIT $2"
VESSEL = "SELECT id, name FROM vessel WHERE id = $1"
JOBS = "SELECT id, tug_id FROM tug_job WHERE port_call_id = $1"
TUG = "SELECT id, name FROM tug WHERE id = $1"


def page(
    tmp_path: Path, calls: int, jobs: int = 0, loops: bool = True, extra: int = 0, ms: float = 0.4
) -> Made:
    made = Made(tmp_path, "postgresql").ask("SELECT id FROM agent WHERE token = $1", "x")
    made.ask(LIST, "due", calls, rows=calls)
    for call in range(calls if loops else 0):
        made.ask(VESSEL, call, gap_ms=2 * ms)
        if jobs:
            made.ask(JOBS, call, rows=jobs)
            for job in range(jobs):
                made.ask(TUG, 100 * call + job)
    for turn in range(extra):
        made.ask(f"SELECT id FROM berth WHERE name = 'Quay {turn}' AND depth_m > {turn}")
    return made


def grown(requests: Sequence[Made], *words: object) -> dict[str, Any]:
    ran = run("growth", written(requests), "--json", *words)
    assert ran.code == 0, ran.err
    (row,) = ran.json["routes"]
    found: dict[str, Any] = row
    return found


def test_one_look_up_for_each_row(tmp_path: Path) -> None:
    row = grown([page(tmp_path, calls) for calls in (5, 10, 20, 40)])
    assert (row["outcome"], row["formula"]) == ("grows", "2 + 1 × port_call")
    assert row["sizes"] == [5, 10, 20, 40] and row["slope"] == 1
    assert [(one["rows"], one["queries"]) for one in row["projected"]] == [
        (15, 17),
        (150, 152),
        (1500, 1502),
    ]
    assert [one["bytes"] for one in row["projected"]] == [40 * 31, 40 * 301, 40 * 3001]


def test_nested_loops_are_put_down_to_the_rows_that_they_follow(tmp_path: Path) -> None:
    sizes = [(4, 3), (8, 2), (12, 4), (20, 1), (30, 3)]
    row = grown([page(tmp_path, calls, jobs) for calls, jobs in sizes])
    assert (row["outcome"], row["formula"]) == ("grows", "2 + 2 × port_call + 1 × tug_job")


def test_a_page_that_loads_eagerly_does_not_grow(tmp_path: Path) -> None:
    row = grown([page(tmp_path, calls, loops=False) for calls in (5, 10, 20, 40)])
    assert (row["outcome"], row["formula"]) == ("does not grow", "2")
    assert [one["queries"] for one in row["projected"]] == [2, 2, 2] and row["projected"][1][
        "bytes"
    ] > row["projected"][0]["bytes"]


def test_what_rows_do_not_explain_is_unclear(tmp_path: Path) -> None:
    row = grown(
        [
            page(tmp_path, calls, loops=False, extra=(calls * 7) % 30)
            for calls in (5, 10, 20, 40, 80)
        ]
    )
    assert row["outcome"] == "unclear"


@pytest.mark.parametrize("sizes", [[10, 10, 10], [10, 20], [10, 11, 12], [0, 0, 0]])
def test_too_few_sizes(sizes: list[int], tmp_path: Path) -> None:
    row = grown([page(tmp_path, calls) for calls in sizes])
    assert row["outcome"] == "too few sizes" and row["projected"] == []
    assert "too few sizes" in run("growth", tmp_path / "made.jsonl").out


def test_a_single_odd_request_moves_nothing(tmp_path: Path) -> None:
    odd = page(tmp_path, 10, extra=25)
    row = grown([page(tmp_path, calls) for calls in (5, 10, 10, 20, 40, 40)] + [odd])
    assert row["formula"] == "2 + 1 × port_call"


def test_time_that_grows_faster_than_in_a_line_is_told(tmp_path: Path) -> None:
    row = grown([page(tmp_path, calls, ms=calls / 20) for calls in (4, 8, 12, 24, 48, 80)])
    assert (
        row["superlinear"] and "faster than linearly" in run("growth", tmp_path / "made.jsonl").out
    )
    (tmp_path / "straight").mkdir()
    assert not grown([page(tmp_path / "straight", calls) for calls in (4, 8, 12, 24, 48, 80)])[
        "superlinear"
    ]


def test_many_requests_are_thinned_out_evenly(tmp_path: Path) -> None:
    row = grown([page(tmp_path, 1 + turn % 9) for turn in range(2 * POINTS_MOST + 50)])
    assert len(row["points"]) <= POINTS_MOST and row["requests"] == 2 * POINTS_MOST + 50
    assert row["formula"] == "2 + 1 × port_call"


def test_a_picture(tmp_path: Path) -> None:
    capture = written([page(tmp_path, calls) for calls in (5, 10, 20)])
    for ending, begins in ((".svg", b"<?xml"), (".png", b"\x89PNG")):
        ran = run("growth", capture, "--figure", tmp_path / f"growth{ending}")
        assert ran.code == 0 and (tmp_path / f"growth{ending}").read_bytes().startswith(begins)
    (tmp_path / "flat").mkdir()
    none = run("growth", written([page(tmp_path / "flat", 5)]), "--figure", tmp_path / "none.png")
    assert none.code == 2 and "nothing to draw" in none.err and not (tmp_path / "none.png").exists()


@given(
    st.integers(-40, 40), st.integers(-9, 9), st.lists(st.integers(0, 500), min_size=3, max_size=30, unique=True),
    st.lists(st.integers(-10_000, 10_000), max_size=1),
)  # fmt: skip
def test_a_line_is_found_whatever_one_odd_point_says(
    base: int, slope: int, xs: list[int], odd: list[int]
) -> None:
    points = [(x, base + slope * x) for x in xs]
    if len(xs) > 8:
        points += [(x + 501, y) for x, y in zip(xs[:1], odd, strict=False)]
    line = theil([x for x, _ in points], [y for _, y in points])
    assert (line.base, line.slope) == pytest.approx((base, slope), abs=1e-6)


def over_time(tmp_path: Path, ms_of: Any) -> Ran:
    requests = []
    for turn in range(90):
        made = Made(tmp_path, "postgresql")
        made.ask(VESSEL, turn, duration_ns=int(ms_of(turn) * 1e6)).ask(
            LIST, "due", 5, rows=5, duration_ns=2_000_000 + turn % 7
        )
        requests.append(made)
    path = written(requests, every_s=10)
    return run("growth", path, "--over-time", "--json")


@pytest.mark.parametrize("ms_of, direction", [
    (lambda turn: 1 + turn / 30, "slower"), (lambda turn: 4 - turn / 30, "faster"), (lambda turn: 2 + turn % 3 / 10, "no measurable change"),
])  # fmt: skip
def test_a_statement_over_a_long_capture(ms_of: Any, direction: str, tmp_path: Path) -> None:
    ran = over_time(tmp_path, ms_of)
    by_table = {row["sql"].split("FROM ")[1].split()[0]: row for row in ran.json["shapes"]}
    assert (
        by_table["vessel"]["direction"] == direction
        and by_table["port_call"]["direction"] == "no measurable change"
    )
    assert (
        sum(by_table["vessel"]["counts"]) == 90
        and ran.json["stretch_s"] * len(by_table["vessel"]["counts"]) >= 890
    )


@pytest.mark.parametrize("words, says", [
    (("--sizes", "10,20", "--visit", "http://127.0.0.1:1/calls"), "contains {size}"),
    (("--visit", "http://127.0.0.1:1/calls?first={size}"), "--sizes is missing"),
    (("--sizes", "10,many", "--visit", "http://127.0.0.1:1/calls?first={size}"), "whole numbers"),
])  # fmt: skip
def test_sizes_and_where_they_stand_belong_together(
    words: tuple[str, ...], says: str, tmp_path: Path
) -> None:
    ran = run("capture", "app", "-o", tmp_path / "c", *words, "--", "python", "-c", "pass")
    assert ran.code == 2 and says in ran.err and "Traceback" not in ran.err
