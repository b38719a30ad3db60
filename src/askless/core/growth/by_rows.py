"""How what a route asks grows with the rows that it shows: queries = a + b x rows, fitted over
requests of different sizes.

A route's list is the query that comes once in each request and whose rows differ; the shapes that
come more or less often are explained by the rows of the query before them. All fits are Theil's (H.
Theil, A rank-invariant method of linear and polynomial regression analysis, 1950; P. K. Sen, 1968):
the median of the slopes of all pairs, which single odd requests do not move.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from enum import StrEnum
from itertools import combinations
from statistics import fmean

import msgspec

from askless.core.records.model import Request, Statement
from askless.core.statistics import median

# requests of a route that are kept; beyond that every second one goes, again and again
POINTS_MOST = 400
SIZES_LEAST = 3
SPREAD_LEAST = 1.5  # the largest size over the smallest
PAIRS_MOST = 60  # different sizes that are paired
_FITS = 0.1  # of the mean, by which a shape's counts may be off what explains them
_FLAT = 0.02  # queries for each row, below which a route does not grow
_BENDS = 1.5  # how much steeper the upper half may be than the lower one


class Outcome(StrEnum):
    """What a route's growth comes to."""

    GROWS = "grows"
    FLAT = "does not grow"
    TOO_FEW = "too few sizes"
    UNCLEAR = "unclear"


class LinearFit(msgspec.Struct, frozen=True):
    """y = `base` + `slope` x."""

    base: float
    slope: float

    def at(self, x: float) -> float:
        """y at a size."""
        return max(self.base + self.slope * x, 0.0)


class Term(msgspec.Struct, frozen=True):
    """So many queries for each row of a table; `by_list`: the rows are those of the route's
    list.
    """

    factor: float
    table: str
    by_list: bool


class Point(msgspec.Struct, frozen=True):
    """One request: queries, nanoseconds, bytes; by shape how often it came and how many rows it
    gave in all.
    """

    queries: int
    elapsed_ns: int
    database_ns: int
    bytes: int
    shapes: dict[str, tuple[int, int]]


class Growth(msgspec.Struct, frozen=True):
    """A route's growth. `sizes` are the different numbers of rows of `table`, smallest first;
    `constant` and `terms` are the formula.

    `bends`: time grows faster than in a line.
    """

    route: str
    requests: int
    outcome: Outcome
    table: str = ""
    sizes: tuple[int, ...] = ()
    constant: float = 0.0
    terms: tuple[Term, ...] = ()
    queries: LinearFit = LinearFit(0, 0)
    elapsed_ms: LinearFit = LinearFit(0, 0)
    bytes: LinearFit = LinearFit(0, 0)
    bends: bool = False
    points: tuple[tuple[int, int, float], ...] = ()  # rows, queries, ms


class _Route:
    """The requests of a route, thinned out evenly where there are many."""

    def __init__(self) -> None:
        self.points: list[Point] = []
        self.requests = 0
        self.every = 1
        self.statements: dict[str, Statement] = {}

    def add(self, request: Request) -> None:
        """Count a request in."""
        self.requests += 1
        if self.requests % self.every:
            return
        self.points.append(_point(request, self.statements))
        if len(self.points) > POINTS_MOST:
            del self.points[::2]
            self.every *= 2


def _point(request: Request, statements: dict[str, Statement]) -> Point:
    shapes: dict[str, tuple[int, int]] = {}
    queries = database_ns = size = 0
    for i, number in enumerate(request.statements):
        statement = request.tables.statements[number]
        if statement.shape.noise or i in request.errors:
            continue
        digest = statement.shape.digest
        statements.setdefault(digest, statement)
        count, rows = shapes.get(digest, (0, 0))
        shapes[digest] = count + 1, rows + max(request.rows[i], 0)
        queries += 1
        database_ns += request.durations_ns[i]
        size += request.bytes[i]
    return Point(queries, max(request.end_ns - request.start_ns, 0), database_ns, size, shapes)


class Sizes:
    """Takes requests as they come; warm-up requests are omitted."""

    def __init__(self) -> None:
        self._routes: dict[str, _Route] = {}

    def add(self, request: Request) -> None:
        """Count a request in."""
        if not request.warm_up:
            self._routes.setdefault(request.route, _Route()).add(request)

    def growth(self) -> list[Growth]:
        """The growth of each route that has queries, by what came so far."""
        routes = sorted(self._routes.items())
        return [
            _judged(name, route) for name, route in routes if any(p.queries for p in route.points)
        ]


def growth_of(requests: Iterable[Request]) -> list[Growth]:
    """The growth of each route of a capture."""
    sizes = Sizes()
    for request in requests:
        sizes.add(request)
    return sizes.growth()


