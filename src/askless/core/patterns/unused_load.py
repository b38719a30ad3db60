"""unused-load: rows that were loaded eagerly and that nobody looked at. Known only where use was tracked.

An eager query of its own, or a joined relation whose objects were never touched in any request of the route.
"""

from __future__ import annotations

from askless.core.advice import leaving
from askless.core.advice.orm import by_table, model_of
from askless.core.findings import Cost, Finding, severity
from askless.core.model import Load
from askless.core.patterns.base import ByTotals, Context, cost_of, finding_of, lines_of
from askless.core.shape_stats import ShapeStats, UseTotals
from askless.core.sql.structure import Structure
from askless.core.summary import RouteStats
from askless.core.words import plural, size

NAME = "unused-load"


class UnusedLoad(ByTotals):
    """See the module."""

    name = NAME

    def judge_shape(
        self, route: RouteStats, stats: ShapeStats, structure: Structure, context: Context
    ) -> Finding | None:
        """One finding an eager load that nobody read."""
        load = stats.load
        if load is None:
            return None
        if load.kind == "eager" and load.relation:
            totals = stats.used.get(load.target)
            if totals is None or _touched(stats) or totals.objects < context.settings.unused_objects_least:
                return None
            return _whole(route, stats, load, totals, context)
        if load.kind == "query" and load.target in stats.used:
            return _joined(route, stats, structure, load, context)
        return None


def _touched(stats: ShapeStats) -> int:
    return sum(totals.touched for totals in stats.used.values())


def _whole(route: RouteStats, stats: ShapeStats, load: Load, totals: UseTotals, context: Context) -> Finding:
    queries = stats.count / stats.requests
    cost = cost_of(route, stats, queries, queries, stats.requests)
    rows = stats.rows / stats.requests
    lines = lines_of(stats.places)
    return finding_of(
        NAME, route, stats, context, stats.places, stats.requests,
        variant="eager query",
        severity=severity(cost.share, cost.avoidable),
        title=f"{load.model}.{load.relation} is loaded eagerly and nobody reads it: {plural(queries, 'query')}, {plural(rows, 'row')} a request",
        evidence="traced",
        because=(f"none of {plural(totals.objects, 'object')} was touched, in {plural(totals.results, 'result')}",),
        cost=cost,
        advice=leaving.drop(load, joined=False, line=lines[0] if lines else None,
                            saving=f"about {plural(queries, 'query')} and {cost.saving_ms:.2f} ms a request"),
        unsure=("read in no request of this capture; another one may",),
    )  # fmt: skip


def _joined(route: RouteStats, stats: ShapeStats, structure: Structure, load: Load, context: Context) -> Finding | None:
    """The joined relation that weighs most of those whose objects nobody touched."""
    main = model_of(load, load.target, context.models)
    idle = [
        (name, totals)
        for name, totals in stats.used.items()
        if name != load.target and not totals.touched and totals.objects >= context.settings.unused_objects_least
    ]
    if main is None or not idle:
        return None
    name, totals = max(idle, key=lambda item: item[1].objects)
    relation = main.relation_to(name)
    if relation is None or stats.used[load.target].relations.get(relation.name):
        return None
    spare = 0.0
    if stats.widths_rows and len(structure.outputs) == len(stats.columns):
        for output, width in zip(structure.outputs, stats.widths, strict=False):
            model = by_table(load, output.column.table, context.models)
            if model is not None and model.name == name:
                spare += width / stats.widths_rows
    spare *= stats.rows / stats.requests
    share = spare * stats.requests / stats.bytes if stats.bytes else 0.0
    lines = lines_of(stats.places)
    path = Load(load.orm, "eager", main.name, relation.name, name, relation.many)
    return finding_of(
        NAME, route, stats, context, stats.places, stats.requests,
        variant="joined",
        severity=severity(share / 4, 0),
        title=f"{main.name}.{relation.name} is joined and nobody reads it: {size(spare, 'bytes')} a request",
        evidence="traced",
        because=(f"none of {plural(totals.objects, 'object')} of {name} was touched, in {plural(totals.results, 'result')}",),
        cost=Cost(queries=stats.count / stats.requests, query_ms=stats.query_ns / 1e6, bytes=spare),
        advice=leaving.drop(path, joined=True, line=lines[0] if lines else None,
                            saving=f"about {size(spare, 'bytes')} a request; time is for a trial to tell"),
        unsure=("read in no request of this capture; another one may", "a condition may need the join: keep it then, without its columns"),
    )  # fmt: skip


PATTERN = UnusedLoad()
