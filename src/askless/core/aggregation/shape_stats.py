"""One shape in one route: counts, times, sizes, and where it was asked."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from typing import Any, TypeVar

from askless.core.records.model import (
    CallSite,
    CaptureTables,
    Load,
    OverflowTotals,
    Request,
    Statement,
    Used,
)
from askless.core.sql.shape import Shape
from askless.core.sql.slots import Value
from askless.core.sql.structure import Structure
from askless.core.statistics import Quantiles

Thing = TypeVar("Thing", CallSite, Load)

EXAMPLES_MOST = 6
_NONE: list[Any] = []
_EMPTY: dict[Any, Any] = {}


class Example:
    """One execution kept whole, for EXPLAIN and for showing; of a join the first rows of its result
    as well.
    """

    __slots__ = ("literals", "parameters", "path", "rows", "sample", "statement")

    def __init__(self, request: Request, i: int) -> None:
        self.statement: Statement = request.statement(i)
        self.literals = request.literals[i]
        self.parameters: tuple[Value, ...] = request.parameters[i]
        self.rows = request.rows[i]
        self.path = request.path
        joins = " join " in self.statement.shape.text and self.rows > 1
        # of a join: its rows say what it multiplies
        self.sample = request.samples[i] if joins else None

    @property
    def text(self) -> str:
        """The text as it was sent."""
        return self.statement.text_with(self.literals)


class UseTotals:
    """What became of a shape's objects of one model, over all results that were followed."""

    __slots__ = ("columns", "objects", "relations", "results", "touched")

    def __init__(self) -> None:
        self.results = self.objects = self.touched = 0
        self.columns: Counter[str] = Counter()
        self.relations: Counter[str] = Counter()

    def add(self, used: Used) -> None:
        """Add one result's objects."""
        self.results += 1
        self.objects += used.objects
        self.touched += used.touched
        self.columns.update(used.columns)
        self.relations.update(used.relations)

    def merge(self, other: UseTotals) -> None:
        """Add what another piece of the capture counted."""
        self.results += other.results
        self.objects += other.objects
        self.touched += other.touched
        self.columns.update(other.columns)
        self.relations.update(other.relations)


