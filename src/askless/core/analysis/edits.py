"""One edit, one entry: what one change of one line fixes is together, with what the page asks
before and after.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

import msgspec

from askless.core.advice.eager_loading import hanging
from askless.core.advice.orm import Query, Step, words_of
from askless.core.aggregation.summary import Summary
from askless.core.findings.finding import Edit, Finding, severity, severity_in
from askless.core.findings.remedies import Batch, Project, Variant
from askless.core.findings.severities import SEVERITIES
from askless.core.inference.context import Context
from askless.core.patterns.base import Diagnosis


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
        change = (
            (where[0], where[2:], _change(_ordered(parts)))
            if where[0] in ("query", "loop")
            else where
        )
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
                if remedy.variant.is_number or remedy.variant is Variant.FIRST
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
    request_ms = route.request_ms(way_ms)
    queries = route.queries.median
    spared = sum(
        part.finding.cost.avoidable + (part.step is not None and part.step.join) for part in first
    )
    queries_after = max(queries - spared, 1.0 if queries else 0.0)
    saving_ms = (
        min(_saved(first), route.most_saved_ms(queries_after, way_ms))
        if request_ms
        else _saved(first)
    )
    whole = severity_in(route.kind, severity(saving_ms / request_ms if request_ms else 0.0, spared))
    worst = SEVERITIES[min(SEVERITIES.index(whole), _worst(parts))]
    lead = parts[0].finding
    at = lead.advice[0].at if lead.advice else next(iter(lead.lines), None)
    title, code = _change(parts)
    return Edit(
        findings=tuple(part.finding.key for part in parts),
        severity=worst,
        routes=tuple(routes),
        title=title,
        at=at,
        code=code,
        queries=queries,
        queries_after=queries_after,
        saving_ms=saving_ms,
        request_ms=request_ms,
        total_ms=sum(part.finding.cost.total_ms for part in parts),
    )


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
    words = words_of(hung[0][1].path[0])
    query = hung[0][2]
    code = words.together([step for _, step, _ in hung], query) if words is not None else ""
    narrowed = [part.finding.advice[0] for part in parts if part.step is None]
    names = list(dict.fromkeys(part.finding.relation for part, _, _ in hung))
    title = "load " + ", ".join(names) + " with the query"
    if narrowed:
        title += ", and " + ", ".join(one.title for one in narrowed)
    return title, code + "".join(one.code for one in narrowed)
