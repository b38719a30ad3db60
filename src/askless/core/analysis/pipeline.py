"""From requests to findings: one pass over a capture, then one judgement a route."""

from __future__ import annotations

from collections.abc import Iterable

import msgspec

from askless.core import patterns
from askless.core.advice import advise
from askless.core.aggregation.aggregator import Aggregator
from askless.core.aggregation.summary import Summary
from askless.core.findings.finding import Edit, Finding, ranked
from askless.core.inference.context import Context
from askless.core.inference.shared_lines import models_by_line, readers_by_line
from askless.core.patterns.base import Diagnosis
from askless.core.records.model import Request
from askless.core.records.schema import Schema
from askless.core.settings import Settings


def aggregator_of(settings: Settings | None = None, look: bool = True) -> Aggregator:
    """What adds up requests one by one. Without `look`, patterns are not looked for."""
    return Aggregator(list(patterns.load()) if look else [], settings)


def summarise(
    requests: Iterable[Request], settings: Settings | None = None, look: bool = True
) -> Summary:
    """Add up a stream of requests in bounded memory. Without `look`, patterns are not looked
    for.
    """
    aggregator = aggregator_of(settings, look)
    add = aggregator.add
    for request in requests:
        add(request)
    return aggregator.finish()


def findings_of(summary: Summary, schema: Schema | None = None) -> list[Finding]:
    """All findings of a summary with their advice, those that matter most first."""
    context = context_of(summary, schema)
    return [_placed(diagnosis, context) for diagnosis in _diagnoses(summary, context)]


def judgement_of(
    summary: Summary, schema: Schema | None = None
) -> tuple[list[Finding], list[Edit]]:
    """All findings of a summary in the order of the edits that fix them, those that matter most
    first; and the edits.
    """
    from askless.core.analysis.edits import edits_of  # which needs the SQL parser: totals do not

    context = context_of(summary, schema)
    diagnoses = _diagnoses(summary, context)
    edits = edits_of(diagnoses, summary, context)
    by_key = {diagnosis.finding.key: _placed(diagnosis, context) for diagnosis in diagnoses}
    return [by_key[key] for edit in edits for key in edit.findings], edits


def _placed(diagnosis: Diagnosis, context: Context) -> Finding:
    from askless.core.advice.shared_lines import placed  # which needs the SQL parser

    finding = diagnosis.finding
    return msgspec.structs.replace(
        finding, advice=placed(finding.advice, diagnosis.remedy, context)
    )


def context_of(summary: Summary, schema: Schema | None = None) -> Context:
    """What judging a summary may use next to a route's own totals."""
    widths = {
        (stats.shape.digest, stats.columns): (stats.widths, stats.widths_rows)
        for route in summary.routes.values()
        for stats in route.own_shapes()
        if stats.widths and stats.widths_rows
    }
    shared = models_by_line(summary.routes.values())
    eager = {
        (load.orm, load.model, load.relation)
        for route in summary.routes.values()
        for stats in route.loaded_shapes()
        for load in stats.loads
        if load.kind == "eager"
    }
    readers = readers_by_line(summary.routes.values())
    return Context(summary.settings, schema, summary.models, widths, shared, eager, readers)


def diagnoses_of(summary: Summary, schema: Schema | None = None) -> list[Diagnosis]:
    """All findings of a summary, each with the remedy that its advice is made of."""
    return _diagnoses(summary, context_of(summary, schema))


def _diagnoses(summary: Summary, context: Context) -> list[Diagnosis]:
    results: list[Diagnosis] = []
    for route in summary.routes.values():
        here: list[Diagnosis] = []
        for pattern in patterns.load():
            here += list(pattern.judge(route, context, here))
        results += here
    for across in patterns.load_across():
        results += list(across.judge_all(summary, context, results))
    named = _with_own_keys(results)
    by_key = {one.finding.key: one for one in named}
    findings = ranked([one.finding for one in named])
    return [
        Diagnosis(
            msgspec.structs.replace(finding, advice=advise(by_key[finding.key].remedy, context)),
            by_key[finding.key].remedy,
            by_key[finding.key].sample,
        )
        for finding in findings
    ]


def _with_own_keys(diagnoses: list[Diagnosis]) -> list[Diagnosis]:
    """Findings of one cause on one route: the second and later ones, in the order of their lines,
    get a number to their key.
    """
    seen: dict[str, int] = {}
    named = []
    for one in sorted(
        diagnoses, key=lambda one: [(line.file, line.line) for line in one.finding.lines]
    ):
        key = one.finding.key
        turn = seen[key] = seen.get(key, 0) + 1
        finding = (
            one.finding if turn == 1 else msgspec.structs.replace(one.finding, key=f"{key}-{turn}")
        )
        named.append(Diagnosis(finding, one.remedy, one.sample))
    return named
