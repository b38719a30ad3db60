"""deep-offset: pages that are reached by counting, and those that are near, or by key."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from askless.core.advice.rewriting import statements
from askless.core.sql.structure import Column
from tests.conftest import findings
from tests.test_traffic import Made


@pytest.fixture
def found(tmp_path: Path) -> Callable[..., list[dict[str, Any]]]:
    def ask(system: str, text: str, *parameters: Any) -> list[dict[str, Any]]:
        return findings(
            Made(tmp_path, system).ask(text, *parameters, rows=50, columns=("id", "name")).write()
        )

    return ask


DEEP = [
    ("postgresql", "SELECT id, name FROM berth ORDER BY name DESC LIMIT 50 OFFSET 20000", ()),
    ("postgresql", "SELECT id, name FROM berth ORDER BY id LIMIT $1 OFFSET $2", (50, 1000)),
    ("mysql", "SELECT id, name FROM `berth` LIMIT 3000, 20", ()),
    (
        "mssql",
        "SELECT id, name FROM berth ORDER BY id OFFSET 4000 ROWS FETCH NEXT 20 ROWS ONLY",
        (),
    ),
    (
        "sqlite",
        "SELECT id, name FROM berth ORDER BY id LIMIT ? OFFSET ?",
        (50, "1,000".replace(",", "")),
    ),
]
NEAR = [
    ("postgresql", "SELECT id, name FROM berth ORDER BY id LIMIT 50 OFFSET 950", ()),
    ("postgresql", "SELECT id, name FROM berth ORDER BY id LIMIT 5000", ()),
    ("postgresql", "SELECT id, name FROM berth WHERE id > $1 ORDER BY id LIMIT 50", (20000,)),
    ("mysql", "SELECT id, name FROM `berth` LIMIT 20, 3000", ()),
    ("postgresql", 'SELECT id, "offset" FROM berth WHERE id > 5000 LIMIT 3', ()),
    ("postgresql", "SELECT id, name FROM berth ORDER BY id LIMIT 50 OFFSET $1", (None,)),
]


@pytest.mark.parametrize("system, text, parameters", DEEP)
def test_deep_pages(
    system: str, text: str, parameters: tuple[Any, ...], found: Callable[..., list[dict[str, Any]]]
) -> None:
    (finding,) = found(system, text, *parameters)
    assert finding["pattern"] == "deep-offset" and finding["tables"] == ["berth"]
    assert "paginate by key" in finding["advice"][0]["title"]


@pytest.mark.parametrize("system, text, parameters", NEAR)
def test_near_pages_and_pages_by_key(
    system: str, text: str, parameters: tuple[Any, ...], found: Callable[..., list[dict[str, Any]]]
) -> None:
    assert [
        finding
        for finding in found(system, text, *parameters)
        if finding["pattern"] == "deep-offset"
    ] == []


NAME, ID = (Column("berth", "name"), True), (Column("berth", "id"), False)


@pytest.mark.parametrize(
    "text, order, wanted",
    [
        ("SELECT id, name FROM berth ORDER BY id LIMIT 5 OFFSET 2", (ID,), "WHERE berth.id > :last_id ORDER BY id LIMIT 5"),
        (
            "SELECT id, name FROM berth WHERE open = 1 ORDER BY name DESC LIMIT 5 OFFSET 2",
            (NAME,),
            "WHERE open = 1 AND (name < :last_name OR (name = :last_name AND berth.id < :last_id)) "
            "ORDER BY name DESC, berth.id DESC LIMIT 5",
        ),
        ("SELECT id FROM berth LIMIT 5 OFFSET 2", (), "WHERE berth.id > :last_id ORDER BY berth.id LIMIT 5"),
        ("SELECT id FROM berth ORDER BY name DESC, id LIMIT 5 OFFSET 2", (NAME, ID), ""),
        ("SELECT DISTINCT id FROM berth ORDER BY id LIMIT 5 OFFSET 2", (ID,), ""),
        ("SELECT id FROM berth ORDER BY lower(name) LIMIT 5 OFFSET 2", ((Column("", ""), False),), ""),
    ],
)  # fmt: skip
def test_the_page_behind_the_last_row(
    text: str, order: tuple[tuple[Column, bool], ...], wanted: str
) -> None:
    made = (
        " ".join(statements.behind(text, "sqlite", order, "id").split())
        .replace("( ", "(")
        .replace(" )", ")")
    )
    assert made.partition("FROM berth ")[2] == wanted


def test_the_pages_by_key_hold_the_same_rows_as_the_pages_by_counting() -> None:
    import sqlite3

    db = sqlite3.connect(":memory:")
    db.execute("CREATE TABLE berth (id INTEGER PRIMARY KEY, name TEXT)")
    db.executemany("INSERT INTO berth VALUES (?, ?)", [(n, f"Quay {n % 7}") for n in range(100)])
    text = "SELECT id, name FROM berth ORDER BY name DESC, id DESC LIMIT 10 OFFSET {}"
    by_key = statements.behind(
        "SELECT id, name FROM berth ORDER BY name DESC LIMIT 10 OFFSET 10", "sqlite", (NAME,), "id"
    )
    rows = db.execute(text.format(0)).fetchall()
    for page in range(1, 10):
        counted = db.execute(text.format(page * 10)).fetchall()
        rows = db.execute(by_key, {"last_id": rows[-1][0], "last_name": rows[-1][1]}).fetchall()
        assert rows == counted
