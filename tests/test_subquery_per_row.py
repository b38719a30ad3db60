"""subquery-per-row: what is reported without a database, what the schema adds, and what is quick
enough.
"""

from __future__ import annotations

import sqlite3
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import findings
from tests.test_traffic import Made

COUNTED = (
    "SELECT b.id, (SELECT COUNT(*) FROM port_call c WHERE c.berth_id = b.id) AS calls FROM berth b"
)
LATEST = "SELECT b.id, COALESCE((SELECT MAX(c.eta) FROM port_call c WHERE (c.berth_id) = b.id), ?) AS latest FROM berth b"


def told(
    tmp_path: Path, text: str, *options: object, rows: int = 40, ms: float = 30, **more: Any
) -> list[dict[str, Any]]:
    made = Made(tmp_path, "sqlite")
    path = made.ask(
        text, *more.pop("given", ()), rows=rows, duration_ns=int(ms * 1e6), **more
    ).write()
    return [one for one in findings(path, *options) if one["pattern"] == "subquery-per-row"]


@pytest.mark.parametrize(
    "text, given",
    [(COUNTED, ()), (LATEST, ("never",)), (COUNTED + " ORDER BY calls DESC LIMIT 40", ())],
)
def test_a_value_for_each_row(text: str, given: tuple[Any, ...], tmp_path: Path) -> None:
    (finding,) = told(tmp_path, text, given=given)
    assert finding["severity"] == "worthwhile" and finding["evidence"] == "repeated"
    assert "port_call.berth_id = berth.id" in finding["evidence_details"][0]
    (advice,) = finding["advice"]
    assert "LEFT JOIN" in advice["sql"] and "GROUP BY" in advice["sql"]
    assert any("order of positional parameters" in check for check in advice["verify"]) is bool(
        given
    )


QUICK = {
    "few rows": (COUNTED, {"rows": 12}),
    "the rows of a list of keys": (COUNTED + " WHERE b.id IN (?, ?, ?)", {"given": (1, 2, 3)}),
    "quick": (COUNTED, {"ms": 8}),
    "ends with the first": ("SELECT b.id, EXISTS(SELECT 1 FROM port_call c WHERE c.berth_id = b.id) AS c FROM berth b", {}),
    "asked once": ("SELECT b.id, (SELECT COUNT(*) FROM port_call) AS calls FROM berth b", {}),
    "a condition": ("SELECT b.id FROM berth b WHERE b.id = (SELECT MAX(c.berth_id) FROM port_call c WHERE c.berth_id = b.id)", {}),
    "once a group": ("SELECT b.quay, (SELECT COUNT(*) FROM port_call c WHERE c.berth_id = b.quay) AS calls FROM berth b GROUP BY b.quay", {}),
    "a derived table": ("SELECT b.id, n.calls FROM berth b JOIN (SELECT berth_id, COUNT(*) AS calls FROM port_call GROUP BY berth_id) n ON n.berth_id = b.id", {}),
}  # fmt: skip


@pytest.mark.parametrize("name", QUICK)
def test_what_is_none_or_does_not_matter(name: str, tmp_path: Path) -> None:
    text, more = QUICK[name]
    assert told(tmp_path, text, **more) == []


@pytest.mark.parametrize("indexed, rows", [(True, 2000), (False, 2000), (False, 20)])
def test_the_schema_tells_whether_each_evaluation_reads_its_table(
    indexed: bool, rows: int, tmp_path: Path
) -> None:
    db = sqlite3.connect(tmp_path / "harbour.db")
    db.execute("CREATE TABLE berth (id INTEGER PRIMARY KEY)")
    db.execute("CREATE TABLE port_call (id INTEGER PRIMARY KEY, berth_id INTEGER, eta TEXT)")
    db.executemany("INSERT INTO port_call (berth_id) VALUES (?)", [(i % 40,) for i in range(rows)])
    if indexed:
        db.execute("CREATE INDEX port_call_berth ON port_call (berth_id, eta)")
    db.commit()
    db.close()
    slow = not indexed and rows > 1000  # a small table is read in no time
    (finding,) = told(tmp_path, COUNTED, "--db", f"sqlite:///{tmp_path / 'harbour.db'}")
    assert finding["evidence"] == "keyed" and (finding["severity"] == "urgent") is slow
    sql = [advice["sql"] for advice in finding["advice"][1:]]
    assert sql == (["CREATE INDEX port_call_berth_id ON port_call (berth_id)"] if slow else [])
