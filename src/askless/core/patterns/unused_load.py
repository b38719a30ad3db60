"""unused-load: rows that were loaded eagerly and that nobody looked at. Known only where use was tracked.

An eager query of its own, or a joined relation whose objects were never touched in any request of the route.
"""

from __future__ import annotations

from collections.abc import Iterable

from askless.core.advice.orm import by_table, model_of
from askless.core.context import Context
from askless.core.findings import Cost, severity
from askless.core.model import Load, Model
from askless.core.patterns.base import ByTotals, Claim, Diagnosis, Met, Rule, spared
from askless.core.recipes import LeaveOut, UseLoaded
from askless.core.shape_stats import ShapeStats, UseTotals
from askless.core.sql.structure import Structure
from askless.core.summary import RouteStats
from askless.core.words import plural, size

RULE = Rule(
    "unused-load",
    "an eager load that nobody reads",
    "an eager load, or a join, whose objects nobody touched in any request",
    "what was touched once",
    needs_use=True,
)
_ELSEWHERE = "read in no request of this capture; another one may"


class UnusedLoad(ByTotals):
    """See the module."""

    rule = RULE

    def judge(self, route: RouteStats, context: Context, found: list[Diagnosis]) -> Iterable[Diagnosis]:
        """As for all totals; what rows are read again of, though they were loaded, is to be used, not to be dropped."""
        wanted = {id(one.recipe.source) for one in found if isinstance(one.recipe, UseLoaded)}
        for diagnosis in super().judge(route, context, found):
            if id(diagnosis.recipe.stats) not in wanted:
                yield diagnosis

    def worth_parsing(self, stats: ShapeStats, context: Context) -> bool:
        """Whether it was tracked what became of the objects."""
        return bool(stats.used) and stats.load is not None

    def judge_shape(self, met: Met, structure: Structure) -> Diagnosis | None:
        """One an eager load that nobody read."""
        load, used = met.stats.load, met.stats.used
        if load is None:
            return None
        if load.kind == "eager" and load.relation:
            totals = used.get(load.target)
            touched = any(totals.touched for totals in used.values())
            if totals is None or touched or totals.objects < met.context.settings.unused_objects_least:
                return None
            return _whole(met, load, totals)
        if load.kind == "query" and load.target in used:
            return _joined(met, structure, load)
        return None


def _whole(met: Met, load: Load, totals: UseTotals) -> Diagnosis:
    stats = met.stats
    queries, rows = stats.count / stats.requests, stats.rows / stats.requests
    cost = met.cost(queries, queries)
    claim = Claim(
        variant="eager query",
        severity=severity(cost.share, cost.avoidable),
        title=f"{load.model}.{load.relation} is loaded eagerly and nobody reads it: {plural(queries, 'query')}, {plural(rows, 'row')} a request",
        evidence="traced",
        because=(f"none of {plural(totals.objects, 'object')} was touched, in {plural(totals.results, 'result')}",),
        cost=cost,
        unsure=(_ELSEWHERE,),
    )
    recipe = LeaveOut(stats=stats, line=met.line, saving=spared(queries, cost.saving_ms), load=load, joined=False)
    return Diagnosis(met.finding(RULE, claim), recipe)


def _joined(met: Met, structure: Structure, load: Load) -> Diagnosis | None:
    """The joined relation that weighs most of those whose objects nobody touched."""
    stats, context = met.stats, met.context
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
    spare = _bytes_of(name, met, structure, load)
    share = spare * stats.requests / stats.bytes if stats.bytes else 0.0
    claim = Claim(
        variant="joined",
        severity=severity(share / 4, 0),
        title=f"{main.name}.{relation.name} is joined and nobody reads it: {size(spare, 'bytes')} a request",
        evidence="traced",
        because=(
            f"none of {plural(totals.objects, 'object')} of {name} was touched, in {plural(totals.results, 'result')}",
        ),
        cost=Cost(queries=stats.count / stats.requests, query_ms=stats.query_ns / 1e6, bytes=spare),
        unsure=(_ELSEWHERE, "a condition may need the join: keep it then, without its columns"),
    )
    recipe = LeaveOut(
        stats=stats,
        line=met.line,
        saving=f"about {size(spare, 'bytes')} a request; time is for a trial to tell",
        load=Load(load.orm, "eager", main.name, relation.name, name, relation.many),
        joined=True,
    )
    return Diagnosis(met.finding(RULE, claim), recipe)


def _bytes_of(name: str, met: Met, structure: Structure, load: Load) -> float:
    """Bytes a request of the columns that belong to a model."""
    stats = met.stats
    widths, widths_rows = met.context.widths_of(stats)
    if not widths_rows or len(structure.outputs) != len(stats.columns):
        return 0.0
    result = 0.0
    for output, width in zip(structure.outputs, widths, strict=False):
        model: Model | None = by_table(load, output.column.table, met.context.models)
        if model is not None and model.name == name:
            result += width / widths_rows
    return result * stats.rows / stats.requests


PATTERN = UnusedLoad()
