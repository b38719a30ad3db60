"""Budgets: the most that a request of a route may ask, and what a capture makes of them."""

from __future__ import annotations

import math
import re
from collections.abc import Iterable, Sequence
from fnmatch import fnmatchcase

import msgspec

from askless.core.aggregation.route_rows import RouteRow, route_row
from askless.core.aggregation.summary import RouteStats, Summary
from askless.core.findings.finding import Finding
from askless.core.formatting import plural, size

MEASURES = ("queries", "rows", "bytes", "database_ms")
_SIZE = re.compile(r"\s*(\d+(?:\.\d+)?)\s*(B|KiB|MiB)\s*")
_UNITS = {"B": 1, "KiB": 1024, "MiB": 1024**2}


class Budget(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The most of one route, or of all that a `*` stands for. None: it is not limited.

    `queries` is the most of any request; `rows`, `bytes` and `database_ms` are for a request in the
    middle of the others: means, of which the time counts each shape with its median. `allowed` are
    the patterns that may be found; () for none.
    """

    route: str
    queries: int | None = None
    rows: float | None = None
    bytes: int | str | None = None
    database_ms: float | None = None
    allowed: tuple[str, ...] | None = None

    def limit(self, measure: str) -> float | None:
        """The most of a measure. Raises ValueError for a size that can't be read."""
        value = getattr(self, measure)
        return _bytes_of(value) if isinstance(value, str) else value


def _bytes_of(text: str) -> float:
    match = _SIZE.fullmatch(text)
    if match is None:
        raise ValueError(f"{text!r} is not a size: write 4096, or 200 KiB, or 1.5 MiB")
    return float(match[1]) * _UNITS[match[2]]


class BudgetRow(msgspec.Struct, frozen=True):
    """One limit of one route: what was seen against the most that may be. `findings` names findings
    that may not be there, `allowed` the patterns that may.
    """

    route: str
    measure: str
    limit: float
    actual: float
    over: bool
    findings: tuple[Finding, ...] = ()
    allowed: tuple[str, ...] = ()


def seen_in(route: RouteStats) -> dict[str, float]:
    """What a route's requests ask, by measure."""
    row: RouteRow = route_row(route)
    n = max(route.requests, 1)
    typical_ns = sum(stats.query_ns * stats.count for stats in route.own_shapes()) / n
    return {
        "queries": row.queries_max,
        "rows": row.rows,
        "bytes": row.bytes,
        "database_ms": typical_ns / 1e6,
    }


def budget_for(route: str, budgets: Sequence[Budget]) -> Budget | None:
    """The budget of a route: that of its very name, else the first whose `*` fit it."""
    exact = (budget for budget in budgets if budget.route == route)
    fitting = (
        budget
        for budget in budgets
        if "*" in budget.route and fnmatchcase(route, _literal(budget.route))
    )
    return next(exact, None) or next(fitting, None)


def _literal(pattern: str) -> str:
    """A pattern in which `*` alone stands for anything: brackets are part of many routes' names."""
    return "".join(f"[{sign}]" if sign in "?[" else sign for sign in pattern)


def judge(
    summary: Summary, budgets: Sequence[Budget], findings: Sequence[Finding]
) -> list[BudgetRow]:
    """Each limit of each route that has a budget, those that are over first."""
    results: list[BudgetRow] = []
    for route in summary.routes.values():
        budget = budget_for(route.route, budgets) if route.requests else None
        if budget is None:
            continue
        seen = seen_in(route)
        for measure in MEASURES:
            limit = budget.limit(measure)
            if limit is not None:
                results.append(
                    BudgetRow(route.route, measure, limit, seen[measure], seen[measure] > limit)
                )
        if budget.allowed is not None:
            wrong = tuple(
                f for f in findings if f.route == route.route and f.pattern not in budget.allowed
            )
            results.append(
                BudgetRow(
                    route.route,
                    "patterns",
                    0.0,
                    float(len(wrong)),
                    bool(wrong),
                    wrong,
                    budget.allowed,
                )
            )
    return sorted(results, key=lambda one: (not one.over, one.route))


def unmet(summary: Summary, budgets: Iterable[Budget]) -> list[Budget]:
    """Budgets for routes of which the capture has no request."""
    routes = summary.requested
    return [
        budget
        for budget in budgets
        if budget.route not in routes
        and not (
            "*" in budget.route
            and any(fnmatchcase(name, _literal(budget.route)) for name in routes)
        )
    ]


def amount(measure: str, value: float) -> str:
    """An amount of a measure, in words."""
    if measure == "bytes":
        return size(value, "bytes")
    if measure == "database_ms":
        return f"{value:,.1f} ms in the database"
    return plural(value, {"queries": "query", "rows": "row", "patterns": "finding"}[measure])


ROOM = 1.2  # how much more than was seen a proposed budget leaves, for rows and bytes


def propose(summary: Summary, findings: Sequence[Finding]) -> list[Budget]:
    """Budgets that hold what a capture asks now: queries to the number, rows and bytes with some
    room; no times.
    """
    results = []
    for name, route in sorted(summary.routes.items()):
        if not route.requests:
            continue
        seen = seen_in(route)
        results.append(
            Budget(
                route=name,
                queries=math.ceil(seen["queries"]),
                rows=_round_up(seen["rows"] * ROOM),
                bytes=_round_up(seen["bytes"] * ROOM),
                allowed=tuple(
                    sorted({finding.pattern for finding in findings if finding.route == name})
                ),
            )
        )
    return results


def _round_up(value: float) -> int:
    """To two digits, upwards."""
    if value <= 0:
        return 0
    step = int(10 ** max(math.floor(math.log10(value)) - 1, 0))
    return math.ceil(value / step) * step
