"""Shapes of queries and their traps on SQLAlchemy, with `HARBOUR_ASYNC=1` under an AsyncSession: see
`harness`.

Each page is a small program of its own: a relation to itself, classes in several tables, options
that are there already, limits for each parent, helpers that several pages share.
"""

from __future__ import annotations

import asyncio
import os
import re
from typing import Any

from harness import URL, edit, evaluated, given, main, page
from sqlalchemy import ForeignKey, ForeignKeyConstraint, String, create_engine, func, insert, select
from sqlalchemy.ext.asyncio import AsyncSession, create_async_engine
from sqlalchemy.orm import (
    DeclarativeBase,
    Mapped,
    Session,
    contains_eager,
    defaultload,
    defer,
    joinedload,
    lazyload,
    load_only,
    mapped_column,
    noload,
    relationship,
    selectin_polymorphic,
    selectinload,
    undefer,
)

__all__ = [
    "contains_eager",
    "defaultload",
    "defer",
    "joinedload",
    "lazyload",
    "load_only",
    "noload",
]
__all__ += ["selectin_polymorphic", "selectinload", "undefer"]


class Base(DeclarativeBase):
    """The shapes' own tables."""

    type_annotation_map = {str: String(1000)}


class Berth(Base):
    """A berth, which may have parts."""

    __tablename__ = "shape_berth"
    id: Mapped[int] = mapped_column(primary_key=True, autoincrement=False)
    name: Mapped[str] = mapped_column()
    whole_id: Mapped[int | None] = mapped_column(ForeignKey("shape_berth.id"))
    parts: Mapped[list[Berth]] = relationship(back_populates="whole", order_by="Berth.id")
    whole: Mapped[Berth | None] = relationship(back_populates="parts", remote_side=[id])


class Pilot(Base):
    """A pilot, with a long text."""

    __tablename__ = "shape_pilot"
    id: Mapped[int] = mapped_column(primary_key=True, autoincrement=False)
    name: Mapped[str] = mapped_column()
    notes: Mapped[str] = mapped_column()


class Craft(Base):
    """Anything that floats."""

    __tablename__ = "shape_craft"
    id: Mapped[int] = mapped_column(primary_key=True, autoincrement=False)
    kind: Mapped[str] = mapped_column()
    name: Mapped[str] = mapped_column()
    log: Mapped[str] = mapped_column()
    berth_id: Mapped[int] = mapped_column(ForeignKey("shape_berth.id"))
    berth: Mapped[Berth] = relationship()
    visits: Mapped[list[Visit]] = relationship(back_populates="craft", order_by="Visit.id")
    papers: Mapped[list[Paper]] = relationship(order_by="Paper.id")
    __mapper_args__ = {"polymorphic_on": "kind", "polymorphic_identity": "craft"}


class Tug(Craft):
    """In a table of its own, next to Craft's."""

    __tablename__ = "shape_tug"
    id: Mapped[int] = mapped_column(ForeignKey("shape_craft.id"), primary_key=True)
    pull: Mapped[int] = mapped_column()
    __mapper_args__ = {"polymorphic_identity": "tug"}


class Barge(Craft):
    """The same."""

    __tablename__ = "shape_barge"
    id: Mapped[int] = mapped_column(ForeignKey("shape_craft.id"), primary_key=True)
    tons: Mapped[int] = mapped_column()
    __mapper_args__ = {"polymorphic_identity": "barge"}


class Paper(Base):
    """A certificate of a craft."""

    __tablename__ = "shape_paper"
    id: Mapped[int] = mapped_column(primary_key=True, autoincrement=False)
    craft_id: Mapped[int] = mapped_column(ForeignKey("shape_craft.id"))
    title: Mapped[str] = mapped_column()


