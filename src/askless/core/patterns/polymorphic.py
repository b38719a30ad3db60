"""n-plus-one whose table follows a type column: row after row, of whichever kind each is. All kinds
are one finding.

The lookups of all tables together must follow one column of an earlier result, row by row, and
another column of the same rows must tell the table: a type, whose values come again.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import pairwise

import msgspec

from askless.core.aggregation.request_view import Group, RequestView
from askless.core.aggregation.shape_stats import ShapeStats
from askless.core.aggregation.summary import RouteStats, Tally
from askless.core.findings.finding import severity
from askless.core.findings.remedies import BatchPerType
from askless.core.formatting import number, plural
from askless.core.inference.context import Context
from askless.core.patterns.base import (
    Diagnosis,
    FindingDraft,
    Rule,
    ShapeTally,
    add_places,
    eager_path,
    lines_of,
    met_of,
    spared,
    summed,
    with_sample,
)
from askless.core.patterns.keys import key_of
from askless.core.records.model import SAMPLED_MOST, CallSite, Load, Request
from askless.core.settings import Settings
from askless.core.sql.slots import Value
from askless.core.sql.value_equality import meaning

NAME = "n-plus-one by kind"  # of its tallies
EACH_LEAST = 2  # lookups for each value, on average
TURNS_LEAST = 3  # changes from table to table, from which a number tells the table and not chance


class ByKind(ShapeTally):
    """Lookups of one column of one result. `executions` counts them by shape; `kind` is the column
    that tells the table.
    """

    def __init__(self, stats: ShapeStats, key: str, kind: str) -> None:
        super().__init__(stats)
        self.key, self.kind = key, kind
        self.shapes: dict[str, ShapeStats] = {}
        self.executions: dict[str, int] = {}
        self.columns: dict[str, str] = {}  # shape -> the column that its table is looked up by
        self.load: Load | None = None
        self.parent_places: dict[CallSite, int] = {}

    def merge(self, other: Tally) -> None:
        """Add another piece's tally."""
        super().merge(other)
        assert isinstance(other, ByKind)
        for digest, stats in other.shapes.items():
            self.shapes.setdefault(digest, stats)
            self.columns.setdefault(digest, other.columns[digest])
            self.executions[digest] = self.executions.get(digest, 0) + other.executions[digest]
        for place, count in other.parent_places.items():
            self.parent_places[place] = self.parent_places.get(place, 0) + count
        self.load = self.load or other.load


_Step = tuple[int, Value, str]  # a lookup: the query, its key and its table


class _LookUps(msgspec.Struct):
    """The lookups of one table in one request: (query, key) in order."""

    stats: ShapeStats
    table: str
    column: str
    steps: list[tuple[int, Value]]


def look(view: RequestView, settings: Settings) -> None:
    """Find lookups by kind in one request, and claim their shapes."""
    if len(view.groups) < 2:  # a kind each
        return
    candidates = [one for group in view.groups if (one := _look_ups(view, group)) is not None]
    for together in _interleaved(candidates) if len(candidates) > 1 else ():
        if len({one.table for one in together}) > 1:
            _look(view, together, settings)


def _look(view: RequestView, candidates: Sequence[_LookUps], settings: Settings) -> None:
    """Add lookups that take turns, if they follow the rows of one result."""
    request = view.request
    followed = _followed(request, candidates, settings)
    if followed is None:
        return
    parent, key, kind, together = followed
    stats = view.route.shapes.get(request.statement(parent).shape.digest)
    if stats is None:
        return
    name = (NAME, stats.shape.digest, key)
    tally = view.route.tallies.setdefault(NAME, {}).setdefault(name, ByKind(stats, key, kind))
    assert isinstance(tally, ByKind)
    tally.add(request, [i for i, _, _ in _in_turn(together)])
    add_places(tally.parent_places, request, [parent])
    for one in together:
        digest = one.stats.shape.digest
        tally.shapes[digest], tally.columns[digest] = one.stats, one.column
        tally.executions[digest] = tally.executions.get(digest, 0) + len(one.steps)
        view.claimed.add(digest)
        tally.load = tally.load or request.load(one.steps[0][0])


def _look_ups(view: RequestView, group: Group) -> _LookUps | None:
    """The lookups of a group, if they are by one key of one table and nothing explains them yet."""
    stats, request = group.stats, view.request
    if stats.shape.digest in view.claimed or not stats.shape.text.startswith("select "):
        return None
    structure = stats.structure
    if (
        structure is None
        or not structure.repeatable
        or structure.aggregates
        or not structure.of_one_table
    ):
        return None
    rows = [request.values(i) for i in group.indices]
    key = key_of(structure, rows)
    if key is None or key.beside or key.listed:
        return None
    steps = [(i, meaning(key.value(row))) for i, row in zip(group.indices, rows, strict=True)]
    return _LookUps(stats, structure.main, key.column.name, steps)


def _interleaved(candidates: Sequence[_LookUps]) -> list[list[_LookUps]]:
    """Candidates that take turns, together: each begins before one of the others has ended."""
    results: list[list[_LookUps]] = []
    last = -1
    for one in sorted(candidates, key=lambda one: one.steps[0][0]):
        if one.steps[0][0] > last:
            results.append([])
        results[-1].append(one)
        last = max(last, one.steps[-1][0])
    return results


def _in_turn(candidates: Sequence[_LookUps]) -> list[_Step]:
    """The lookups of several tables in the order in which they were asked."""
    steps = [(i, value, one.table) for one in candidates for i, value in one.steps]
    return sorted(steps, key=lambda step: step[0])


