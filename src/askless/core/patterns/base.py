"""What a pattern is, and what patterns share."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, Protocol

import msgspec

from askless.core.advice.orm import Models
from askless.core.findings import Cost, Finding, Line, finding_key
from askless.core.lineage import structure as structure_of
from askless.core.model import Place, Request, Schema
from askless.core.settings import Settings
from askless.core.shape_stats import ShapeStats
from askless.core.sql.masking import masked
from askless.core.sql.structure import Structure
from askless.core.summary import RequestView, RouteStats


class Context(msgspec.Struct, frozen=True):
    """What a pattern may use when it judges: thresholds, the schema where it is known, and the ORM's models."""

    settings: Settings
    schema: Schema | None = None
    models: Models = {}


class Pattern(Protocol):
    """A way of asking too much. `look` sees each request with a repeated shape; `judge` sees a route's totals."""

    name: str

    def look(self, view: RequestView, settings: Settings) -> None:
        """Add to `view.route.tallies` what the request shows, under keys that begin with the pattern's name."""

    def judge(self, route: RouteStats, context: Context, found: list[Finding]) -> Iterable[Finding]:
        """The findings of a route. `found` are those of the patterns before it in this route."""


class ByTotals:
    """A pattern that judges a route's totals, shape by shape; shapes that another finding explains are left to it."""

    name = ""
    yields_to: tuple[str, ...] = ("n-plus-one", "already-loaded")  # patterns that explain a shape better

    def look(self, view: RequestView, settings: Settings) -> None:
        """Nothing: totals are enough."""

    def judge(self, route: RouteStats, context: Context, found: list[Finding]) -> Iterable[Finding]:
        """At most one finding a SELECT."""
        claimed = {finding.shape for finding in found if finding.pattern in self.yields_to}
        for stats in route.asked():
            structure = stats.structure
            if structure is None or structure.kind != "select" or structure.aggregates or stats.shape.digest in claimed:
                continue
            finding = self.judge_shape(route, stats, structure, context)
            if finding is not None:
                yield finding

    def judge_shape(
        self, route: RouteStats, stats: ShapeStats, structure: Structure, context: Context
    ) -> Finding | None:
        """The finding of one shape, or None."""
        raise NotImplementedError


def shown_sql(stats: ShapeStats, settings: Settings) -> str:
    """The statement as reports show it."""
    text = stats.statement.text.strip()
    return text if settings.show_values else masked(text, stats.statement.system)


def call_path(request: Request, i: int) -> tuple[str, ...]:
    """The lines that led to a query, innermost first; a line that calls itself again counts once.

    Two calls of one helper from different lines are different code, however deep the helper lies.
    """
    place = request.place(i)
    steps: list[str] = []
    for step in place.path() if place is not None else ():
        if not steps or steps[-1] != str(step):
            steps.append(str(step))
    return tuple(steps)


def by_code(request: Request, indices: list[int]) -> list[list[int]]:
    """Executions grouped by the code that asked."""
    numbers = {request.places[i] for i in indices}
    if len(numbers) == 1:
        return [indices]
    paths = {number: call_path(request, next(i for i in indices if request.places[i] == number)) for number in numbers}
    groups: dict[tuple[str, ...], list[int]] = {}
    for i in indices:
        groups.setdefault(paths[request.places[i]], []).append(i)
    return list(groups.values())


def writes_of(view: RequestView) -> list[tuple[int, str]]:
    """(query, table) of all writes in a request; found once a request."""
    if view.writes is None:
        request = view.request
        written: dict[int, str] = {}
        for number in set(request.statements):
            structure = structure_of(request.tables.statements[number])
            if structure is not None and structure.kind in ("insert", "update", "delete"):
                written[number] = structure.main.lower()
        view.writes = [(i, written[n]) for i, n in enumerate(request.statements) if n in written] if written else []
    return view.writes


def add_counts(totals: dict[Place, int], others: dict[Place, int]) -> None:
    """Add another piece's counts of places."""
    for place, count in others.items():
        totals[place] = totals.get(place, 0) + count


def add_places(totals: dict[Place, int], request: Request, indices: Iterable[int]) -> None:
    """Count the places of some queries of a request."""
    for i in indices:
        place = request.place(i)
        if place is not None:
            totals[place] = totals.get(place, 0) + 1


def lines_of(places: dict[Place, int]) -> tuple[Line, ...]:
    """The lines of code, those that ask most first."""
    counts: dict[tuple[str, int, str], int] = {}
    for place, count in places.items():
        key = (place.file, place.line, place.function)
        counts[key] = counts.get(key, 0) + count
    ordered = sorted(counts.items(), key=lambda item: (-item[1], item[0]))
    return tuple(Line(file, line, function, count) for (file, line, function), count in ordered)


def path_of(places: dict[Place, int]) -> tuple[Line, ...]:
    """The call path of the place that asks most, innermost first."""
    if not places:
        return ()
    most = max(places, key=lambda place: (places[place], str(place)))
    return tuple(Line(place.file, place.line, place.function) for place in most.path())


def code_name(lines: tuple[Line, ...]) -> str:
    """File and function of the first line, without line numbers and folders: it outlives edits."""
    return f"{lines[0].file.replace(chr(92), '/').rsplit('/', 1)[-1]}:{lines[0].function}" if lines else ""


def cost_of(
    route: RouteStats, stats: ShapeStats, queries: float, avoidable: float, requests: int, loop_ms: float = 0.0
) -> Cost:
    """The cost of `avoidable` queries a request: avoided queries x the median time of such a query."""
    query_ms = stats.query_ns / 1e6
    saving_ms = avoidable * query_ms
    request_ms = route.durations.median / 1e6
    return Cost(
        queries=queries,
        avoidable=avoidable,
        query_ms=query_ms,
        saving_ms=saving_ms,
        share=min(saving_ms / request_ms, 1.0) if request_ms else 0.0,
        total_ms=saving_ms * requests,
        loop_ms=loop_ms,
    )


def finding_of(
    pattern: str,
    route: RouteStats,
    stats: ShapeStats,
    context: Context,
    places: dict[Place, int],
    requests: int,
    **rest: Any,
) -> Finding:
    """A finding about one shape in one route; `rest` is what its pattern has to say."""
    lines = lines_of(places)
    structure, load = stats.structure, stats.load
    return Finding(
        key=finding_key(pattern, route.route, stats.shape.digest, code_name(lines)),
        pattern=pattern,
        route=route.route,
        requests=requests,
        shape=stats.shape.digest,
        sql=shown_sql(stats, context.settings),
        tables=structure.tables if structure is not None else (),
        lines=lines,
        path=path_of(places),
        relation=f"{load.model}.{load.relation}" if load is not None and load.relation else "",
        **rest,
    )
