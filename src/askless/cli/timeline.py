"""`askless timeline`: one request's queries in order."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from askless.capture.reading import read
from askless.cli.common import add_capture, add_json, command, print_document
from askless.core.errors import AskLessError
from askless.core.findings import Line
from askless.core.model import Request
from askless.core.tables import TimelineEntry
from askless.core.tables import timeline as entries_of
from askless.output import documents, terminal

EXAMPLES = """  askless timeline calls                      the request that spends most time in queries
  askless timeline calls 12                   request 12 of `askless requests calls --each`
  askless timeline calls --route /calls/due   the slowest of that route
  askless timeline calls 12 --unfolded --values"""


def add(commands: Any, name: str) -> None:
    """Declare the command."""
    parser = command(commands, name, "show the queries of one request in order, loops folded", EXAMPLES)
    add_capture(parser)
    parser.add_argument(
        "request", metavar="REQUEST", nargs="?", type=int, help="its number (askless requests CAPTURE --each)"
    )
    parser.add_argument(
        "--route", metavar="TEXT", default="", help="the slowest request of the routes that contain this text"
    )
    parser.add_argument("--unfolded", action="store_true", help="every query on a line of its own")
    parser.add_argument(
        "--values", action="store_true", help="show parameters, literals and the path; they may be private"
    )
    add_json(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Print one request."""
    path: Path = options.capture
    number, request = chosen(path, options.request, options.route)
    document = _document(path, number, request, options.values, options.unfolded)
    print_document(document) if options.json else terminal.timeline(document)
    return 0


def chosen(path: Path, wanted: int | None, route: str) -> tuple[int, Request]:
    """The request of a number, or the one that spends most time in queries. Raises AskLessError no-request."""
    best: tuple[int, Request] | None = None
    last = 0
    for number, request in enumerate(read(path), 1):
        last = number
        if wanted is not None:
            if number == wanted:
                return number, request
            continue
        if route not in request.route or request.warm_up:
            continue
        if best is None or sum(request.durations_ns) > sum(best[1].durations_ns):
            best = number, request
    if best is None:
        what = (
            f"there is no request {wanted}; the capture holds {last}"
            if wanted is not None
            else f"no request's route contains {route!r}"
        )
        raise AskLessError("no-request", what, f"list them: askless requests {path} --each")
    return best


def _document(path: Path, number: int, request: Request, values: bool, unfolded: bool) -> documents.TimelineDocument:
    noise = sum(request.statement(i).shape.noise for i in range(len(request)))
    entries = entries_of(request, values, unfolded)
    return documents.TimelineDocument(
        format="askless timeline",
        capture=str(path),
        number=number,
        route=request.route,
        path=request.path if values else "",
        status=request.status,
        request_ms=(request.end_ns - request.start_ns) / 1e6,
        database_ms=sum(entry.duration_ms for entry in entries if not request.statement(entry.indices[0]).shape.noise),
        queries=len(request) - noise,
        noise=noise,
        rows=tuple(_row(request, entry) for entry in entries),
    )


def _row(request: Request, entry: TimelineEntry) -> documents.TimelineRow:
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
        line=Line(place.file, place.line, place.function, len(entry.indices)) if place is not None else None,
        error=error,
        load=f"{load.kind} load of {load.model}.{load.relation}" if load is not None and load.relation else "",
        parameters=entry.parameters,
    )