def _tells_tables(
    sample: Sequence[tuple[Value, ...]], place: int, steps: Sequence[_Step]
) -> int | None:
    """The column beside the keys' one that tells the table of each lookup; None if there is
    none.
    """
    matched = _in_order(sample, place, steps)
    if len(matched) < len(steps) and len(sample) < SAMPLED_MOST:
        return None
    for other in range(len(sample[0])):
        if other != place and _tells_table(sample, other, matched, steps):
            return other
    return None


def _followed(
    request: Request, candidates: Sequence[_LookUps], settings: Settings
) -> tuple[int, str, str, Sequence[_LookUps]] | None:
    """The query whose rows lookups follow, its column with their keys, the one that tells their
    table, and those lookups.
    """
    for i in range(min(one.steps[0][0] for one in candidates)):
        sample = request.samples[i]
        if not sample or len(sample) < settings.repeat_least:
            continue
        columns, sampled = request.statement(i).columns, request.statement(i).sampled
        for place in range(len(sample[0])):
            together = [one for one in candidates if _follows(sample, place, _in_turn([one]))]
            steps = _in_turn(together)
            if len({one.table for one in together}) < 2:
                continue
            if not settings.repeat_least <= len(steps) <= request.rows[i]:
                continue
            other = _tells_tables(sample, place, steps)
            if other is not None:
                return i, columns[sampled[place]], columns[sampled[other]], together
    return None


def _follows(sample: Sequence[tuple[Value, ...]], place: int, steps: Sequence[_Step]) -> bool:
    """Whether lookups go through a column in order, as far as its rows are kept."""
    matched = _in_order(sample, place, steps)
    return len(matched) == len(steps) or (len(matched) > 1 and len(sample) == SAMPLED_MOST)


def _in_order(sample: Sequence[tuple[Value, ...]], place: int, steps: Sequence[_Step]) -> list[int]:
    """The rows, one for each lookup in turn, whose values in a column are the keys; as many as
    there are in order.
    """
    rows: list[int] = []
    row = 0
    for _, key, _ in steps:
        while row < len(sample) and meaning(sample[row][place]) != key:
            row += 1
        if row == len(sample):
            break
        rows.append(row)
        row += 1
    return rows


def _tells_table(
    sample: Sequence[tuple[Value, ...]], place: int, rows: Sequence[int], steps: Sequence[_Step]
) -> bool:
    """Whether a column has one value for each table and no other, in every row that was looked up,
    and not by chance: values come again, and numbers take turns.
    """
    tables = [table for _, (_, _, table) in zip(rows, steps)]  # noqa: B905  (rows may be fewer)
    values = [sample[row][place] for row in rows]
    pairs = set(zip(values, tables, strict=True))
    if len(pairs) < 2 or not len(pairs) == len(set(values)) == len(set(tables)):
        return False
    if len(tables) < EACH_LEAST * len(pairs):
        return False
    turns = sum(one != other for one, other in pairwise(tables))
    return turns >= TURNS_LEAST or all(isinstance(value, str) for value in values)


def tallies_of(route: RouteStats) -> list[ByKind]:
    """What was met in a route."""
    return [tally for tally in route.tallies.get(NAME, {}).values() if isinstance(tally, ByKind)]


def judge(route: RouteStats, rule: Rule, context: Context) -> Iterator[Diagnosis]:
    """One a column of a result."""
    for tally in tallies_of(route):
        yield with_sample(_diagnosis(tally, rule, route, context), tally)


def _diagnosis(tally: ByKind, rule: Rule, route: RouteStats, context: Context) -> Diagnosis:
    digests = sorted(tally.executions, key=lambda digest: (-tally.executions[digest], digest))
    mets = [met_of(tally, route, context, tally.shapes[digest]) for digest in digests]
    counts = [tally.executions[digest] / tally.requests for digest in digests]
    cost = summed(
        [met.cost(count, max(count - 1, 0.0)) for met, count in zip(mets, counts, strict=True)]
    )
    queries = sum(counts)
    tables = [met.structure.main for met in mets]
    parent = tally.stats.structure.main if tally.stats.structure is not None else ""
    listed = ", ".join(tables[:-1]) + f" or {tables[-1]}"
    load = tally.load if tally.load is not None and tally.load.relation else None
    claim = FindingDraft(
        variant="polymorphic",
        severity=severity(cost.share, cost.avoidable),
        title=f"{plural(queries, 'query')} where {len(tables)} would do: reads {listed}, depending "
        f"on {tally.kind}, for each row of {parent or 'an earlier result'} (1 + {number(queries)})",
        summary=f"{listed}, depending on {tally.kind} (1 + {number(queries)})",
        evidence="traced",
        evidence_details=(
            f"their keys are all in {tally.key} of one earlier result, in row order",
            f"{tally.kind} of the same row determines the table: one value per table",
            "by table: "
            + ", ".join(
                f"{table} {number(count)}" for table, count in zip(tables, counts, strict=True)
            ),
        ),
        cost=cost,
        source=next(iter(lines_of(tally.parent_places)), None),
    )
    relation = f"{load.model}.{load.relation}" if load is not None else ""
    finding = mets[0].finding(rule, claim)
    finding = msgspec.structs.replace(finding, tables=tuple(tables), relation=relation)
    remedy = BatchPerType(
        stats=mets[0].stats,
        line=mets[0].line,
        saving=spared(cost.avoidable, cost.saving_ms),
        kinds=tuple((tally.shapes[digest], tally.columns[digest]) for digest in digests),
        key=tally.key,
        kind=tally.kind,
        load=load,
        root=tally.stats,
        at=next(iter(lines_of(tally.stats.places)), None),
        path=eager_path(tally.stats.load, route),
    )
    return Diagnosis(finding, remedy)