class ShapeStats:
    """One shape in one route. `used` tells by model what became of its objects, if that was
    tracked.

    `examined` rows were read by the server to answer `examined_queries` of the queries: those of
    which it told.
    """

    __slots__ = (
        "bytes",
        "columns",
        "count",
        "duration_ns",
        "durations",
        "errors",
        "examined",
        "examined_queries",
        "examples",
        "loads",
        "places",
        "requests",
        "rows",
        "rows_most",
        "shape",
        "statement",
        "used",
        "widths",
        "widths_rows",
    )

    def __init__(self, shape: Shape, statement: Statement) -> None:
        self.shape = shape
        self.statement = statement
        self.count = self.requests = self.rows = self.rows_most = self.bytes = self.errors = 0
        self.examined = self.examined_queries = 0
        self.duration_ns = 0
        self.durations = Quantiles()
        self.columns: tuple[str, ...] = ()
        self.widths_rows = 0
        self.places: dict[CallSite, int] = {}
        # Shared and empty until there is something, as there may be very many of these; never
        # changed in place before.
        self.widths: list[int] = _NONE
        self.loads: dict[Load, int] = _EMPTY
        self.examples: list[Example] = _NONE
        self.used: dict[str, UseTotals] = _EMPTY

    def prefer(self, statement: Statement) -> None:
        """Stand for the shape by this statement, if its lists are shorter: a lookup is known from a
        list of one.
        """
        if self.shape.has_list and len(statement.text) < len(self.statement.text):
            self.statement = statement

    @property
    def structure(self) -> Structure | None:
        """What the statement asks, or None if it can't be parsed."""
        return self.statement.structure

    @property
    def parsed(self) -> Structure:
        """What the statement asks, if a pattern has judged it: that judges only what can be
        parsed.
        """
        result = self.structure
        assert result is not None
        return result

    @property
    def query_ns(self) -> float:
        """Median duration of one query."""
        return self.durations.median

    @property
    def load(self) -> Load | None:
        """What the ORM said most often."""
        return max(self.loads, key=lambda load: self.loads[load]) if self.loads else None

    def fold(
        self,
        tables: CaptureTables,
        durations: Sequence[int],
        rows: Sequence[int],
        sizes: Sequence[int],
        places: Sequence[int],
        loads: Sequence[int],
        requests: int,
    ) -> None:
        """Add some queries of so many requests up; resolve the numbers that belong to one file."""
        self.count += len(durations)
        self.duration_ns += sum(durations)
        self.durations.extend(durations)
        self.rows += sum(rows) if min(rows) >= 0 else sum(count for count in rows if count > 0)
        self.rows_most = max(self.rows_most, max(rows))
        self.bytes += sum(sizes)
        self.requests += requests
        _resolve(self.places, tables.places, places)
        if any(loads):
            self.loads = self.loads or {}
            _resolve(self.loads, tables.loads, loads)

    def add_beyond(self, total: OverflowTotals, place: CallSite | None, load: Load | None) -> None:
        """Add up queries of a request with very many that are not looked at one by one."""
        self.count += total.count
        self.duration_ns += total.duration_ns
        self.rows += total.rows
        self.bytes += total.bytes
        if place is not None:
            self.places[place] = self.places.get(place, 0) + total.count
        if load is not None:
            self.loads = self.loads or {}
            self.loads[load] = self.loads.get(load, 0) + total.count

    def keep_example(self, request: Request, number: int) -> None:
        """Keep some executions of a statement whole."""
        self.columns = self.columns or request.tables.statements[number].columns
        indices = [i for i, n in enumerate(request.statements) if n == number]
        more = [Example(request, i) for i in indices[: max(1, EXAMPLES_MOST // 2)]]
        self.examples = [*self.examples, *more][:EXAMPLES_MOST]

    def measure(self, widths: list[int], rows: int) -> None:
        """Add the bytes of each column of one result."""
        if not self.widths:
            self.widths = [0] * len(widths)
        if len(self.widths) == len(widths):
            self.widths = [a + b for a, b in zip(self.widths, widths, strict=True)]
            self.widths_rows += max(rows, 0)

    def use(self, used: list[Used]) -> None:
        """Add what became of one result."""
        self.used = self.used or {}
        for one in used:
            self.used.setdefault(one.model, UseTotals()).add(one)

    def examine(self, rows: int | None) -> None:
        """Add the rows that the server read for one query, if it reported them."""
        if rows is not None:
            self.examined += rows
            self.examined_queries += 1

    def merge(self, other: ShapeStats) -> None:
        """Add what another piece of the capture counted."""
        self.prefer(other.statement)
        self.count += other.count
        self.requests += other.requests
        self.rows += other.rows
        self.rows_most = max(self.rows_most, other.rows_most)
        self.bytes += other.bytes
        self.errors += other.errors
        self.examined += other.examined
        self.examined_queries += other.examined_queries
        self.duration_ns += other.duration_ns
        self.durations.merge(other.durations)
        self.columns = self.columns or other.columns
        if not self.widths:
            self.widths, self.widths_rows = list(other.widths), other.widths_rows
        elif len(other.widths) == len(self.widths):
            self.widths = [a + b for a, b in zip(self.widths, other.widths, strict=True)]
            self.widths_rows += other.widths_rows
        for place, count in other.places.items():
            self.places[place] = self.places.get(place, 0) + count
        self.loads, self.used = self.loads or {}, self.used or {}
        for load, count in other.loads.items():
            self.loads[load] = self.loads.get(load, 0) + count
        for model, totals in other.used.items():
            self.used.setdefault(model, UseTotals()).merge(totals)
        self.examples = (self.examples + other.examples)[:EXAMPLES_MOST]


def _resolve(totals: dict[Thing, int], known: dict[int, Thing], numbers: Sequence[int]) -> None:
    """Count what numbers of a file stand for; 0 stands for nothing."""
    first = numbers[0]
    counts = {first: len(numbers)} if numbers.count(first) == len(numbers) else Counter(numbers)
    for number, count in counts.items():
        result = known.get(number)
        if result is not None:
            totals[result] = totals.get(result, 0) + count
