"""Proves a set of indexes by the real planner's word: all are built on copies, then one after the
other is taken away.

What no plan uses, and what the others answer as cheaply, is not needed. Where the planner says what
it expects a statement to cost, costs are compared; elsewhere the statements run, and what they make
the server touch is counted. Neither is a time.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from contextlib import suppress
from enum import StrEnum

import msgspec
from sqlalchemy import inspect
from sqlalchemy.engine import URL, Connection

from askless.core.errors import AskLessError
from askless.core.plans.tree import walk
from askless.core.progress import Progress, quiet
from askless.core.records.index_ddl import drop_index
from askless.core.sql.parsing import parse
from askless.core.sql.statements import checked_select, qualified_tables
from askless.core.sql.structure_store import structure_of
from askless.database.connecting import connect, mapped_errors, shown
from askless.database.driver_query import DriverQuery
from askless.database.explaining import attempt, explain, query_of
from askless.database.index_trial import TriedStatement
from askless.database.preflight import check, check_quiet
from askless.database.servers import Limits, ScratchTables, server_of

SLACK = 1.05  # what taking an index away may cost any statement
SLACK_OF_ALL = 1.01  # and all of them together
PLANNER_COST = "planner cost"
HARM = 1.3  # times dearer with an index than without it: the planner was led astray
GRAIN = 200.0  # what is counted may be off by that much, and no one feels it


class IndexOutcome(StrEnum):
    """What became of an index."""

    KEPT = "kept"
    UNUSED = "unused"  # no plan uses it
    SPARED = "spared"  # the others are as cheap without it


class PlannedIndex(msgspec.Struct, frozen=True):
    """An index to prove, by its name and DDL, and its table."""

    name: str
    ddl: str
    table: str


class Cost(msgspec.Struct, frozen=True):
    """What a statement costs without the set, and with what is left of it, in the proof's unit."""

    text: str
    before: float
    after: float


class IndexSetTrial(msgspec.Struct, frozen=True):
    """What became of each index, and of each that was to be dropped: whether a statement got dearer
    without it.

    `harmed` are, for an index that was kept, statements for which the planner does worse with it.
    `skipped` counts statements that could not be asked: they are refused by the server, name a
    schema, or call what is not known to be harmless.
    """

    where: str
    unit: str
    fates: dict[str, IndexOutcome]
    needed: dict[str, bool]
    harmed: dict[str, tuple[str, ...]]
    costs: tuple[Cost, ...]
    skipped: int
    cleaned: tuple[str, ...] = ()


class _Seen(msgspec.Struct, frozen=True):
    """What the planner says of one statement: its cost, None if that can't be said, and the indexes
    that it uses.
    """

    cost: float | None
    used: frozenset[str]
    unit: str


def prove(
    url: URL,
    wanted: Sequence[PlannedIndex],
    spare: Sequence[PlannedIndex],
    statements: Sequence[TriedStatement],
    limits: Limits | None = None,
    progress: Progress = quiet,
) -> IndexSetTrial:
    """Prove a set of indexes for some statements, and then that those of `spare` (with a DROP
    INDEX) can go.

    Raises AskLessError: nothing-to-test, too-large, index-refused, and what the database says.
    """
    limits = limits or Limits()
    backend = url.get_backend_name()
    with connect(url, limits) as connection:
        known = {name.lower() for name in inspect(connection).get_table_names()}
        runnable = [one for one in statements if _may_be_asked(connection, one, known)]
        if not runnable:
            raise AskLessError(
                "nothing-to-test",
                "none of the capture's statements can run on copies",
                "omit --test",
            )
        own = [index.table for index in (*wanted, *spare)]
        tables = list(
            dict.fromkeys([*own, *(name for one in runnable for name in _tables_of(one, backend))])
        )
        progress("checking for other sessions")
        check_quiet(connection, tables, limits)
    progress("making private copies of the tables")
    with (
        mapped_errors(shown(url), limits),
        server_of(url).workshop(url, limits, tables) as workshop,
    ):
        return _Bench(workshop, runnable, statements, limits, progress).prove(wanted, spare)


def _may_be_asked(connection: Connection, one: TriedStatement, known: Collection[str]) -> bool:
    """Whether a statement can be asked of copies: it names no schema, its tables are there, and it
    does nothing unknown.
    """
    system = one.system or server_of(connection).system(connection)
    structure, parsed = structure_of(one.text, system), parse(one.text, system)
    if structure is None or parsed is None or qualified_tables(parsed.tree):
        return False
    if not structure.tables or not all(name.lower() in known for name in structure.tables):
        return False
    try:
        with attempt(connection):
            check(
                connection,
                query_of(connection, one.text, one.parameters, one.names, system),
                runs=False,
            )
    except AskLessError:
        return False
    return True


def _tables_of(one: TriedStatement, system: str) -> tuple[str, ...]:
    structure = structure_of(one.text, one.system or system)
    return structure.tables if structure is not None else ()