class Visit(Base):
    """A visit, with two pilots: two relations to one table."""

    __tablename__ = "shape_visit"
    id: Mapped[int] = mapped_column(primary_key=True, autoincrement=False)
    craft_id: Mapped[int] = mapped_column(ForeignKey("shape_craft.id"))
    inward_id: Mapped[int] = mapped_column(ForeignKey("shape_pilot.id"))
    outward_id: Mapped[int] = mapped_column(ForeignKey("shape_pilot.id"))
    day: Mapped[int] = mapped_column()
    craft: Mapped[Craft] = relationship(back_populates="visits")
    inward: Mapped[Pilot] = relationship(foreign_keys=[inward_id])
    outward: Mapped[Pilot] = relationship(foreign_keys=[outward_id])
    lines: Mapped[list[Line]] = relationship(back_populates="visit", order_by="Line.number")


class Line(Base):
    """A line of a visit's account, by a composite key."""

    __tablename__ = "shape_line"
    visit_id: Mapped[int] = mapped_column(ForeignKey("shape_visit.id"), primary_key=True)
    number: Mapped[int] = mapped_column(primary_key=True, autoincrement=False)
    text: Mapped[str] = mapped_column()
    visit: Mapped[Visit] = relationship(back_populates="lines")
    stamps: Mapped[list[Stamp]] = relationship(order_by="Stamp.id")


class Stamp(Base):
    """A stamp on a line, which it names by both columns of its key."""

    __tablename__ = "shape_stamp"
    id: Mapped[int] = mapped_column(primary_key=True, autoincrement=False)
    visit_id: Mapped[int] = mapped_column()
    number: Mapped[int] = mapped_column()
    office: Mapped[str] = mapped_column()
    __table_args__ = (
        ForeignKeyConstraint(["visit_id", "number"], ["shape_line.visit_id", "shape_line.number"]),
    )


NAMES = globals()
ASYNC = os.environ.get("HARBOUR_ASYNC") == "1"
CRAFT, LEVELS = 24, 3


def rows() -> dict[str, list[dict[str, Any]]]:
    """The rows of all tables, by name; parents first."""
    berths: list[dict[str, Any]] = []

    def grow(whole: int | None, below: int) -> None:
        number = len(berths) + 1
        berths.append({"id": number, "name": f"B{number}", "whole_id": whole})
        for _ in range(3 if below else 0):
            grow(number, below - 1)

    grow(None, LEVELS)
    crafts = range(1, CRAFT + 1)
    visits = [10 * craft + n for craft in crafts for n in range(4)]
    return {
        "shape_berth": berths,
        "shape_pilot": [{"id": n, "name": f"P{n}", "notes": "n" * 900} for n in range(1, 31)],
        "shape_craft": [
            {
                "id": n,
                "kind": "tug" if n % 2 else "barge",
                "name": f"C{n}",
                "log": "l" * 600,
                "berth_id": n % 9 + 1,
            }
            for n in crafts
        ],
        "shape_tug": [{"id": n, "pull": n} for n in crafts if n % 2],
        "shape_barge": [{"id": n, "tons": n} for n in crafts if n % 2 == 0],
        "shape_paper": [
            {"id": 10 * n + k, "craft_id": n, "title": f"T{k}"} for n in crafts for k in range(3)
        ],
        "shape_visit": [
            {
                "id": n,
                "craft_id": n // 10,
                "inward_id": n % 29 + 1,
                "outward_id": n % 23 + 1,
                "day": (n * 7) % 5,
            }
            for n in visits
        ],
        "shape_line": [
            {"visit_id": n, "number": k, "text": f"t{k}"} for n in visits for k in (1, 2)
        ],
        "shape_stamp": [
            {"id": 10 * n + k, "visit_id": n, "number": k % 2 + 1, "office": "Quay"}
            for n in visits
            for k in range(3)
        ],
    }


engine = create_engine(URL)
Base.metadata.drop_all(engine)
Base.metadata.create_all(engine)
with engine.begin() as connection:
    for name, some in rows().items():
        connection.execute(insert(Base.metadata.tables[name]), some)

CRAFTS = "select(Craft).order_by(Craft.id)"
VISITS = "select(Visit).order_by(Visit.id).limit(40)"


@page("n-plus-one")
def tree_downwards(db):
    def walk(berth):
        return [berth.name, [walk(part) for part in berth.parts]]

    top = given("select(Berth).where(Berth.whole_id.is_(None))", NAMES)
    return [walk(berth) for berth in db.scalars(top)]


