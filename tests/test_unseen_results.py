"""Sources that see no results (logs, traces): findings doubt what they can't know."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from askless.capture.writing import CaptureWriter
from askless.core.records.traffic import RequestBegan, RequestEnded
from tests.conftest import findings
from tests.test_traffic import Made


def of_a_log(folder: Path, text: str, values: list[Any], unseen: bool = True) -> dict[str, Any]:
    """The one finding of a page that a log or a recorder saw."""
    made = Made(folder, "postgresql")
    for value in values:
        made.ask(text, value, rows=0 if unseen else 1)
    writer = CaptureWriter(made.path, "log", made.system, unseen=("results",) if unseen else ())
    writer.request_began(RequestBegan(1, made.route, 0))
    writer.queries(1, made.rows)
    last = made.rows[-1]
    writer.request_ended(RequestEnded(1, last.start_ns + last.duration_ns + 1_000_000))
    writer.close()
    (finding,) = findings(made.path)
    return finding


@pytest.mark.parametrize(
    ("column", "unseen", "doubted"),
    [("berth_id", True, True), ("berth_id", False, False), ("status", True, False)],
)
def test_counts_by_what_may_be_keys(
    tmp_path: Path, column: str, unseen: bool, doubted: bool
) -> None:
    text = f"SELECT count(*) FROM port_call WHERE {column} = $1"
    finding = of_a_log(tmp_path, text, list(range(15)), unseen)
    assert finding["pattern"] == "sibling-filters"
    said = any("then this is a loop over its rows" in one for one in finding["caveats"])
    assert said is doubted, finding["caveats"]


@pytest.mark.parametrize(("column", "variant"), [("id", "to-one"), ("port_call_id", "to-many")])
def test_how_many_rows_a_key_has_is_not_known(tmp_path: Path, column: str, variant: str) -> None:
    text = f"SELECT id, tug_id FROM tug_job WHERE {column} = $1"
    finding = of_a_log(tmp_path, text, list(range(15)))
    assert (finding["pattern"], finding["variant"]) == ("n-plus-one", variant)
    assert finding["title"].endswith(f"by {column}"), "no parent was seen: no (1 + 15)"
    assert any("whether a key has one or several is unknown" in c for c in finding["caveats"])
    assert finding["advice"][0]["title"].endswith("in one batched query"), "right for both"
