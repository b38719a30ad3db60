"""Queries that have loader options already: advice extends them and never contradicts them. Each
edit is taken word for word: nothing is raised, the page is the same, and it asks less.
"""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import run

PROGRAM = Path(__file__).parent / "programs" / "with_options.py"
LOOPS = {
    "deferred joined", "deferred batch", "deferred itself", "deferred by the model", "deferred by the model, joined",
    "deferred by the model, batch", "left out by load_only", "left out below a batch",
}  # fmt: skip
WIDE = {
    "named and unread", "named below a batch and unread", "unread below a batch", "unread two relations below",
    "undeferred and unread", "of a class and a version",
}  # fmt: skip


@pytest.fixture(scope="module", params=[True, False], ids=["use", "no use"])
def sides(
    request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory
) -> tuple[dict[str, dict[str, Any]], list[dict[str, str]], list[dict[str, dict[str, Any]]]]:
    """The edits by page; what the pages gave, and what they asked, without and with them."""
    folder = tmp_path_factory.mktemp("options")
    edits: dict[str, dict[str, Any]] = {}
    gave, asked = [], []
    for turn in range(2):
        taken, pages, capture = (
            folder / f"{turn}.{kind}" for kind in ("edits", "pages", "capture")
        )
        # What is only offered is a call behind its condition.
        taken.write_text(
            json.dumps(
                {page: edit["code"].rpartition("tells): ")[2] for page, edit in edits.items()}
            )
        )
        use = ["--track-use"] if request.param else []
        program = [sys.executable, PROGRAM, taken, pages]
        ran = run("capture", "app", *use, "-o", capture, "--", *program)
        assert ran.code == 0, ran.err
        gave.append(json.loads(pages.read_text()))
        routes = run("requests", capture, "--json").json["routes"]
        asked.append({row["route"]: row for row in routes})
        if not turn:
            for edit in run("findings", capture, "--json").json["edits"]:
                edits.setdefault(edit["routes"][0], edit)
    return edits, gave, asked


Sides = tuple[dict[str, dict[str, Any]], list[dict[str, str]], list[dict[str, dict[str, Any]]]]


@pytest.mark.parametrize("page", sorted(LOOPS | WIDE))
def test_an_edit_extends_the_query_as_it_was_built(page: str, sides: Sides) -> None:
    edits, (before, after), (was, now) = sides
    assert page in edits and edits[page]["code"], "it is found, with what to do"
    assert after[page] == before[page], edits[page]["code"]
    name = "queries" if page in LOOPS else "bytes"
    assert now[page][name] < was[page][name], edits[page]["code"]
    assert (
        now[page]["queries"]
        == was[page]["queries"] - edits[page]["queries"] + edits[page]["queries_after"]
    )


def test_what_tells_a_class_and_a_version_stay(sides: Sides) -> None:
    edits, *_ = sides
    code = edits["of a class and a version"]["code"]
    assert "Craft.notes" in code and "kind" not in code and "version" not in code
