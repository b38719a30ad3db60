"""Findings, with those that the project accepts kept separate."""

from __future__ import annotations

from datetime import date
from pathlib import Path

import msgspec

from askless.capture.lines import files_of
from askless.core.errors import AskLessError
from askless.core.findings.acceptance import Accepted, sorted_out
from askless.core.findings.finding import Finding
from askless.core.findings.severities import SEVERITIES
from askless.core.formatting import milliseconds, plural
from askless.project import file, summary_cache
from askless.project.structure_cache import cached_structures
from askless.reports import documents
from askless.reports.routes import check_route

TYPE_CHECKING = False
if TYPE_CHECKING:
    from askless.core.aggregation.summary import RouteStats, Summary
    from askless.core.records.schema import Schema


class OpenAndExpired(msgspec.Struct, frozen=True):
    """Findings apart: those that no one has accepted, those that someone has, and acceptances that
    have ended.
    """

    open: list[Finding]
    accepted: list[Finding]
    ended: list[tuple[Finding, Accepted]]


def open_findings(
    summary: Summary, project: Path | None = None, schema: Schema | None = None
) -> OpenAndExpired:
    """The findings of a summary, sorted by what the project's file accepts today.

    `project` is that file; None looks for one from here upwards. Raises AskLessError
    project-file-bad.
    """
    from askless.core.analysis.pipeline import findings_of

    with cached_structures():
        everything = findings_of(summary, schema)
    return sort(everything, project)


def sort(everything: list[Finding], project: Path | None = None) -> OpenAndExpired:
    """Findings, sorted by what the project's file accepts today: see `open_findings`."""
    cases = file.read(file.nearest(Path()) if project is None else project).accepted
    remaining, ended = sorted_out(everything, list(cases), date.today())
    keys = {finding.key for finding in remaining}
    return OpenAndExpired(
        remaining, [finding for finding in everything if finding.key not in keys], ended
    )


class Choice(msgspec.Struct, frozen=True):
    """Which findings to list: on routes that contain a text, of some patterns (all if none is
    named).

    `with_accepted`: those as well that the project accepts.
    """

    route: str = ""
    patterns: tuple[str, ...] = ()
    with_accepted: bool = False


def findings(
    path: Path,
    choice: Choice = Choice(),  # noqa: B008  (frozen)
    schema: Schema | None = None,
    network_latency_ms: float = 0.0,
    values: bool = False,
    project: Path | None = None,
) -> documents.FindingsDocument:
    """The findings of a capture, and the edits that fix them; `network_latency_ms` is added to each
    query.

    If they depend on nothing but the capture, they are cached, and an unchanged capture is not read
    again. Raises AskLessError: see the reading of captures.
    """
    rules = file.here()
    cacheable = schema is None and not values and not network_latency_ms
    own = [rules.path] if rules.path is not None else []
    mark = summary_cache.fingerprint([*files_of(path), *own]) if cacheable else ""
    judged = summary_cache.recall(mark)
    if judged is None:
        from askless.reports.loading import load

        with cached_structures():
            summary, notes = load(path, rules.settings(values, network_latency_ms), project=rules)
            judged = judged_from(summary, notes, schema)
        summary_cache.remember(mark, judged)
    return document_of(path, judged, choice, project, network_latency_ms)


def document_of(
    path: Path,
    judged: summary_cache.CachedSummary,
    choice: Choice = Choice(),  # noqa: B008  (frozen)
    project: Path | None = None,
    network_latency_ms: float = 0.0,
) -> documents.FindingsDocument:
    """Findings that are known, in the order in which they are shown, those set apart that the
    project accepts.
    """
    result = sort(list(judged.findings), project)
    everything = result.open + result.accepted
    listed = everything if choice.with_accepted else result.open
    wanted = choice.patterns
    remaining = [
        f for f in listed if choice.route in f.route and (not wanted or f.pattern in wanted)
    ]
    where = [] if remaining or not choice.route else _time_of(judged, choice.route, path)
    ended = [
        f"{finding.key} was accepted until {case.until} ({case.reason}); it is reported again"
        for finding, case in result.ended
    ]
    return documents.FindingsDocument(
        format="askless findings",
        capture=str(path),
        findings=tuple(remaining),
        edits=tuple(
            edit
            for edit in judged.edits
            if not {f.key for f in remaining}.isdisjoint(edit.findings)
        ),
        network_latency_ms=network_latency_ms,
        requests=judged.requests,
        queries=judged.queries,
        hidden=len(listed) - len(remaining),
        accepted=tuple(finding.key for finding in result.accepted),
        damage=judged.damage,
        notes=(*judged.notes, *where, *ended),
    )


