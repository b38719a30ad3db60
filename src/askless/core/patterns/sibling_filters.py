"""sibling-filters: three aggregates or more of one shape in a request that differ in one constant, which is no traced key.

Not flagged: look-ups by a key that flowed (n-plus-one), the same constant again (duplicate), a write to the table in
between, polling spread over time, functions whose value changes, groups that are asked for already.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterable

from askless.core.advice import grouping
from askless.core.findings import Finding, severity
from askless.core.model import Place, Request
from askless.core.patterns.base import (
    Context,
    add_counts,
    add_places,
    cost_of,
    finding_of,
    lines_of,
    shown_sql,
    writes_of,
)
from askless.core.patterns.n_plus_one import all_values, lookup, varying
from askless.core.settings import Settings
from askless.core.shape_stats import ShapeStats
from askless.core.sql.structure import Column
from askless.core.summary import Group, RequestView, RouteStats, Tally
from askless.core.words import number, plural

NAME = "sibling-filters"


class Siblings:
    """The siblings of one shape in one route."""

    def __init__(self, stats: ShapeStats, column: Column) -> None:
        self.stats = stats
        self.column = column
        self.requests = 0
        self.queries = 0
        self.places: dict[Place, int] = {}

    def merge(self, other: Tally) -> None:
        """Add another piece's tally."""
        assert isinstance(other, Siblings)
        self.requests += other.requests
        self.queries += other.queries
        add_counts(self.places, other.places)


class SiblingFilters:
    """See the module."""

    name = NAME

    def look(self, view: RequestView, settings: Settings) -> None:
        """Find siblings in one request."""
        for group in view.groups:
            digest = group.stats.shape.digest
            if len(group.indices) < settings.repeat_least or digest in view.claimed:
                continue
            column = _column_of(view, group, settings)
            if column is None:
                continue
            key = (NAME, digest)
            tally = view.route.tallies.get(key)
            if not isinstance(tally, Siblings):
                tally = view.route.tallies[key] = Siblings(group.stats, column)
            tally.requests += 1
            tally.queries += len(group.indices)
            add_places(tally.places, view.request, group.indices)
            view.claimed.add(digest)

    def judge(self, route: RouteStats, context: Context, found: list[Finding]) -> Iterable[Finding]:
        """One finding a shape."""
        for key, tally in route.tallies.items():
            if key[0] == NAME and isinstance(tally, Siblings):
                yield _finding(route, tally, context)


def _column_of(view: RequestView, group: Group, settings: Settings) -> Column | None:
    """The column whose constant differs; None where these are no siblings."""
    structure = group.stats.structure
    request, indices = view.request, group.indices
    if structure is None or structure.kind != "select" or not structure.aggregates or structure.group_by:
        return None
    if structure.locks or structure.volatile:
        return None
    rows = all_values(request, indices)
    if len(set(rows)) < settings.repeat_least or _interrupted(view, group, settings):
        return None
    positions = varying(rows)
    predicate = lookup(structure, positions[0]) if positions is not None and len(positions) == 1 else None
    return predicate.column if predicate is not None and predicate.required and not predicate.inside else None


def _interrupted(view: RequestView, group: Group, settings: Settings) -> bool:
    """Whether a write to the tables, or a long pause, lies between the first and the last."""
    request: Request = view.request
    first, last = group.indices[0], group.indices[-1]
    structure = group.stats.structure
    assert structure is not None
    tables = {table.lower() for table in structure.tables}
    if any(first < i < last and table in tables for i, table in writes_of(view)):
        return True
    starts = [request.starts_ns[i] for i in group.indices]
    gap_ns = settings.polling_gap_ms * 1e6
    return any(after - before > gap_ns for before, after in itertools.pairwise(starts))


def _finding(route: RouteStats, tally: Siblings, context: Context) -> Finding:
    stats = tally.stats
    structure = stats.structure
    assert structure is not None
    requests = max(tally.requests, 1)
    queries = tally.queries / requests
    cost = cost_of(route, stats, queries, queries - 1, requests)
    verb = "counts rows of" if structure.counts else "aggregates rows of"
    where = f"{tally.column.table or structure.main}.{tally.column.name}"
    return finding_of(
        NAME,
        route,
        stats,
        context,
        tally.places,
        tally.requests,
        variant="count" if structure.counts else "aggregate",
        severity=severity(cost.share, cost.avoidable),
        title=f"{plural(queries, 'query')} where 1 would do: {verb} {structure.main} for one value of {tally.column.name} after the other",
        evidence="repeated",
        because=(f"{number(queries)} aggregates a request that differ in the value of {where} only",),
        cost=cost,
        advice=grouping.advise(
            shown_sql(stats, context.settings),
            stats.statement.system,
            tally.column.table or structure.main,
            tally.column.name,
            lines_of(tally.places)[0] if tally.places else None,
            f"about {plural(queries - 1, 'query')} and {cost.saving_ms:.2f} ms a request",
            structure.counts,
        ),
    )


PATTERN = SiblingFilters()
