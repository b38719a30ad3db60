"""The pages of the patterns: each tells the same things, and its examples do what it says."""

from __future__ import annotations

import json
import re
import sys
from pathlib import Path
from typing import Any

import pytest

from askless.core import patterns
from askless.reports.patterns import page_of
from tests.conftest import HARBOUR, findings, run

PAGES = Path(__file__).parents[2] / "docs" / "patterns"
SECTIONS = ["## How to recognise it", "## The harbour office", "## When to leave it alone"]

# What the examples may name. Each runs several times, one after the other; nothing that it writes
# is kept.
PROGRAM = """
import json, sys
sys.path.insert(0, {harbour!r})
import askless, customs
from data import GOODS, NOW
from models import *
from sqlalchemy import create_engine, func, insert, select, text, update
from sqlalchemy.dialects import sqlite
from sqlalchemy.exc import IntegrityError
from sqlalchemy.orm import Session, joinedload, load_only, selectinload

engine = create_engine("sqlite:///{db}")
KEPT = {{}}
with Session(engine) as session:
    last = session.scalar(select(func.max(PortCall.id)))
LARGE = list(range(last - 139, last - 99))
given = {{}}
pages = json.load(open({pages!r}))
often = ("literal-churn", "stable-read", "held-transaction")  # the last one takes its time: rows must hold for a while
for turn in range(24):
    for name, when, code in [(name, *one) for name in pages for one in zip(("before", "after"), pages[name])]:
        if turn > 2 and name not in often:
            continue
        route = when + " " + name + (" %d" % (turn % 4) if name == "stable-read" else "")
        with Session(engine) as session:
            with askless.request(route):
                names = dict(globals())
                exec(compile(code, "<string>", "exec"), names)
            session.rollback()
        given[when, name] = repr(names["shown"])
assert all(given["before", name] == given["after", name] for _, name in given), given
"""


def blocks_of(name: str) -> list[str]:
    """The examples of a page, as it grew and as tuned."""
    return re.findall(
        r"^```python\n(.*?)^```", (PAGES / f"{name}.md").read_text(), flags=re.M | re.S
    )


@pytest.fixture(scope="module")
def shown(
    harbour: Path, tmp_path_factory: pytest.TempPathFactory
) -> dict[str, list[dict[str, Any]]]:
    """The findings of the examples, by the request that they ran in."""
    folder = tmp_path_factory.mktemp("examples")
    copy = folder / "harbour.db"
    copy.write_bytes(harbour.read_bytes())
    blocks = folder / "blocks.json"
    blocks.write_text(json.dumps({name: blocks_of(name) for name in patterns.REGISTRY}))
    script = folder / "examples.py"
    script.write_text(PROGRAM.format(harbour=str(HARBOUR), db=copy, pages=str(blocks)))
    ran = run("capture", "app", "--track-use", "-o", folder / "c", "--", sys.executable, script)
    assert ran.code == 0, ran.err
    by_route: dict[str, list[dict[str, Any]]] = {}
    for finding in findings(folder / "c", "--db", f"sqlite:///{copy}"):
        by_route.setdefault(re.sub(r" \d$", "", finding["route"]), []).append(finding)
    return by_route


def test_each_pattern_has_a_page_and_no_page_stands_alone() -> None:
    assert {path.stem for path in PAGES.iterdir()} == set(patterns.REGISTRY)


@pytest.mark.parametrize("name", patterns.REGISTRY)
def test_a_page_tells_what_all_of_them_tell(name: str) -> None:
    text = page_of(name)
    rule = patterns.load([name])[0].rule
    assert text.splitlines()[0] == f"# {name}: {rule.title}"
    assert [line for line in text.splitlines() if line.startswith("## ")] == SECTIONS
    assert len(blocks_of(name)) == 2 and ("--track-use" in text) >= rule.needs_use
    assert re.search(r"alone\n\n- ", text)


@pytest.mark.parametrize("name", patterns.REGISTRY)
def test_the_examples_of_a_page_are_true(name: str, shown: dict[str, list[dict[str, Any]]]) -> None:
    before, after = (
        [f["pattern"] for f in shown.get(f"{when} {name}", [])] for when in ("before", "after")
    )
    assert name in before and name not in after


def test_pages_are_printed(tmp_path: Path) -> None:
    listed = run("patterns")
    assert listed.code == 0 and all(name in listed.out for name in patterns.REGISTRY)
    page = run("patterns", "held-transaction")
    assert page.code == 0 and "How to recognise it" in page.out and "customs.ask(5)" in page.out
    wrong = run("patterns", "n-plus-on")
    assert wrong.code == 2 and "did you mean n-plus-one?" in wrong.err
