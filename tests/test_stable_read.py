"""stable-read: rows that every request reads, how long they may be kept, and reads that only look
stable.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from askless.capture.writing import CaptureWriter
from askless.core.records.model import CallSite
from askless.core.records.traffic import QuerySeen, RequestBegan, RequestEnded
from askless.core.settings import Settings
from tests.conftest import findings

TARIFF = "SELECT id, name, rate FROM tariff WHERE valid = $1"
CALL = "SELECT id, status FROM port_call WHERE id = $1"


class Hour:
    """Requests over time: each `(route, path, queries)`, a query being `(text, parameters,
    digest)`.
    """

    def __init__(self, folder: Path) -> None:
        self.path = folder / "hour.jsonl"
        self.writer = CaptureWriter(self.path, "test", "postgresql")
        self.number = 0

    def ask(
        self,
        at_s: float,
        route: str,
        path: str,
        *queries: tuple[str, tuple[Any, ...], int],
        ms: float = 4,
    ) -> None:
        self.number += 1
        start = int(at_s * 1e9)
        seen = [
            QuerySeen(
                text, start + i * 10_000_000, int(ms * 1e6), 3, 120, digest, CallSite("/app/pages.py", 20 + i, "page"),
                parameters=parameters, columns=("id",),
            )
            for i, (text, parameters, digest) in enumerate(queries)
        ]  # fmt: skip
        self.writer.request_began(RequestBegan(self.number, route, start, path=path))
        self.writer.queries(self.number, seen)
        self.writer.request_ended(RequestEnded(self.number, start + 30_000_000))

    def found(self) -> list[dict[str, Any]]:
        self.writer.close()
        return [one for one in findings(self.path) if one["pattern"] == "stable-read"]


@pytest.fixture
def hour(tmp_path: Path) -> Hour:
    return Hour(tmp_path)


def visited(hour: Hour, turn: int, digest: int = 7, **more: Any) -> None:
    route = "GET /calls/{id}" if turn % 2 else "GET /bills/{id}"
    path = f"{route[4:].split('{')[0]}{turn % 10}"
    hour.ask(
        turn * 3.0, route, path, (CALL, (turn % 10,), 100 + turn), (TARIFF, (1,), digest), **more
    )


def test_rows_that_never_changed_are_kept_as_long_as_was_seen(hour: Hour) -> None:
    for turn in range(40):
        visited(hour, turn)
    (finding,) = hour.found()
    assert (
        finding["tables"] == ["tariff"]
        and "40 reads of tariff" in finding["title"]
        and "1 more route" in finding["title"]
    )
    assert "it was unchanged for 117 s, the whole recording" in finding["evidence_details"]
    assert any(
        "kept for 60 s: 38 of 40 reads are avoided" in one for one in finding["evidence_details"]
    )
    assert "none in the capture" in finding["evidence_details"][2] and len(finding["advice"]) == 1
    assert "for 60 s" in finding["advice"][0]["title"]


def test_the_shortest_time_that_rows_held_halved(hour: Hour) -> None:
    for turn in range(60):
        visited(hour, turn, digest=7 if turn < 20 else 8 if turn < 32 else 9)
        if turn in (19, 31):
            hour.ask(
                turn * 3.0 + 1,
                "POST /tariffs",
                "/tariffs",
                ("UPDATE tariff SET rate = $1", (turn,), 0),
            )
    (finding,) = hour.found()
    assert any("it was unchanged for at least 36 s" in one for one in finding["evidence_details"])
    assert any("kept for 10 s" in one for one in finding["evidence_details"])
    assert "UPDATE 2 times on POST /tariffs" in finding["evidence_details"][2]
    assert finding["advice"][1]["title"].startswith(
        "or invalidate the cache on write: UPDATE 2 times"
    )


def one_address(hour: Hour) -> None:
    for turn in range(40):
        hour.ask(turn, "GET /calls/due", "/calls/due", (TARIFF, (1,), 7))


def other_values(hour: Hour) -> None:
    for turn in range(40):
        hour.ask(turn, "GET /calls/{id}", f"/calls/{turn}", (TARIFF, (turn,), 7))


def changing(hour: Hour) -> None:
    for turn in range(40):
        visited(hour, turn, digest=turn // 3)


def changed_from_route_to_route(hour: Hour) -> None:
    for turn in range(40):
        route = "calls" if turn < 20 else "bills"
        hour.ask(
            turn * 3.0,
            f"GET /{route}/{{id}}",
            f"/{route}/{turn}",
            (TARIFF, (1,), 7 if turn < 20 else 8),
        )


def quick(hour: Hour) -> None:
    for turn in range(40):
        visited(hour, turn, ms=0.2)


def by_the_clock(hour: Hour) -> None:
    for turn in range(40):
        hour.ask(
            turn,
            "GET /calls/{id}",
            f"/calls/{turn}",
            ("SELECT id FROM tariff WHERE valid_until > now()", (), 7),
        )


def locked(hour: Hour) -> None:
    for turn in range(40):
        hour.ask(turn, "GET /calls/{id}", f"/calls/{turn}", (TARIFF + " FOR UPDATE", (1,), 7))


def few(hour: Hour) -> None:
    for turn in range(9):
        visited(hour, turn)


@pytest.mark.parametrize(
    "traffic",
    [
        one_address,
        other_values,
        changing,
        changed_from_route_to_route,
        quick,
        by_the_clock,
        locked,
        few,
    ],
)
def test_reads_that_only_look_stable(traffic: Callable[[Hour], None], hour: Hour) -> None:
    traffic(hour)
    assert hour.found() == []


def test_too_short_a_recording_tells_nothing(hour: Hour) -> None:
    for turn in range(20):
        hour.ask(turn / 100, "GET /calls/{id}", f"/calls/{turn}", (TARIFF, (1,), 7))
    assert hour.found() == []


def test_of_many_requests_some_are_looked_at() -> None:
    settings = Settings(look_first=10, look_every=4)
    for requests in (0, 1, 9, 10, 11, 12, 13, 57, 400):
        looked = sum(settings.looks_at(turn) for turn in range(1, requests + 1))
        assert looked == min(requests, 10) + max(requests // 4 - 2, 0)
