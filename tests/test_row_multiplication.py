"""row-multiplication: what joins do to their parents' rows, and joins that do nothing to them."""

from __future__ import annotations

import sys
from collections.abc import Callable
from itertools import product
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, strategies as st

from askless.core.advice import alternative_sql
from askless.core.aggregation.shape_stats import ShapeStats
from askless.core.inference.context import Context
from askless.core.inference.joined_rows import joined_rows, joins_one_each
from askless.core.settings import Settings
from askless.core.sql.structure_store import structure_of
from tests.conftest import findings, run
from tests.test_traffic import Made

Rows = list[tuple[Any, ...]]
BOTH = (
    "SELECT c.id, c.status, j.id AS job, l.id AS line FROM port_call c LEFT JOIN tug_job j ON j.port_call_id = c.id "
    "LEFT JOIN manifest_line l ON l.port_call_id = c.id"
)
COLUMNS = ("id", "status", "job", "line")


def multiplied(calls: int, jobs: int, lines: int) -> Rows:
    return [
        (call, "due", 100 * call + job, 1000 * call + line)
        for call, job, line in product(range(calls), range(jobs), range(lines))
    ]


@pytest.fixture
def found(tmp_path: Path) -> Callable[..., list[dict[str, Any]]]:
    def ask(
        text: str, rows: Rows, columns: tuple[str, ...], times: int = 1, **more: Any
    ) -> list[dict[str, Any]]:
        made = Made(tmp_path, "postgresql")
        made.ask(text, rows=len(rows) * times, columns=columns, sample=tuple(rows[:32]), **more)
        return [one for one in findings(made.write()) if one["pattern"] == "row-multiplication"]

    return ask


@pytest.mark.parametrize("calls, jobs, lines", [(40, 3, 4), (20, 4, 10), (20, 2, 16)])
def test_two_collections_of_one_parent(
    calls: int, jobs: int, lines: int, found: Callable[..., list[dict[str, Any]]]
) -> None:
    (finding,) = found(BOTH, multiplied(calls, jobs, lines), COLUMNS)
    separate = calls * (1 + jobs + lines)
    assert (
        finding["variant"] == "product" and f"where about {separate:,} would do" in finding["title"]
    )
    assert (
        f"100,000 rows of port_call make {100_000 * jobs * lines:,}"
        in finding["evidence_details"][1]
    )
    assert (
        finding["advice"][0]["sql"]
        == "SELECT port_call_id, id\nFROM manifest_line\nWHERE port_call_id IN (:keys)"
    )


