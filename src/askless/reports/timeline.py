"""One request's queries in order."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from askless.capture.reading import FileReport
from askless.core.aggregation.route_rows import TimelineEntry, timeline as entries_of
from askless.core.errors import AskLessError
from askless.core.findings.finding import SourceLine
from askless.core.inference.failures import masked_error
from askless.core.records.model import Request
from askless.reports import documents
from askless.reports.loading import notes_of, requests_of

EACH_MOST = 400  # queries of a folded run that are reported one by one


def timeline(
    path: Path, name: str = "", route: str = "", values: bool = False, unfolded: bool = False
) -> documents.TimelineDocument:
    """The request of a name, else the one that spends most time in queries of those whose routes
    contain a text.

    Raises AskLessError no-request.
    """
    files: list[FileReport] = []
    requests = requests_of(path, files)
    request = named(requests, name, path) if name else slowest(requests, route, path)
    return document_of(path, request, notes_of(files), values, unfolded)


def document_of(
    path: Path,
    request: Request,
    notes: tuple[str, ...] = (),
    values: bool = False,
    unfolded: bool = False,
) -> documents.TimelineDocument:
    """The queries of a request, in the order in which they are shown."""
    noise = sum(request.statement(i).shape.noise for i in range(len(request)))
    entries = entries_of(request, values, unfolded)
    return documents.TimelineDocument(
        format="askless timeline",
        capture=str(path),
        name=request.name,
        route=request.route,
        path=request.path if values else "",
        status=request.status,
        request_ms=(request.end_ns - request.start_ns) / 1e6,
        database_ms=request.database_ns() / 1e6,
        queries=len(request) - noise,
        noise=noise,
        rows=tuple(_row(request, entry, values) for entry in entries),
        notes=notes,
    )


def named(requests: Iterable[Request], name: str, path: Path) -> Request:
    """The request of a name. Raises AskLessError no-request."""
    result = next((request for request in requests if request.name == name), None)
    if result is None:
        raise AskLessError(
            "no-request",
            f"{path} holds no request {name}",
            f"list them: askless requests {path} --each",
        )
    return result


def slowest(requests: Iterable[Request], route: str, path: Path) -> Request:
    """The request that spends most time in queries, warm-ups omitted. Raises AskLessError
    no-request.
    """
    best: Request | None = None
    most_ns = 0
    for request in requests:
        if route not in request.route or request.warm_up:
            continue
        spent_ns = request.database_ns()
        if best is None or spent_ns > most_ns:
            best, most_ns = request, spent_ns
    if best is None:
        raise AskLessError(
            "no-request",
            f"no request of {path} has a route that contains {route!r}",
            f"list them: askless requests {path} --each",
        )
    return best


def _row(request: Request, entry: TimelineEntry, values: bool) -> documents.TimelineRow:
    first = entry.indices[0]
    place, load = request.place(first), request.load(first)
    error = next((request.errors[i] for i in entry.indices if i in request.errors), "")
    return documents.TimelineRow(
        start_ms=entry.start_ms,
        end_ms=entry.end_ms,
        duration_ms=entry.duration_ms,
        count=len(entry.indices),
        rows=entry.rows,
        bytes=entry.bytes,
        sql=entry.sql,
        shape=request.statement(first).shape.digest,
        noise=request.statement(first).shape.noise,
        line=SourceLine(place.file, place.line, place.function, len(entry.indices))
        if place is not None
        else None,
        error=error if values else masked_error(error),
        load=f"{load.kind} load of {load.model}.{load.relation}"
        if load is not None and load.relation
        else "",
        parameters=entry.parameters,
        executions=tuple(documents.Execution(*_span(request, i)) for i in entry.indices[:EACH_MOST])
        if len(entry.indices) > 1
        else (),
        rows_examined=_examined(request, entry),
    )


def _examined(request: Request, entry: TimelineEntry) -> int | None:
    known = [rows for i in entry.indices if (rows := request.rows_examined(i)) is not None]
    return sum(known) if known else None


def _span(request: Request, i: int) -> tuple[float, float]:
    """When a query began and how long it took, in ms."""
    return (request.starts_ns[i] - request.start_ns) / 1e6, request.durations_ns[i] / 1e6