class _Bench:
    """The copies, and the statements that are asked of them again and again."""

    def __init__(
        self,
        workshop: ScratchTables,
        statements: Sequence[TriedStatement],
        every: Sequence[TriedStatement],
        limits: Limits,
        progress: Progress,
    ) -> None:
        self.workshop, self.limits, self.progress = workshop, limits, progress
        self.connection = workshop.connection
        self.system = server_of(self.connection).system(self.connection)
        self.queries: list[DriverQuery] = []
        for one in statements:
            with suppress(AskLessError):  # what the server refuses
                query = query_of(self.connection, one.text, one.parameters, one.names, one.system)
                explain(self.connection, query, limits=limits)
                self.queries.append(query)
        self.skipped = len(every) - len(self.queries)
        texts = {query.text for query in self.queries}
        unheard = [one for one in every if one.text not in texts]
        self.unheard = {name.lower() for one in unheard for name in _tables_of(one, self.system)}

    def _harmed_by(self, with_it: Sequence[_Seen], without: Sequence[_Seen]) -> tuple[str, ...]:
        """The statements that an index makes more expensive."""
        return tuple(
            query.text
            for query, one, other in zip(self.queries, with_it, without, strict=True)
            if _is_harm(other, one)
        )

    def prove(self, wanted: Sequence[PlannedIndex], spare: Sequence[PlannedIndex]) -> IndexSetTrial:
        """See the function of this name."""
        self.progress("planning without the indexes")
        before = self._seen()
        for index in wanted:
            self.progress(f"building {index.name}")
            self.workshop.run(index.ddl)
        self.progress("planning with all of them")
        now = self._seen()
        fates: dict[str, IndexOutcome] = {}
        harmed: dict[str, tuple[str, ...]] = {}
        # What gains least is last, and is the first that may go.
        for index in reversed(wanted):
            if index.table.lower() in self.unheard:  # what could not be asked may need it
                fates[index.name] = IndexOutcome.KEPT
                continue
            used = any(index.name in one.used for one in now)
            self.workshop.run(drop_index(index.name, index.table, self.system))
            then = self._seen()
            if _as_cheap(now, then):
                fates[index.name] = IndexOutcome.SPARED if used else IndexOutcome.UNUSED
                now = then
            else:
                harmed[index.name] = self._harmed_by(now, then)
                self.progress(f"building {index.name} again")
                self.workshop.run(index.ddl)
                fates[index.name], now = IndexOutcome.KEPT, self._seen()
        needed = {}
        for index in spare:
            self.progress(f"planning without {index.name}")
            self.workshop.run(index.ddl)
            then = self._seen()
            needed[index.name] = index.table.lower() in self.unheard or not _as_cheap(now, then)
            now = then
        costs = [
            Cost(query.text, one.cost, other.cost)
            for query, one, other in zip(self.queries, before, now, strict=True)
            if one.cost is not None and other.cost is not None
        ]
        return IndexSetTrial(
            where=self.workshop.where,
            unit=next((one.unit for one in now if one.unit), ""),
            fates={index.name: fates[index.name] for index in wanted},
            needed=needed,
            harmed=harmed,
            costs=tuple(costs),
            skipped=self.skipped,
            cleaned=self.workshop.cleaned,
        )

    def _seen(self) -> list[_Seen]:
        return [self._of(query) for query in self.queries]

    def _of(self, query: DriverQuery) -> _Seen:
        plan = explain(self.connection, query, limits=self.limits)
        used = frozenset(name for node in walk(plan) for name in node.index.split(", ") if name)
        costs = [
            node.estimate.cost
            for node in plan
            if node.estimate is not None and node.estimate.cost is not None
        ]
        if costs:
            return _Seen(sum(costs), used, PLANNER_COST)
        try:
            checked_select(query.text, query.system)
            with attempt(self.connection, self.limits):
                work = server_of(self.connection).work(self.connection, query)
        except AskLessError:  # a write is only planned
            work = None
        return _Seen(None, used, "") if work is None else _Seen(float(work[1]), used, work[0])


def _is_harm(without: _Seen, having: _Seen) -> bool:
    """Whether a statement costs much more with an index than without it."""
    if without.cost is None or having.cost is None:
        return False
    return having.cost > HARM * without.cost + (0.0 if having.unit == PLANNER_COST else GRAIN)


def _as_cheap(now: Sequence[_Seen], then: Sequence[_Seen]) -> bool:
    """Whether each statement costs about the same then; one without a cost must keep to the indexes
    that it uses.
    """
    pairs = list(zip(now, then, strict=True))
    if any(
        one.used != other.used for one, other in pairs if one.cost is None or other.cost is None
    ):
        return False
    costs = [
        (one.cost, other.cost, 0.0 if one.unit == PLANNER_COST else GRAIN)
        for one, other in pairs
        if one.cost is not None and other.cost is not None
    ]
    if any(after > SLACK * before + grain for before, after, grain in costs):
        return False
    befores, afters, grains = (
        (sum(column) for column in zip(*costs, strict=True)) if costs else (0.0, 0.0, 0.0)
    )
    return afters <= SLACK_OF_ALL * befores + grains
