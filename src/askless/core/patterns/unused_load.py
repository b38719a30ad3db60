"""unused-load: rows that were loaded eagerly and that no one looked at. Known only where use was
tracked.

An eager query of its own, or a joined relation whose objects were never touched in any request of
the route. Where an eager query found no rows, there was nothing to touch: then it counts whether
the relation was read of any parent.
"""

from __future__ import annotations

from collections.abc import Iterable

from askless.core.advice.orm import by_table, model_of
from askless.core.aggregation.shape_stats import ShapeStats, UseTotals
from askless.core.aggregation.summary import RouteStats
from askless.core.findings.finding import Cost, severity
from askless.core.findings.remedies import DropEagerLoad, UseLoadedRows
from askless.core.formatting import plural, size
from askless.core.inference.context import Context
from askless.core.inference.shared_lines import places_of_root
from askless.core.patterns.base import (
    ByTotals,
    Diagnosis,
    FindingDraft,
    Match,
    Rule,
    lines_of,
    spared,
)
from askless.core.records.model import Load, Model
from askless.core.sql.structure import Structure

RULE = Rule(
    "unused-load",
    "an eager load that is never read",
    "an eager load or join whose objects are not read in any request",
    "objects that are read at least once",
    needs_use=True,
)
_ELSEWHERE = "not read on this route in this capture; other requests may read it"


class UnusedLoad(ByTotals):
    """See the module."""

    rule = RULE

    def judge(
        self, route: RouteStats, context: Context, diagnoses: list[Diagnosis]
    ) -> Iterable[Diagnosis]:
        """As for all totals; what rows are read again of, though they were loaded, is to be used,
        do not drop.
        """
        wanted = {
            id(one.remedy.source) for one in diagnoses if isinstance(one.remedy, UseLoadedRows)
        }
        for diagnosis in super().judge(route, context, diagnoses):
            if id(diagnosis.remedy.stats) not in wanted:
                yield diagnosis

    def worth_parsing(self, stats: ShapeStats, context: Context) -> bool:
        """Whether it was tracked what became of the objects, or of those that there were none
        for.
        """
        load = stats.load
        return load is not None and (bool(stats.used) or (load.kind == "eager" and not stats.rows))

    def judge_shape(self, met: Match, structure: Structure) -> Diagnosis | None:
        """One an eager load that no one read."""
        load, used = met.stats.load, met.stats.used
        if load is None:
            return None
        if load.kind == "eager" and load.relation:
            if not met.stats.rows:
                parents = _never_asked(met, load)
                return (
                    _whole(met, load, f"it found nothing, and none of {parents} was asked for it")
                    if parents
                    else None
                )
            totals = used.get(load.target)
            touched = any(
                totals.touched for totals in used.values()
            ) or load.relation in _names_read(met)
            if (
                totals is None
                or touched
                or totals.objects < met.context.settings.unused_objects_least
            ):
                return None  # rows that are counted are needed too
            because = (
                f"none of {plural(totals.objects, 'object')} was read in any request of this "
                f"route, "
                f"in {plural(totals.results, 'result')}"
            )
            return _whole(met, load, because)
        if load.kind == "query" and load.target in used:
            return _joined(met, structure, load)
        return None


def _never_asked(met: Match, load: Load) -> str:
    """The parents, counted, if they were looked at in this route and no one asked any object for
    the relation; else "".

    A parent may be of a class that inherits the relation, and what is read under a name that no
    model knows may be the relation, kept under another name: both leave it open.
    """
    parents = UseTotals()
    for stats in met.route.shapes.values():
        if load.model in stats.used:
            parents.merge(stats.used[load.model])
    names = _names_read(met)
    known = {
        name
        for (orm, _), model in met.context.models.items()
        if orm == load.orm
        for name in model.relations
    }
    unread = load.relation in known and names <= known - {load.relation}
    enough = parents.touched and parents.objects >= met.context.settings.unused_objects_least
    return (
        f"{parents.objects} {load.model} objects"
        if unread and enough and len(met.stats.loads) == 1
        else ""
    )


def _names_read(met: Match) -> set[str]:
    """The relations, by name, that were read of any object in the route."""
    return {
        name
        for stats in met.route.shapes.values()
        for totals in stats.used.values()
        for name in totals.relations
    }


def _whole(met: Match, load: Load, because: str) -> Diagnosis:
    stats = met.stats
    places = places_of_root(load, met.route) or stats.places
    queries, rows = stats.count / stats.requests, stats.rows / stats.requests
    cost = met.cost(queries, queries)
    claim = FindingDraft(
        variant="eager query",
        severity=severity(cost.share, cost.avoidable),
        title=f"{load.model}.{load.relation} is loaded eagerly but never read: "
        f"{plural(queries, 'query')}, {plural(rows, 'row')} per request",
        evidence="traced",
        evidence_details=(because,),
        cost=cost,
        caveats=(_ELSEWHERE,),
    )
    remedy = DropEagerLoad(
        stats=stats,
        line=next(iter(lines_of(places)), met.line),
        saving=spared(queries, cost.saving_ms),
        load=load,
        joined=False,
        needed_by=tuple(sorted(met.context.readers_of(places, f"{load.model}.{load.relation}"))),
    )
    return Diagnosis(met.finding(RULE, claim), remedy)


def _joined(met: Match, structure: Structure, load: Load) -> Diagnosis | None:
    """The joined relation that weighs most of those whose objects no one touched."""
    stats, context = met.stats, met.context
    main = model_of(load, load.target, context.models)
    idle = [
        (name, totals)
        for name, totals in stats.used.items()
        if name != load.target
        and not totals.touched
        and totals.objects >= context.settings.unused_objects_least
    ]
    if main is None or not idle:
        return None
    name, totals = max(idle, key=lambda item: item[1].objects)
    relation = main.relation_to(name)
    if relation is None or stats.used[load.target].relations.get(relation.name):
        return None
    spare = _bytes_of(name, met, structure, load)
    share = spare * stats.requests / stats.bytes if stats.bytes else 0.0
    claim = FindingDraft(
        variant="joined",
        severity=severity(share / 4, 0),
        title=f"{main.name}.{relation.name} is joined but never read: {size(spare, 'bytes')} per "
        "request",
        evidence="traced",
        evidence_details=(
            f"none of {plural(totals.objects, 'object')} of {name} was read in any request of this "
            f"route, in {plural(totals.results, 'result')}",
        ),
        cost=Cost(queries=stats.count / stats.requests, query_ms=stats.query_ns / 1e6, bytes=spare),
        caveats=(_ELSEWHERE, "a condition may need the join: keep it then, without its columns"),
    )
    remedy = DropEagerLoad(
        stats=stats,
        line=met.line,
        saving=f"about {size(spare, 'bytes')} per request; run a trial to measure the time",
        load=Load(load.orm, "eager", main.name, relation.name, name, relation.many),
        joined=True,
        needed_by=tuple(sorted(context.readers_of(stats.places, f"{load.target}/{name}"))),
    )
    return Diagnosis(met.finding(RULE, claim), remedy)


def _bytes_of(name: str, met: Match, structure: Structure, load: Load) -> float:
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
