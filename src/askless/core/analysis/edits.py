"""One edit, one entry: what one change of one line fixes is together, with what the page asks
before and after.
"""

from __future__ import annotations

import re
from collections.abc import Container, Iterable, Mapping, Sequence

import msgspec

from askless.core.advice.eager_loading import comes_with_parents, hanging
from askless.core.advice.orm import Query, Step, bare, words_of
from askless.core.advice.shared_lines import model_of, placed_code
from askless.core.aggregation.summary import RouteStats, Summary
from askless.core.findings.finding import Edit, Finding, SourceLine, severity, severity_in
from askless.core.findings.remedies import Batch, Project, Remedy, SplitJoin, Variant
from askless.core.findings.severities import SEVERITIES
from askless.core.inference.context import Context
from askless.core.patterns.base import (
    SAMPLED_REQUESTS_MOST,
    Diagnosis,
    request_ms_of,
)
from askless.core.statistics import median


class _Part(msgspec.Struct):
    """A finding, and what its first advice loads with which query, if it does."""

    diagnosis: Diagnosis
    step: Step | None = None
    query: Query | None = None

    @property
    def finding(self) -> Finding:
        return self.diagnosis.finding


def edits_of(diagnoses: Sequence[Diagnosis], summary: Summary, context: Context) -> list[Edit]:
    """The edits that fix the findings, those that save most first."""
    parts = [_part(diagnosis, context) for diagnosis in diagnoses]
    loops = _loops(parts)
    groups: dict[tuple[object, ...], list[_Part]] = {}
    for part in parts:
        groups.setdefault(_where(part, loops), []).append(part)
    together: dict[tuple[object, ...], list[_Part]] = {}
    for where, parts in groups.items():
        # What other routes load with the query of a line is theirs; the same change is one change.
        change = where
        if where[0] in ("query", "loop"):
            title, code = _change(_ordered(parts))
            # One line may build the queries of many pages, each with conditions of its own.
            what = where[3:] if where[0] == "query" else where[2:]
            change = where[0], what, code or title
        together.setdefault(change, []).extend(parts)
    edits = [_edit(parts, summary, context) for parts in together.values()]
    return sorted(edits, key=lambda e: (SEVERITIES.index(e.severity), -e.total_ms, e.findings))


def _part(diagnosis: Diagnosis, context: Context) -> _Part:
    remedy = diagnosis.remedy
    place = hanging(remedy, context) if isinstance(remedy, Batch) else None
    return _Part(diagnosis, *place) if place is not None else _Part(diagnosis)


def _loops(parts: Iterable[_Part]) -> dict[tuple[str, str], object]:
    """By route and shape, the loop that a lookup belongs to: one helper, or one function, may send
    several shapes for it.

    They ask the same table by the same columns for the rows of one query, so that one read of all
    their keys fixes them.
    """
    shapes: dict[tuple[object, ...], set[str]] = {}
    for part in parts:
        finding, remedy = part.finding, part.diagnosis.remedy
        if isinstance(remedy, Batch) and remedy.depth == 1 and remedy.source is not None:
            asks = (
                remedy.variant
                if remedy.variant.is_number or remedy.variant in (Variant.FIRST, Variant.FEW)
                else ""
            )
            supplier = remedy.parent.shape.digest if remedy.parent is not None else ""
            loop = (
                finding.route,
                supplier,
                remedy.table,
                remedy.key.columns,
                asks,
                finding.relation,
            )
            shapes.setdefault(loop, set()).add(finding.shape)
    return {
        (str(loop[0]), shape): loop[1:]
        for loop, several in shapes.items()
        if len(several) > 1
        for shape in several
    }


def _where(part: _Part, loops: Mapping[tuple[str, str], object]) -> tuple[object, ...]:
    """What one edit has in common: the query that it changes and its line; else the line and the
    shape, on any route.
    """
    finding, remedy = part.finding, part.diagnosis.remedy
    at = finding.advice[0].at if finding.advice else None
    place = (at.file, at.line) if at is not None else None
    if (
        part.step is not None
        and isinstance(remedy, Batch)
        and remedy.root is not None
        and place is not None
    ):
        return "query", finding.route, remedy.root.shape.digest, place
    if isinstance(remedy, Project) and place is not None and finding.advice[0].code.startswith("."):
        return "query", finding.route, finding.shape, place
    if isinstance(remedy, Batch) and remedy.loop and place is not None:
        return "loop", finding.route, loops.get((finding.route, remedy.loop), remedy.loop), place
    line = finding.lines[0] if finding.lines else None
    if line is None:
        return "finding", finding.key
    return finding.pattern, finding.shape, line.file, line.line, finding.relation