def theil(xs: Sequence[float], ys: Sequence[float]) -> LinearFit:
    """A straight line through points by the medians of their values at each x; flat where there is
    one x only.
    """
    by_x: dict[float, list[float]] = {}
    for x, y in zip(xs, ys, strict=True):
        by_x.setdefault(x, []).append(y)
    points = [(x, median(values)) for x, values in sorted(by_x.items())]
    points = points[:: max(len(points) // PAIRS_MOST, 1)]
    slopes = [(b[1] - a[1]) / (b[0] - a[0]) for a, b in combinations(points, 2)]
    slope = median(slopes) if slopes else 0.0
    return LinearFit(median([y - slope * x for x, y in points]), slope)


def _fit(
    xs: list[float], points: Sequence[Point], terms: tuple[Term, ...], explained: list[float]
) -> tuple[Outcome, float, LinearFit]:
    """(the outcome, queries that do not grow, all queries by the size of the list)."""
    counts = [float(point.queries) for point in points]
    rest = [count - part for count, part in zip(counts, explained, strict=True)]
    constant = median(rest)
    queries = theil(xs, counts)
    if terms and all(term.by_list for term in terms):
        queries = LinearFit(constant, sum(term.factor for term in terms))
    if fmean([abs(one - constant) for one in rest]) > max(_FITS * fmean(counts), 0.5):
        return Outcome.UNCLEAR, constant, queries
    flat = not terms and abs(queries.slope) < _FLAT
    return Outcome.FLAT if flat else Outcome.GROWS, constant, queries


def _judged(name: str, route: _Route) -> Growth:
    points = route.points
    listed = _list_of(points, route.statements)
    if listed is None:
        return Growth(name, route.requests, Outcome.TOO_FEW)
    xs = [float(point.shapes[listed][1]) for point in points]
    sizes = tuple(sorted({int(x) for x in xs}))
    table = _table(route.statements[listed])
    drawn = tuple((int(x), p.queries, p.elapsed_ns / 1e6) for x, p in zip(xs, points, strict=True))
    if len(sizes) < SIZES_LEAST or sizes[-1] < SPREAD_LEAST * max(sizes[0], 1):
        return Growth(name, route.requests, Outcome.TOO_FEW, table, sizes, points=drawn)
    times = [point.elapsed_ns / 1e6 for point in points]
    terms, explained = _terms(points, listed, route.statements)
    outcome, constant, queries = _fit(xs, points, terms, explained)
    return Growth(
        name,
        route.requests,
        outcome,
        table,
        sizes,
        constant,
        terms,
        queries,
        theil(xs, times),
        theil(xs, [float(point.bytes) for point in points]),
        _is_bent(xs, times),
        drawn,
    )


def _table(statement: Statement) -> str:
    structure = statement.structure
    return structure.main if structure is not None else ""


def _list_of(points: Sequence[Point], statements: dict[str, Statement]) -> str | None:
    """The route's list: of the SELECTs that come once in each request, the one whose rows explain
    its queries best.
    """
    best: tuple[tuple[float, float], str] | None = None
    queries = [float(point.queries) for point in points]
    for digest, statement in statements.items():
        if not statement.shape.text.startswith(("select ", "with ")):
            continue
        if any(point.shapes.get(digest, (0, 0))[0] != 1 for point in points):
            continue
        xs = [float(point.shapes[digest][1]) for point in points]
        if len(set(xs)) < 2:
            continue
        line = theil(xs, queries)
        off = sum(abs(y - line.at(x)) for x, y in zip(xs, queries, strict=True))
        rank = (off, -max(xs))
        if best is None or rank < best[0]:
            best = rank, digest
    return best[1] if best else None


def _terms(
    points: Sequence[Point], listed: str, statements: dict[str, Statement]
) -> tuple[tuple[Term, ...], list[float]]:
    """What the shapes that come more or less often follow: so many for each row of a table; and
    their sum in each request.
    """
    explained = [0.0] * len(points)
    by_parent: dict[str, float] = {}
    for digest in statements:
        counts = [float(point.shapes.get(digest, (0, 0))[0]) for point in points]
        if len(set(counts)) < 2:
            continue
        parent = _parent_of(digest, counts, points, listed, statements)
        if parent is None:
            continue
        rows = [float(point.shapes.get(parent, (0, 0))[1]) for point in points]
        factor = theil(rows, counts).slope
        factor = round(factor) if abs(factor - round(factor)) < 0.05 and round(factor) else factor
        by_parent[parent] = by_parent.get(parent, 0.0) + factor
        explained = [part + factor * x for part, x in zip(explained, rows, strict=True)]
    return tuple(
        Term(factor, _table(statements[one]), one == listed) for one, factor in by_parent.items()
    ), explained


def _parent_of(
    digest: str,
    counts: Sequence[float],
    points: Sequence[Point],
    listed: str,
    statements: dict[str, Statement],
) -> str | None:
    """The shape whose rows a shape's counts follow best, the route's list where it does as well as
    any; None for none.
    """
    mean = sum(counts) / len(counts)
    best: tuple[float, str] | None = None
    for other in _with_list_first(listed, statements):
        rows = [float(point.shapes.get(other, (0, 0))[1]) for point in points]
        if other == digest or len(set(rows)) < 2:
            continue
        line = theil(rows, counts)
        off = sum(abs(y - line.at(x)) for x, y in zip(rows, counts, strict=True)) / len(points)
        if line.slope > 0 and off <= _FITS * mean and (best is None or off < best[0] - 0.01 * mean):
            best = off, other
    return best[1] if best else None


def _with_list_first(listed: str, statements: dict[str, Statement]) -> Iterator[str]:
    yield listed
    yield from (digest for digest in statements if digest != listed)


def _is_bent(xs: Sequence[float], ys: Sequence[float]) -> bool:
    """Whether the upper half of the sizes is much steeper than the lower one."""
    middle = median(sorted(set(xs)))
    halves = []
    for upper in (False, True):
        chosen = [
            (x, y) for x, y in zip(xs, ys, strict=True) if (x >= middle if upper else x <= middle)
        ]
        if len({x for x, _ in chosen}) < SIZES_LEAST:
            return False
        halves.append(theil([x for x, _ in chosen], [y for _, y in chosen]).slope)
    return halves[0] > 0 and halves[1] > _BENDS * halves[0]


def formula(growth: Growth) -> str:
    """The formula in words: 1 + 2 x port_call."""
    constant = (
        round(growth.constant)
        if abs(growth.constant - round(growth.constant)) < 0.05
        else growth.constant
    )
    parts = [f"{constant:,.3g}"]
    parts += [f"{term.factor:,.3g} × {term.table or 'rows'}" for term in growth.terms]
    return " + ".join(parts)
