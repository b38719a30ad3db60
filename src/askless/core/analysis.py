"""From requests to findings: one pass over a capture, then one judgement a route."""

from __future__ import annotations

import gc
from collections.abc import Iterable

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
    context = Context(summary.settings, schema)
    found: list[Finding] = []
    for route in summary.routes.values():
        here: list[Finding] = []
        for pattern in patterns.load():
            here += list(pattern.judge(route, context, here))
        found += here
    return ranked(found)