def _edit(parts: list[_Part], summary: Summary, context: Context) -> Edit:
    parts = _ordered(parts)
    by_route: dict[str, list[_Part]] = {}
    for part in parts:
        by_route.setdefault(part.finding.route, []).append(part)
    routes = sorted(
        by_route, key=lambda name: (_worst(by_route[name]), -_saved(by_route[name]), name)
    )
    first = by_route[routes[0]]
    route = summary.routes[routes[0]]
    way_ms = context.settings.network_latency_ms
    predicted = _prediction(first, route, way_ms)
    request_ms = predicted.request_ms
    saving_ms = (
        min(_saved(first), route.most_saved_ms(predicted.queries_after, way_ms, request_ms))
        if request_ms
        else _saved(first)
    )
    whole = severity_in(
        route.kind,
        severity(
            saving_ms / request_ms if request_ms else 0.0,
            predicted.queries - predicted.queries_after,
        ),
    )
    worst = SEVERITIES[min(SEVERITIES.index(whole), _worst(parts))]
    lead = parts[0].finding
    at = lead.advice[0].at if lead.advice else next(iter(lead.lines), None)
    title, code = _change(parts)
    changed = parts[0].diagnosis.remedy
    load = changed.stats.load
    hung = [part.query for part in parts if part.query is not None]
    model = hung[0].model if hung else model_of(changed)
    orm = load.orm if load is not None else ""
    return Edit(
        findings=tuple(part.finding.key for part in parts),
        severity=worst,
        routes=tuple(routes),
        title=title,
        at=at,
        code=placed_code(code, at, orm, model, context),
        requests=predicted.requests,
        requests_in_route=route.requests,
        queries=predicted.queries,
        queries_after=predicted.queries_after,
        queries_least=predicted.least[0],
        queries_least_after=predicted.least[1],
        queries_most=predicted.most[0],
        queries_most_after=predicted.most[1],
        saving_ms=saving_ms,
        request_ms=request_ms,
        total_ms=sum(part.finding.cost.total_ms for part in parts),
        other_routes=_other_routes(at, routes, parts, summary) if code.startswith(".") else (),
        orm=orm,
        model=bare(model),
        relation=_relation_of(changed),
        model_modules=_modules_of(code, orm, context),
    )


def _relation_of(changed: Remedy) -> str:
    """The relation whose manager gives the query that is changed; '' where none does."""
    root = changed.root if isinstance(changed, Batch) else None
    load = root.load if root is not None else changed.stats.load
    return load.relation if load is not None and load.kind == "lazy" else ""


def _modules_of(code: str, orm: str, context: Context) -> dict[str, str]:
    """The modules of the models that a call names; not of those that two modules have."""
    names = set(re.findall(r"\b[^\W\d]\w*", code))
    modules: dict[str, set[str]] = {}
    for model in context.models.values():
        if model.orm == orm and bare(model.name) in names:
            modules.setdefault(bare(model.name), set()).add(model.module)
    return {name: next(iter(ones)) for name, ones in sorted(modules.items()) if len(ones) == 1}


def _other_routes(
    at: SourceLine | None, routes: Sequence[str], parts: Sequence[_Part], summary: Summary
) -> tuple[str, ...]:
    """The other routes that send the same query from the line to be changed, and ask for what would
    be loaded with it less often than it would be loaded.
    """
    hung = [part for part in parts if part.step is not None and part.query is not None]
    if at is None or not hung:
        return ()
    model = hung[0].query.model if hung[0].query is not None else ""
    relations = {part.finding.relation for part in hung}
    return tuple(
        name
        for name, route in sorted(summary.routes.items())
        if name not in routes
        and (sent := _sent(route, at, model))
        and _asked_for(route, relations) < sent
    )


def _sent(route: RouteStats, at: SourceLine, model: str) -> int:
    """How often a route sends a query for a model from a line."""
    return sum(
        stats.count
        for stats in route.loaded_shapes()
        if (load := stats.load) is not None
        and load.target == model
        and any((p.file, p.line) == (at.file, at.line) for p in stats.places)
    )


def _asked_for(route: RouteStats, relations: Container[str]) -> int:
    """How often a route loads one of some relations row by row, as it is."""
    return sum(
        stats.count
        for stats in route.loaded_shapes()
        if any(
            load.kind == "lazy"
            and load.unchanged is not False  # which would ask all the same
            and f"{load.model}.{load.relation}" in relations
            for load in stats.loads
        )
    )


class _Prediction(msgspec.Struct, frozen=True):
    """What those requests of a route ask that an edit changes: medians before and after; `least`
    and `most` are the requests that ask least and most, before and after.
    """

    requests: int
    request_ms: float
    queries: float
    queries_after: float
    least: tuple[float, float]
    most: tuple[float, float]


