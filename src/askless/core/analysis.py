"""From requests to findings: one pass over a capture, then one judgement a route."""

from __future__ import annotations

import gc
from collections.abc import Iterable

import msgspec

from askless.core import patterns
from askless.core.findings import Finding, ranked
from askless.core.model import Request, Schema
from askless.core.patterns.base import Context
from askless.core.settings import Settings
from askless.core.summary import Summary


def summarise(requests: Iterable[Request], settings: Settings | None = None) -> Summary:
    """Add up a stream of requests in bounded memory."""
    summary = Summary(list(patterns.load()), settings)
    add = summary.add
    # Streams of short-lived containers make the cycle collector run all the time, and they hold no cycles.
    collecting = gc.isenabled()
    gc.disable()
    try:
        for request in requests:
            add(request)
    finally:
        if collecting:
            gc.enable()
    return summary.finish()


def findings_of(summary: Summary, schema: Schema | None = None) -> list[Finding]:
    """All findings of a summary, those that matter most first."""
    context = Context(summary.settings, schema, summary.models)
    found: list[Finding] = []
    for route in summary.routes.values():
        here: list[Finding] = []
        for pattern in patterns.load():
            here += list(pattern.judge(route, context, here))
        found += here
    return ranked(_with_own_keys(found))


def _with_own_keys(found: list[Finding]) -> list[Finding]:
    """Findings of one shape on several lines of one function: the second and later ones get a number to their key."""
    seen: dict[str, int] = {}
    named = []
    for finding in sorted(found, key=lambda f: [(line.file, line.line) for line in f.lines]):
        turn = seen[finding.key] = seen.get(finding.key, 0) + 1
        named.append(finding if turn == 1 else msgspec.structs.replace(finding, key=f"{finding.key}-{turn}"))
    return named
