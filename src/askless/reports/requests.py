"""How much the requests of a capture ask, by route or one by one."""

from __future__ import annotations

from pathlib import Path

from askless.capture.reading import FileReport
from askless.core.aggregation.route_rows import by_database_time, route_row
from askless.core.aggregation.summary import Summary
from askless.core.records.model import Request
from askless.core.records.sampling import sum_of
from askless.reports import documents
from askless.reports.columns import TimedRequest, request_record
from askless.reports.loading import load, notes_of, requests_of


def by_route(path: Path, wanted: str = "") -> documents.RequestsDocument:
    """The routes of a capture whose names contain a text, the one that spends most time in queries
    first.
    """
    summary, notes = load(path, look=False)
    return document_of(path, summary, notes, wanted)


def document_of(
    path: Path, summary: Summary, notes: tuple[str, ...] = (), wanted: str = ""
) -> documents.RequestsDocument:
    """The routes of a summary, in the order in which they are shown."""
    rows = tuple(
        route_row(route)
        for route in by_database_time(summary)
        if wanted in route.route and (route.requests or not route.warm_up)
    )
    shapes = [stats for route in summary.routes.values() for stats in route.shapes.values()]
    return documents.RequestsDocument(
        format="askless requests",
        capture=str(path),
        routes=rows,
        requests=sum(route.requests for route in summary.routes.values()),
        queries=sum(stats.count for stats in shapes if not stats.shape.noise),
        noise=sum(stats.count for stats in shapes if stats.shape.noise),
        total_requests=sum(row.total_requests for row in rows),
        estimated_queries=sum_of([row.estimated_queries for row in rows]),
        estimated_database_ms=sum_of([row.estimated_database_ms for row in rows]),
        notes=notes,
    )


def each(path: Path, wanted: str = "", values: bool = False) -> documents.EachDocument:
    """The requests whose routes contain a text, in the order of their ends; their paths where
    values are asked for.
    """
    files: list[FileReport] = []
    rows = tuple(
        row_of(request, values) for request in requests_of(path, files) if wanted in request.route
    )
    return documents.EachDocument(
        format="askless requests-each", capture=str(path), requests=rows, notes=notes_of(files)
    )


def row_of(request: Request, values: bool) -> documents.RequestRow:
    """One request, counted; its path where values are asked for."""
    record = request_record(TimedRequest(request), values)
    return documents.RequestRow(
        name=record.name,
        route=record.route,
        path=record.path,
        status=record.status,
        queries=record.queries,
        repeated=record.repeated,
        database_ms=record.database_ms,
        request_ms=record.duration_ms,
        rows=record.rows,
        warm_up=record.warm_up,
    )