def _prediction(parts: Sequence[_Part], route: RouteStats, way_ms: float) -> _Prediction:
    """What the requests ask that have one of these findings: a route may serve pages of different
    kinds, and a mean over all of them is true of none.
    """
    lead = max(parts, key=lambda part: part.finding.requests)
    requests = min(lead.finding.requests, route.requests)
    sample = lead.diagnosis.sample
    if not sample:
        queries = route.queries.median
        after = queries - sum(_spared(part, parts) for part in parts)
        pair = (queries, after)
        return _Prediction(requests, route.request_ms(way_ms), queries, after, pair, pair)
    pairs = sorted(
        (
            float(request.queries),
            float(request.queries - sum(_spared_in(part, name, parts) for part in parts)),
        )
        for name, request in sample.items()
    )
    before = median([pair[0] for pair in pairs])
    request_ms = request_ms_of(sample, requests, route, way_ms)
    after = median([pair[1] for pair in pairs])
    return _Prediction(requests, request_ms, before, after, pairs[0], pairs[-1])


def _spared(part: _Part, parts: Sequence[_Part]) -> float:
    """The queries of a request that has a finding that an edit of all these parts spares, on
    average.
    """
    cost = part.finding.cost
    advice = part.finding.advice
    if isinstance(part.diagnosis.remedy, SplitJoin) and advice and advice[0].code:
        return -1  # what was joined is a query of its own
    if isinstance(part.diagnosis.remedy, Batch):
        return cost.queries - _own_queries(part, parts)
    return cost.avoidable


def _spared_in(part: _Part, name: tuple[int, int], parts: Sequence[_Part]) -> float:
    """The queries that it spares of one request."""
    sample = part.diagnosis.sample
    average = _spared(part, parts)
    one = sample.get(name)
    if one is None:
        # Where the sample holds all that have the finding, this request does not have it.
        return 0.0 if 0 < len(sample) < SAMPLED_REQUESTS_MOST else average
    if isinstance(part.diagnosis.remedy, Batch):
        return one.of_shape - _own_queries(part, parts)
    return one.of_shape * average / part.finding.cost.queries if average else 0.0


def _own_queries(part: _Part, parts: Sequence[_Part]) -> int:
    """The queries that take the place of the lookups: a join is none, nor is a number that comes
    with the parents; a tree takes one for each level.
    """
    remedy = part.diagnosis.remedy
    if not isinstance(remedy, Batch) or not remedy.levels:
        return int(_asks_itself(part, parts))
    words = words_of(remedy.load)
    if words is None or remedy.load is None:
        return remedy.levels
    return words.recursive_queries(remedy.load, remedy.levels)


def _asks_itself(part: _Part, parts: Sequence[_Part]) -> bool:
    """Whether it is a query of its own."""
    if not isinstance(part.diagnosis.remedy, Batch):
        return True
    if part.step is None:
        return not comes_with_parents(part.diagnosis.remedy, part.finding.advice[0])
    words = words_of(part.step.path[0])
    steps = [one.step for one in parts if one.step is not None]
    return words is None or words.is_batched(part.step, steps)


def _worst(parts: Iterable[_Part]) -> int:
    return min(SEVERITIES.index(part.finding.severity) for part in parts)


def _ordered(parts: Iterable[_Part]) -> list[_Part]:
    """The outermost loops first, then what saves most."""

    def place(part: _Part) -> tuple[int, float, str]:
        remedy = part.diagnosis.remedy
        depth = remedy.depth if isinstance(remedy, Batch) and part.step is None else 1
        return depth, -part.finding.cost.total_ms, part.finding.key

    return sorted(parts, key=place)


def _saved(parts: Iterable[_Part]) -> float:
    return sum(part.finding.cost.saving_ms for part in parts)


def _change(parts: list[_Part]) -> tuple[str, str]:
    """What to do, and the whole call: the loads in one, what omits columns after it."""
    advice = parts[0].finding.advice
    hung = [
        (part, part.step, part.query)
        for part in parts
        if part.step is not None and part.query is not None
    ]
    if len(parts) == 1 or not hung:
        return (advice[0].title, advice[0].code) if advice else ("", "")
    # In one order: the same relations on another route are the same change.
    hung.sort(key=lambda one: (len(one[1].names), one[1].names))
    words = words_of(hung[0][1].path[0])
    query = hung[0][2]
    code = words.together([step for _, step, _ in hung], query) if words is not None else ""
    # The same on several routes is one change.
    narrowed = list(
        {
            part.finding.advice[0].code: part.finding.advice[0]
            for part in parts
            if part.step is None
        }.values()
    )
    names = list(dict.fromkeys(part.finding.relation for part, _, _ in hung))
    title = "load " + ", ".join(names) + " with the query"
    if narrowed:
        title += ", and " + ", ".join(one.title for one in narrowed)
    return title, code + "".join(one.code for one in narrowed)
