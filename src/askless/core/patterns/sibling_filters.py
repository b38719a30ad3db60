"""sibling-filters: three aggregates or more of one shape in a request that differ in one constant,
which is not a traced key.

Not flagged: lookups by a key that flowed (n-plus-one), the same constant again (duplicate), a write
to the table in between, polling spread over time, functions whose value changes, groups that are
asked for already.
"""

from __future__ import annotations

import itertools

from askless.core.aggregation.request_view import Group, RequestView
from askless.core.aggregation.shape_stats import ShapeStats
from askless.core.aggregation.summary import Tally
from askless.core.findings.finding import severity
from askless.core.findings.remedies import Group as GroupRemedy, Key
from askless.core.findings.unavailable_fields import values_of_unknown_origin
from askless.core.formatting import number, plural
from askless.core.patterns.base import (
    ByRequests,
    Diagnosis,
    FindingDraft,
    Match,
    Rule,
    ShapeTally,
    spared,
    written_between,
)
from askless.core.patterns.keys import lookup, varying
from askless.core.patterns.polling import waits_between
from askless.core.records.model import Request
from askless.core.settings import Settings
from askless.core.sql.slots import Value
from askless.core.sql.structure import Predicate, Structure
from askless.core.sql.value_equality import meaning

RULE = Rule(
    "sibling-filters",
    "one aggregate per constant",
    "three or more aggregates of one shape that differ in one constant, or in a range that starts "
    "where another ends",
    "keys from earlier results, a write in between, polling",
)


class SiblingTotals(ShapeTally):
    """The siblings of one shape in one route. `unseen` is the doubt where no one saw the
    results.
    """

    def __init__(self, stats: ShapeStats, key: Key, buckets: bool) -> None:
        super().__init__(stats)
        self.key = key
        self.buckets = buckets
        self.unseen = ""

    def merge(self, other: Tally) -> None:
        """Add another piece's tally of the same siblings."""
        super().merge(other)
        assert isinstance(other, SiblingTotals)
        self.unseen = self.unseen or other.unseen


class SiblingFilters(ByRequests[SiblingTotals]):
    """See the module."""

    rule = RULE

    def look(self, view: RequestView, settings: Settings) -> None:
        """Find siblings in one request."""
        for group in view.groups:
            digest = group.stats.shape.digest
            if len(group.indices) < settings.repeat_least or digest in view.claimed:
                continue
            key = _key_of(view, group, settings)
            if key is None:
                continue
            tally = self.tallies(view.route).setdefault((digest,), SiblingTotals(group.stats, *key))
            tally.add(view.request, group.indices)
            tally.unseen = tally.unseen or values_of_unknown_origin(view.request.tables)
            view.claimed.add(digest)

    def diagnose(self, tally: SiblingTotals, met: Match) -> Diagnosis:
        """One a shape."""
        return _diagnosis(tally, met)


def _key_of(view: RequestView, group: Group, settings: Settings) -> tuple[Key, bool] | None:
    """The constant that differs, and whether it is a range; None where these are not siblings."""
    structure = group.stats.structure
    request, indices = view.request, group.indices
    if (
        structure is None
        or not structure.repeatable
        or not structure.aggregates
        or structure.group_by
    ):
        return None
    rows = [request.values(i) for i in indices]
    if len(set(rows)) < settings.repeat_least or _interrupted(view, group, settings):
        return None
    positions = varying(rows)
    bucket = _bucket(structure, rows, positions or [])
    if bucket is not None:
        return bucket, True
    if positions is None or len(positions) != 1:
        return None
    predicate = lookup(structure, positions[0])
    if predicate is None or not predicate.required or predicate.inside:
        return None
    return Key(positions[0], predicate.column, predicate.operator == "any"), False


def _may_flow(tally: SiblingTotals, met: Match) -> bool:
    """Whether the values may be keys of another table's rows: then they are no constants."""
    column, schema = tally.key.column, met.context.schema
    table = column.table or met.structure.main
    if schema is not None and schema.table(table) is not None:
        return schema.foreign_key(table, column.name) is not None
    return not tally.buckets and column.name.lower().endswith("id")


def _bucket(
    structure: Structure, rows: list[tuple[Value, ...]], positions: list[int]
) -> Key | None:
    """The lower end of ranges of one column that follow upon each other, each beginning where
    another one ends.
    """
    if len(positions) != 2:
        return None
    ends = [
        p
        for p in structure.predicates
        if p.required and not p.inside and set(p.slots) & set(positions)
    ]
    if len({p.column for p in ends}) != 1:
        return None
    low, high = _ends_of_range(ends, positions)
    if low is None or high is None:
        return None
    starts, stops = {meaning(row[low]) for row in rows}, {meaning(row[high]) for row in rows}
    return Key(low, ends[0].column) if len(starts & stops) >= len(rows) - 1 else None


def _ends_of_range(ends: list[Predicate], positions: list[int]) -> tuple[int | None, int | None]:
    """The slots of the lower and the upper end of a range that one or two predicates describe."""
    if len(ends) == 1 and ends[0].operator == "between" and ends[0].slots == tuple(positions):
        return positions[0], positions[1]
    if len(ends) != 2:
        return None, None
    slots = {one.operator: one.slots[0] for one in ends}
    return slots.get(">=", slots.get(">")), slots.get("<", slots.get("<="))


def _interrupted(view: RequestView, group: Group, settings: Settings) -> bool:
    """Whether a write to the tables, or a long pause, lies between the first and the last."""
    request: Request = view.request
    first, last = group.indices[0], group.indices[-1]
    tables = {table.lower() for table in group.stats.parsed.tables}
    if written_between(view, first, last, tables):
        return True
    return any(
        waits_between(request, before, after, settings)
        for before, after in itertools.pairwise(group.indices)
    )


def _diagnosis(tally: SiblingTotals, met: Match) -> Diagnosis:
    structure, column = met.structure, tally.key.column
    queries = tally.queries / max(tally.requests, 1)
    cost = met.cost(queries, queries - 1)
    verb = "counts rows of" if structure.counts else "aggregates rows of"
    table = column.table or structure.main
    one = "range" if tally.buckets else "value"
    claim = FindingDraft(
        variant=("count" if structure.counts else "aggregate")
        + (" of ranges" if tally.buckets else ""),
        severity=severity(cost.share, cost.avoidable),
        title=f"{plural(queries, 'query')} where 1 would do: {verb} {structure.main} for one "
        f"{one} of {column.name} after the other",
        evidence="repeated",
        evidence_details=(
            f"{number(queries)} aggregates per request that differ only in the {one} of "
            f"{table}.{column.name}",
        ),
        cost=cost,
        caveats=(tally.unseen,) if tally.unseen and _may_flow(tally, met) else (),
    )
    remedy = GroupRemedy(
        stats=met.stats,
        line=met.line,
        saving=spared(queries - 1, cost.saving_ms),
        key=tally.key,
        table=table,
        buckets=tally.buckets,
    )
    return Diagnosis(met.finding(RULE, claim), remedy)


PATTERN = SiblingFilters()