ROUTES_MOST = 3  # routes of which it is said where their time goes
SQL_SHOWN = 120  # characters of a statement


def _time_of(judged: summary_cache.CachedSummary, text: str, path: Path) -> list[str]:
    """Where the time goes of routes that contain a text. Raises AskLessError no-route."""
    check_route(text, [route.route for route in judged.routes], path)
    routes = [route for route in judged.routes if text in route.route]
    notes = []
    for route in sorted(routes, key=lambda route: -route.database_ms)[:ROUTES_MOST]:
        spent = (
            f"{route.route}: {plural(route.queries, 'query')} take "
            f"{milliseconds(route.database_ms)} "
            f"of {milliseconds(route.request_ms)} ms"
        )
        if route.sql:
            spent += (
                f"; {milliseconds(route.shape_ms)} ms in: {_short(route.sql)} "
                f"(its plan: askless plan {path} --shape {route.shape} --db URL)"
            )
        notes.append(spent)
    return notes


def judged_from(
    summary: Summary, notes: tuple[str, ...] = (), schema: Schema | None = None
) -> summary_cache.CachedSummary:
    """All findings of a summary, and the edits that fix them."""
    from askless.core.analysis.pipeline import judgement_of

    routes = summary.routes.values()
    with cached_structures():
        diagnoses, edits = judgement_of(summary, schema)
    return summary_cache.CachedSummary(
        findings=tuple(diagnoses),
        edits=tuple(edits),
        requests=sum(route.requests for route in routes),
        queries=sum(stats.count for route in routes for stats in route.own_shapes()),
        notes=notes,
        damage=summary.damage,
        routes=tuple(_route_time(route) for route in routes if route.requests),
    )


def _short(sql: str) -> str:
    flat = " ".join(sql.split())
    columns, source, rest = flat.partition(" FROM ")
    if source and len(flat) > SQL_SHOWN and columns[:7].upper() == "SELECT ":
        flat = " ".join(("SELECT … FROM", rest))
    return flat if len(flat) <= SQL_SHOWN else flat[: SQL_SHOWN - 1] + "…"


def _route_time(route: RouteStats) -> summary_cache.RouteTime:
    from askless.core.aggregation.route_rows import route_row
    from askless.core.sql.masking import masked

    row = route_row(route)
    costliest = max(route.own_shapes(), key=lambda stats: stats.duration_ns, default=None)
    known = summary_cache.RouteTime(row.route, row.queries, row.database_ms, row.request_ms)
    if costliest is None:
        return known
    statement = costliest.statement
    return msgspec.structs.replace(
        known,
        shape=costliest.shape.digest,
        sql=masked(statement.text, statement.system),
        shape_ms=costliest.duration_ns / route.requests / 1e6,
    )


def only(document: documents.FindingsDocument, key: str) -> documents.FindingsDocument:
    """The same document with one finding. Raises AskLessError no-finding."""
    result = tuple(finding for finding in document.findings if finding.key == key)
    if not result:
        raise AskLessError(
            "no-finding",
            f"no listed finding is called {key}",
            f"list them: askless findings {document.capture}",
        )
    return msgspec.structs.replace(
        document,
        findings=result,
        edits=tuple(e for e in document.edits if key in e.findings),
        hidden=document.hidden + len(document.findings) - len(result),
    )


def judge(document: documents.FindingsDocument, least: str) -> bool:
    """Whether a finding that no one has accepted is at least so severe."""
    worst = SEVERITIES.index(least)
    return any(
        SEVERITIES.index(finding.severity) <= worst and finding.key not in document.accepted
        for finding in document.findings
    )
