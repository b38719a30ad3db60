"""n-plus-one whose table follows a type column: one finding for all kinds, and what only looks like
it.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import findings
from tests.test_traffic import Made

ENTRIES = [
    (1, "vessel", 70),
    (2, "tug", 8),
    (3, "vessel", 71),
    (4, "pilot", 8),
    (5, "tug", 9),
    (6, "pilot", 5),
    (7, "vessel", 90),
]
PARENT = "SELECT id, subject_type, subject_id FROM log_entry ORDER BY id LIMIT 7"
COLUMNS = ("id", "subject_type", "subject_id")


def page(
    tmp_path: Path,
    steps: Sequence[tuple[str, int]],
    entries: Sequence[tuple[Any, ...]] = ENTRIES,
    output: str = "id, name",
) -> list[dict[str, Any]]:
    made = Made(tmp_path, "postgresql").ask(
        PARENT, rows=len(entries), columns=COLUMNS, sample=tuple(entries)
    )
    for table, key in steps:
        made.ask(f"SELECT {output} FROM {table} WHERE id = $1", key)
    return findings(made.write())


def test_all_kinds_are_one_finding(tmp_path: Path) -> None:
    (finding,) = page(tmp_path, [(kind, key) for _, kind, key in ENTRIES])
    assert (finding["pattern"], finding["variant"], finding["evidence"]) == (
        "n-plus-one",
        "polymorphic",
        "traced",
    )
    assert finding["title"].startswith("7 queries where 3 would do: reads vessel, ")
    assert "depending on subject_type, for each row of log_entry (1 + 7)" in finding["title"]
    assert (
        sorted(finding["tables"]) == ["pilot", "tug", "vessel"]
        and finding["cost"]["avoidable"] == 4
    )
    (advice,) = finding["advice"]
    assert [line for line in advice["sql"].splitlines() if line.startswith("FROM")] == [
        "FROM vessel",
        "FROM tug",
        "FROM pilot",
    ] or ({"FROM vessel", "FROM tug", "FROM pilot"} <= set(advice["sql"].splitlines()))
    assert advice["sql"].count("id IN (:keys)") == 3


def test_an_identity_map_leaves_rows_out(tmp_path: Path) -> None:
    entries = [*ENTRIES, (8, "vessel", 70), (9, "tug", 8), (10, "vessel", 91)]
    steps = [(kind, key) for _, kind, key in ENTRIES] + [("vessel", 91)]
    (finding,) = page(tmp_path, steps, entries)
    assert finding["variant"] == "polymorphic" and "(1 + 8)" in finding["title"]


def test_other_look_ups_of_the_same_loop_stand_beside_it(tmp_path: Path) -> None:
    steps = [step for n, kind, key in ENTRIES for step in ((kind, key), ("berth", 400 + n))]
    found = {finding["variant"]: sorted(finding["tables"]) for finding in page(tmp_path, steps)}
    assert found == {"polymorphic": ["pilot", "tug", "vessel"], "to-one": ["berth"]}


def test_a_kind_that_two_tables_share_tells_none(tmp_path: Path) -> None:
    entries = [(n, "pilot" if kind == "pilot" else "ship", key) for n, kind, key in ENTRIES]
    found = page(tmp_path, [(kind, key) for _, kind, key in ENTRIES], entries)
    assert all(finding["variant"] != "polymorphic" for finding in found)


def test_numbers_of_each_kind_are_no_rows_to_fetch(tmp_path: Path) -> None:
    found = page(tmp_path, [(kind, key) for _, kind, key in ENTRIES], output="COUNT(*) AS n")
    assert all(finding["variant"] != "polymorphic" for finding in found)


@pytest.mark.parametrize(
    ("kinds", "polymorphic"),
    [
        (("vessel", "tug", "vessel", "tug"), True),
        (("vessel", "vessel", "tug", "vessel", "tug"), True),
        # a column of whole numbers that two loops, one after the other, follow by chance
        (("vessel", "vessel", "vessel", "tug", "tug"), False),
        (("vessel", "tug", "vessel"), False),
    ],
)
def test_small_numbers_tell_a_table_only_if_they_take_turns(
    kinds: tuple[str, ...], polymorphic: bool, tmp_path: Path
) -> None:
    entries = [(n, {"vessel": 3, "tug": 4}[kind], 70 + n) for n, kind in enumerate(kinds)]
    found = page(tmp_path, [(kind, 70 + n) for n, kind in enumerate(kinds)], entries)
    assert any(one["variant"] == "polymorphic" for one in found) is polymorphic
    if kinds.count("vessel") >= 3 and not polymorphic:
        assert [one["tables"] for one in found] == [["vessel"]], "its loop is not hidden"


OTHERWISE = {
    "each table for each row": [
        step for _, _, key in ENTRIES for step in (("tug_job", key), ("manifest_line", key))
    ],
    "no column tells the table": [
        ("vessel" if turn % 2 else "tug", key) for turn, (_, _, key) in enumerate(ENTRIES)
    ],
    "one kind alone": [("vessel", key) for _, _, key in ENTRIES],
    "in another order": [(kind, key) for _, kind, key in reversed(ENTRIES)],
}


@pytest.mark.parametrize("name", OTHERWISE)
def test_what_only_looks_like_it(name: str, tmp_path: Path) -> None:
    assert all(finding["variant"] != "polymorphic" for finding in page(tmp_path, OTHERWISE[name]))
