"""Advice is taken, word for word: the finding is gone, and the page gives what it gave."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import findings, run

PROGRAMS = Path(__file__).parent / "programs"
Pages = dict[str, Any]
Drive = Callable[[dict[str, str]], tuple[Pages, dict[str, list[dict[str, Any]]]]]

# Page -> pattern, variant, and how many of its advice give code that can be taken as it is.
EXPECTED = {
    "to_one": ("n-plus-one", "to-one", 2),
    "to_many": ("n-plus-one", "to-many", {"sqlalchemy": 2, "django": 1}),
    "below_an_eager_load": ("n-plus-one", "to-one", {"sqlalchemy": 2, "django": 1}),
    "link_table": ("n-plus-one", "link-table", {"sqlalchemy": 2, "django": 1}),
    "count": ("n-plus-one", "count", 1),
    "only_counted": ("n-plus-one", "to-many", 2),
    "over_wide": ("over-wide", "wide-columns", 1),
    "over_wide_joined": ("over-wide", "wide-columns", 1),
    "left_out_and_read": ("n-plus-one", "same-row", 1),
    "counted_in_code": ("discarded-rows", "counted", 1),
    "insert_loop": ("write-loop", "insert", 1),
    "unused_eager": ("unused-load", "eager query", 1),
    "unused_join": ("unused-load", "joined", 1),
    "already_loaded": ("already-loaded", "", 1),
}


@pytest.fixture(scope="module", params=["sqlalchemy", "django"])
def orm(request: pytest.FixtureRequest) -> str:
    return str(request.param)


@pytest.fixture(scope="module")
def drive(orm: str, tmp_path_factory: pytest.TempPathFactory) -> Drive:
    """Run the pages with some advice taken: what they gave, and the findings by page."""
    folder = tmp_path_factory.mktemp(orm)

    def driven(advice: dict[str, str]) -> tuple[Pages, dict[str, list[dict[str, Any]]]]:
        number = len(list(folder.iterdir()))
        taken, pages, capture = (
            folder / f"{number}.taken",
            folder / f"{number}.pages",
            folder / f"{number}.c",
        )
        taken.write_text(json.dumps(advice))
        program = [sys.executable, PROGRAMS / f"with_{orm}.py", taken, pages]
        ran = run(
            "capture",
            "app",
            "--track-use",
            "-o",
            capture,
            "--",
            *program,
            cwd=folder,
            env={"PYTHONPATH": str(PROGRAMS)},
        )
        assert ran.code == 0, ran.err
        found: dict[str, list[dict[str, Any]]] = {}
        for finding in findings(capture):
            found.setdefault(finding["route"], []).append(finding)
        return json.loads(pages.read_text()), found

    return driven


@pytest.fixture(scope="module")
def before(drive: Drive) -> tuple[Pages, dict[str, list[dict[str, Any]]]]:
    return drive({})


@pytest.mark.parametrize("page", EXPECTED)
def test_what_each_page_asks_too_much(
    page: str, orm: str, before: tuple[Pages, dict[str, list[dict[str, Any]]]]
) -> None:
    pattern, variant, codes = EXPECTED[page]
    found = [f for f in before[1].get(page, []) if f["pattern"] == pattern]
    assert [f["variant"].split(",")[0] for f in found] == [variant], [
        f["title"] for f in before[1].get(page, [])
    ]
    given = [advice["code"] for advice in found[0]["advice"] if advice["code"]]
    wanted = codes if isinstance(codes, int) else codes[orm]
    assert len(given) == wanted, given


@pytest.mark.parametrize("turn", [0, 1])
def test_advice_taken_removes_its_finding(
    turn: int, orm: str, drive: Drive, before: tuple[Pages, dict[str, list[dict[str, Any]]]]
) -> None:
    """All pages take their first advice, then those with a second alternative take that."""
    pages, found = before
    taken = {}
    for page, (pattern, _, codes) in EXPECTED.items():
        wanted = codes if isinstance(codes, int) else codes[orm]
        if turn < wanted:
            finding = next(f for f in found[page] if f["pattern"] == pattern)
            taken[page] = [advice["code"] for advice in finding["advice"] if advice["code"]][turn]
    deepest = next(f for f in found["nested"] if "1 + 12 + " in f["title"])
    taken["nested"] = [advice["code"] for advice in deepest["advice"] if advice["code"]][turn]
    after, left = drive(taken)
    assert {page: after[page] for page in taken} == {page: pages[page] for page in taken}
    for page in taken:
        pattern = EXPECTED.get(page, ("n-plus-one",))[0]
        assert [f["title"] for f in left.get(page, []) if f["pattern"] == pattern] == [], (
            page,
            taken[page],
        )


def test_columns_left_out_keep_the_keys_that_stitch(
    before: tuple[Pages, dict[str, list[dict[str, Any]]]],
) -> None:
    finding = before[1]["over_wide_joined"][0]
    assert "vessel_id" not in finding["advice"][0]["title"] and finding["evidence"] == "traced"
    assert (
        "log" in finding["advice"][0]["title"]
        and "keeps the keys" in finding["advice"][0]["verify"][0]
    )


def test_what_is_read_is_never_called_over_wide(
    drive: Drive, before: tuple[Pages, dict[str, list[dict[str, Any]]]]
) -> None:
    for page in ("to_one", "nested", "link_table"):
        assert not [
            f
            for f in before[1][page]
            if f["pattern"] == "over-wide" and "name" in f["advice"][0]["title"].split()
        ]