@page("n-plus-one")
def tree_upwards(db):
    def wholes(berth):
        return [berth.name, *(wholes(berth.whole) if berth.whole else [])]

    leaves = given("select(Berth).where(~Berth.parts.any()).order_by(Berth.id.desc())", NAMES)
    return [wholes(berth) for berth in db.scalars(leaves)]


@page("n-plus-one")
def one_level_of_a_tree(db):
    top = given("select(Berth).where(Berth.id.in_((2, 15, 28)))", NAMES)
    return [[part.name for part in berth.parts] for berth in db.scalars(top)]


@page()
def tree_loaded(db):
    def walk(berth):
        return [berth.name, [walk(part) for part in berth.parts]]

    deep = selectinload(Berth.parts, recursion_depth=-1)
    return [
        walk(b) for b in db.scalars(select(Berth).where(Berth.whole_id.is_(None)).options(deep))
    ]


@page("n-plus-one")
def columns_of_subclasses(db):
    return [
        (craft.log[:2], craft.pull if craft.kind == "tug" else craft.tons)
        for craft in db.scalars(given(CRAFTS, NAMES))
    ]


@page("n-plus-one")
def columns_of_subclasses_below(db):
    return [
        (visit.craft.log[:2], visit.craft.pull if visit.craft.kind == "tug" else visit.craft.tons)
        for visit in db.scalars(given(VISITS, NAMES))
    ]


@page()
def columns_of_subclasses_loaded(db):
    both = select(Craft).options(selectin_polymorphic(Craft, [Tug, Barge])).order_by(Craft.id)
    return [(c.log[:2], c.pull if c.kind == "tug" else c.tons) for c in db.scalars(both)]


@page("n-plus-one")
def last_three(db):
    found = []
    for craft in db.scalars(given(CRAFTS + ".options(load_only(Craft.name))", NAMES)):
        last = select(Visit).where(Visit.craft_id == craft.id)
        last = last.order_by(Visit.day.desc(), Visit.id).limit(3)
        found.append((craft.id, [visit.id for visit in db.scalars(last)]))
    return found


@page("n-plus-one")
def below_a_lazy_list(db):
    craft = db.scalars(given("select(Craft).where(Craft.id == 3)", NAMES)).one()
    return [[line.text for line in visit.lines] for visit in craft.visits]


@page("n-plus-one")
def below_a_get(db):
    there = re.search(r"options=(\[.*\])", edit())
    craft = db.get(Craft, 4, options=evaluated(there[1], NAMES) if there else None)
    return [[line.text for line in visit.lines] for visit in craft.visits]


def _rows(db, statement):
    return list(db.scalars(statement))


@page("n-plus-one")
def by_a_helper(db):
    return [visit.inward.name for visit in _rows(db, given(VISITS, NAMES))]


@page("n-plus-one")
def by_the_same_helper(db):
    crafts = given(CRAFTS + ".options(load_only(Craft.name, Craft.berth_id))", NAMES)
    return [craft.berth.name for craft in _rows(db, crafts)]


@page("n-plus-one")
def two_relations_to_one_table(db):
    return [visit.outward.name for visit in db.scalars(given(VISITS, NAMES))]


@page("n-plus-one")
def both_relations_to_one_table(db):
    found = db.scalars(given(VISITS, NAMES))
    return [(visit.inward.name, visit.outward.name) for visit in found]


@page("n-plus-one")
def another_list_with_the_same_keys(db):
    crafts = list(db.scalars(select(Craft.id).order_by(Craft.id)))
    papers = select(Paper).order_by(Paper.id).where(Paper.craft_id.in_(range(5, 20)))
    lists = [(paper.craft_id, paper.title) for paper in db.scalars(papers)]
    visits = db.scalars(given(VISITS, NAMES))
    return [crafts, lists, [[line.text for line in visit.lines] for visit in visits]]


@page("n-plus-one")
def below_an_option(db):
    crafts = CRAFTS + ".options(load_only(Craft.name), selectinload(Craft.visits))"
    return [[v.inward.name for v in craft.visits] for craft in db.scalars(given(crafts, NAMES))]


