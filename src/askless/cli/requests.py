"""`askless requests`: which routes ask how much."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from askless.capture.reading import read
from askless.cli.common import add_capture, add_json, command, load, notes_of, print_document
from askless.core.model import Request
from askless.core.tables import by_database_time, route_row
from askless.output import documents, terminal

EXAMPLES = """  askless requests calls               by route, the one that spends most time in queries first
  askless requests calls --each        one by one, with the numbers that `askless timeline` takes
  askless requests calls --json"""


def add(commands: Any, name: str) -> None:
    """Declare the command."""
    parser = command(commands, name, "show by route how much the requests of a capture ask", EXAMPLES)
    add_capture(parser)
    parser.add_argument("--each", action="store_true", help="list the requests one by one")
    parser.add_argument("--route", metavar="TEXT", default="", help="only routes that contain this text")
    parser.add_argument("--values", action="store_true", help="with --each: show paths; they may be private")
    add_json(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Print the routes or the requests."""
    path: Path = options.capture
    if options.each:
        each = _each(path, options.route, options.values)
        print_document(each) if options.json else terminal.each(each)
        return 0
    document = by_route(path, options.route)
    print_document(document) if options.json else terminal.requests(document)
    return 0


def by_route(path: Path, wanted: str) -> documents.RequestsDocument:
    """The routes of a capture."""
    summary, reports = load(path)
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
        notes=tuple(notes_of(reports)),
    )


def _each(path: Path, wanted: str, values: bool) -> documents.EachDocument:
    rows = [_row(number, request, values) for number, request in enumerate(read(path), 1) if wanted in request.route]
    return documents.EachDocument(format="askless requests-each", capture=str(path), requests=tuple(rows))


def _row(number: int, request: Request, values: bool) -> documents.RequestRow:
    asked = [i for i in range(len(request)) if not request.statement(i).shape.noise]
    shapes = {request.statement(i).shape.digest for i in asked}
    return documents.RequestRow(
        number=number,
        route=request.route,
        path=request.path if values else "",
        status=request.status,
        queries=len(asked),
        repeated=len(asked) - len(shapes),
        database_ms=sum(request.durations_ns[i] for i in asked) / 1e6,
        request_ms=(request.end_ns - request.start_ns) / 1e6,
        rows=sum(max(request.rows[i], 0) for i in asked),
        warm_up=request.warm_up,
    )