def test_parents_that_come_again_because_a_join_only_filters(
    found: Callable[..., list[dict[str, Any]]],
) -> None:
    text = "SELECT c.id, c.status FROM port_call c JOIN tug_job j ON j.port_call_id = c.id WHERE j.tug_id = $1 ORDER BY c.eta"
    (finding,) = found(text, [(i // 4, "due") for i in range(200)], ("id", "status"))
    assert finding["variant"] == "parents again" and "each of them 4 times" in finding["title"]
    sql = " ".join(finding["advice"][0]["sql"].split())
    assert (
        "WHERE EXISTS( SELECT 1 FROM tug_job AS j WHERE j.port_call_id = c.id AND j.tug_id = $1 )"
        in sql
    )


def test_wide_parents_are_sent_again_with_each_child(
    found: Callable[..., list[dict[str, Any]]],
) -> None:
    text = "SELECT i.id, i.verdict, d.id AS defect FROM inspection i JOIN defect d ON d.inspection_id = i.id"
    rows = [(i // 5, "x", i) for i in range(300)]
    (finding,) = found(text, rows, ("id", "verdict", "defect"), widths=(1200, 60_000, 1200))
    assert finding["variant"] == "wide parents" and "sent 5 times" in finding["title"]


CLEAN = [
    ("a small product", BOTH, multiplied(5, 3, 4), COLUMNS, 1),
    ("little lost by it", BOTH, multiplied(100, 2, 2), COLUMNS, 1),
    ("one collection", BOTH, [(i // 4, "due", i, None) for i in range(400)], COLUMNS, 1),
    ("grandchildren", BOTH.replace("l.port_call_id = c.id", "l.tug_job_id = j.id"), multiplied(40, 3, 4), COLUMNS, 1),
    ("a cut result that shows no second side", BOTH, [(1, "due", 7, i) for i in range(32)], COLUMNS, 40),
    ("a key that is none", BOTH, [(i // 4, i, i, None) for i in range(300)], COLUMNS, 1),
    ("DISTINCT", "SELECT DISTINCT c.id FROM port_call c JOIN tug_job j ON j.port_call_id = c.id", [(i,) for i in range(300)], ("id",), 1),
    ("to-one", "SELECT c.id, v.id AS v FROM port_call c JOIN vessel v ON v.id = c.vessel_id", [(i, 7) for i in range(300)], ("id", "v"), 1),
]  # fmt: skip


@pytest.mark.parametrize("what, text, rows, columns, times", CLEAN, ids=[one[0] for one in CLEAN])
def test_joins_that_multiply_nothing(
    what: str,
    text: str,
    rows: Rows,
    columns: tuple[str, ...],
    times: int,
    found: Callable[..., list[dict[str, Any]]],
) -> None:
    assert found(text, rows, columns, times) == []


@given(
    st.lists(st.tuples(st.integers(0, 4), st.integers(0, 6)), min_size=1, max_size=8),
    st.integers(4, 32),
)
def test_a_product_is_told_only_where_there_is_one(
    parents: list[tuple[int, int]], kept: int
) -> None:
    rows: Rows = []
    for call, (jobs, lines) in enumerate(parents):
        ids = [call * 100 + job for job in range(jobs)] or [None]
        rows += [
            (call, "due", job, line)
            for job in ids
            for line in ([call * 100 + i for i in range(lines)] or [None])
        ]
    joined = joined_rows(
        _stats(rows[:kept] if len(rows) > 32 else rows),
        structure_of(BOTH, "postgresql"),
        Context(Settings()),
    )  # type: ignore[arg-type]
    if joined is not None and joined.product:
        assert set(joined.product) == {"tug_job", "manifest_line"}
        assert any(jobs > 1 and lines > 1 for jobs, lines in parents)
        assert joined.rows >= joined.parents


def _stats(rows: Rows) -> ShapeStats:
    from types import SimpleNamespace

    statement = SimpleNamespace(columns=COLUMNS, sampled=(0, 1, 2, 3))
    return SimpleNamespace(statement=statement, examples=[SimpleNamespace(sample=tuple(rows))])  # type: ignore[return-value]


NEEDED_OTHERWISE = [
    "SELECT c.id, j.id FROM port_call c JOIN tug_job j ON j.port_call_id = c.id",
    "SELECT c.id FROM port_call c LEFT JOIN tug_job j ON j.port_call_id = c.id",
    "SELECT c.id FROM port_call c JOIN tug_job j ON j.port_call_id = c.id ORDER BY j.starts_at",
    "SELECT c.id FROM port_call c JOIN tug_job j ON j.port_call_id = c.id WHERE minutes > 3",
    "SELECT c.id FROM port_call c JOIN tug_job j ON j.port_call_id = c.id JOIN tug t ON t.id = j.tug_id",
]


@pytest.mark.parametrize("text", NEEDED_OTHERWISE)
def test_no_condition_stands_in_for_a_join_that_is_needed(text: str) -> None:
    assert alternative_sql.by_existence(text, "postgresql") == ""


@pytest.mark.parametrize("joined, one_each", [
    ("JOIN vessel v ON v.id = c.vessel_id", True),
    ("JOIN vessel v ON v.id = c.vessel_id JOIN flag f ON f.id = v.flag_id", True),
    ("LEFT JOIN tug_job j ON j.port_call_id = c.id", False),
    ("JOIN vessel v ON v.id = c.vessel_id JOIN tug_job j ON j.port_call_id = c.id", False),
])  # fmt: skip
def test_a_page_of_rows_is_only_cut_where_rows_are_parents(joined: str, one_each: bool) -> None:
    structure = structure_of(f"SELECT c.id FROM port_call c {joined}", "postgresql")
    assert structure is not None and joins_one_each(structure, Context(Settings())) is one_each


ACCOUNTS = """
import askless
from sqlalchemy import ForeignKeyConstraint, create_engine, select
from sqlalchemy.orm import DeclarativeBase, Mapped, Session, declared_attr, joinedload, mapped_column, relationship

class Base(DeclarativeBase):
    pass

class Account(Base):
    __tablename__ = "account"
    year: Mapped[int] = mapped_column(primary_key=True)
    number: Mapped[int] = mapped_column(primary_key=True)
    lines: Mapped[list["Line"]] = relationship()
    stamps: Mapped[list["Stamp"]] = relationship()

class OfAccount:
    id: Mapped[int] = mapped_column(primary_key=True)
    year: Mapped[int]
    number: Mapped[int]
    text: Mapped[str]

    @declared_attr.directive
    def __table_args__(cls):
        return (ForeignKeyConstraint(["year", "number"], ["account.year", "account.number"]),)

class Line(OfAccount, Base):
    __tablename__ = "line"

class Stamp(OfAccount, Base):
    __tablename__ = "stamp"

engine = create_engine("sqlite://")
Base.metadata.create_all(engine)
with Session(engine) as session:
    for at in range(150):
        year, number = 2020 + at // 30, at % 30
        session.add(Account(year=year, number=number))
        session.add_all(Line(year=year, number=number, text="l" * 20) for _ in range(5))
        session.add_all(Stamp(year=year, number=number, text="s" * 20) for _ in range(4))
    session.commit()
for turn in range(2):
    with Session(engine) as session, askless.request("both"):
        both = (joinedload(Account.lines), joinedload(Account.stamps))
        [(len(a.lines), len(a.stamps)) for a in session.scalars(select(Account).options(*both)).unique()]
    with Session(engine) as session, askless.request("one"):
        [len(a.lines) for a in session.scalars(select(Account).options(joinedload(Account.lines))).unique()]
"""


def test_a_key_of_several_columns(tmp_path: Path) -> None:
    script = tmp_path / "accounts.py"
    script.write_text(ACCOUNTS)
    ran = run("capture", "app", "-o", tmp_path / "calls", "--", sys.executable, script)
    assert ran.code == 0, ran.err
    told = {one["route"]: one for one in findings(tmp_path / "calls")}
    assert told["both"]["title"] == (
        "3,000 rows where about 1,500 would do: line and stamp, both joined to account, multiply "
        "each other"
    )
    assert told["both"]["advice"][0]["code"].startswith(
        "in the query's options, selectinload(Account.stamps) instead of joinedload("
    )
    assert told["one"]["title"].startswith("750 rows of account joined with line in one query")
    edits = {
        edit["routes"][0]: edit
        for edit in run("findings", tmp_path / "calls", "--json").json["edits"]
    }
    assert (edits["both"]["queries"], edits["both"]["queries_after"]) == (1, 2)