@page("n-plus-one")
def below_a_join_of_its_own(db):
    visits = "select(Visit).join(Visit.craft).options(contains_eager(Visit.craft).load_only(Craft.name)).order_by(Visit.id).limit(40)"
    return [visit.craft.berth.name for visit in db.scalars(given(visits, NAMES)).unique()]


@page("over-wide")
def named_and_unread(db):
    crafts = CRAFTS + ".options(load_only(Craft.name, Craft.log))"
    code = edit()
    if code and not code.startswith("."):
        crafts = crafts.replace(", Craft.log", "")
    return [craft.name for craft in db.scalars(given(crafts, NAMES))]


@page("over-wide")
def wide_below_a_batch(db):
    visits = VISITS + ".options(selectinload(Visit.inward))"
    return [visit.inward.name for visit in db.scalars(given(visits, NAMES))]


@page("n-plus-one")
def deferred_and_read(db):
    crafts = CRAFTS + ".options(defer(Craft.log))"
    if edit() and not edit().startswith("."):
        crafts = CRAFTS
    return [craft.log[:3] for craft in db.scalars(given(crafts, NAMES))]


@page("n-plus-one")
def composite_key(db):
    lines = given("select(Line).order_by(Line.visit_id, Line.number).limit(30)", NAMES)
    return [[stamp.office for stamp in line.stamps] for line in db.scalars(lines)]


@page("row-multiplication")
def crossed(db):
    crafts = "select(Craft).options(joinedload(Craft.visits), joinedload(Craft.papers), load_only(Craft.name)).order_by(Craft.id)"
    there, _, other = edit().partition(" instead of ")
    if other:
        crafts = crafts.replace(other.split(";")[0], there.rpartition(", ")[2])
    found = db.scalars(evaluated(crafts, NAMES)).unique()
    return [
        (craft.name, [v.id for v in craft.visits], [p.id for p in craft.papers]) for craft in found
    ]


@page()
def nested_joins(db):
    visits = select(Visit).options(joinedload(Visit.lines).joinedload(Line.stamps))
    found = db.scalars(visits.order_by(Visit.id)).unique()
    return [
        [visit.day, [[line.text, [s.office for s in line.stamps]] for line in visit.lines]]
        for visit in found
    ]


@page("unused-load")
def unread_batch(db):
    visits = "select(Visit).options(selectinload(Visit.lines)).order_by(Visit.id).limit(40)"
    if edit():
        visits = visits.replace(".options(selectinload(Visit.lines))", "")
    return [
        (visit.day, visit.craft_id, visit.inward_id, visit.outward_id)
        for visit in db.scalars(evaluated(visits, NAMES))
    ]


@page("n-plus-one")
def eager_load_of_one(db):
    found = []
    for craft in db.scalars(given(CRAFTS + ".options(load_only(Craft.name))", NAMES)):
        own = select(Visit).where(Visit.craft_id == craft.id).options(selectinload(Visit.lines))
        found.append([len(visit.lines) for visit in db.scalars(own.order_by(Visit.id))])
    return found


@page("n-plus-one")
def few_of_many(db):
    crafts = list(db.scalars(given(CRAFTS + ".options(load_only(Craft.name))", NAMES)))
    return [[visit.id for visit in craft.visits] for craft in crafts[:5]]


@page()
def one_craft(db):
    craft = db.get(Craft, 7)
    return [craft.berth.name, [visit.day for visit in craft.visits], len(craft.papers)]


@page()
def sums_by_craft(db):
    totals = select(Visit.craft_id, func.sum(Visit.day)).group_by(Visit.craft_id)
    return [list(row) for row in db.execute(totals.order_by(Visit.craft_id))]


async def _asynchronously(function):
    drivers = {"sqlite": "sqlite+aiosqlite", "postgresql+psycopg": "postgresql+psycopg"}
    scheme, _, rest = URL.partition("://")
    doors = create_async_engine(f"{drivers.get(scheme, 'mysql+aiomysql')}://{rest}")
    async with AsyncSession(doors) as session:
        result = await session.run_sync(function)
    await doors.dispose()
    return result


def _around(function):
    if ASYNC:
        return asyncio.run(_asynchronously(function))
    with Session(engine) as session:
        return function(session)


main(_around)
