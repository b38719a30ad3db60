"""How what routes ask grows with their rows, and how queries change over a long capture."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from statistics import median

from askless.capture.reading import FileReport
from askless.core.growth.by_rows import Growth, Outcome, formula, growth_of
from askless.core.growth.over_time import Trend, trends_of
from askless.core.sql.masking import masked
from askless.reports import documents
from askless.reports.loading import notes_of, requests_of

TIMES = (1, 10, 100)  # of the rows that a request has in the middle
TRENDS_MOST = 15  # shapes that are shown


def growth(path: Path, wanted: str = "") -> documents.GrowthDocument:
    """The routes of a capture whose names contain a text: those that grow first, the steepest in
    front.
    """
    files: list[FileReport] = []
    results = growth_of(request for request in requests_of(path, files) if wanted in request.route)
    return document_of(path, results, notes_of(files))


def document_of(
    path: Path, results: Iterable[Growth], notes: tuple[str, ...] = ()
) -> documents.GrowthDocument:
    """Growth that is known, in the order in which it is shown."""
    order = list(Outcome)
    ordered = sorted(
        results, key=lambda one: (order.index(one.outcome), -one.queries.slope, one.route)
    )
    return documents.GrowthDocument(
        format="askless growth", capture=str(path), routes=tuple(map(_row, ordered)), notes=notes
    )


def _row(one: Growth) -> documents.GrowthRow:
    known = one.outcome is not Outcome.TOO_FEW
    middle = median(rows for rows, _, _ in one.points) if known else 0
    projected = [
        documents.Projected(rows, one.queries.at(rows), one.elapsed_ms.at(rows), one.bytes.at(rows))
        for rows in (middle * times for times in TIMES)
    ]
    return documents.GrowthRow(
        route=one.route,
        requests=one.requests,
        outcome=str(one.outcome),
        table=one.table,
        sizes=one.sizes,
        formula=formula(one) if known else "",
        constant=one.constant,
        terms=tuple(documents.GrowthTerm(term.factor, term.table) for term in one.terms),
        slope=one.queries.slope,
        projected=tuple(projected) if known else (),
        superlinear=one.bends,
        points=tuple(documents.GrowthPoint(*point) for point in one.points),
    )


def over_time(path: Path, wanted: str = "", values: bool = False) -> documents.TrendDocument:
    """The shapes that take most time on routes whose names contain a text, over the time of the
    capture.
    """
    files: list[FileReport] = []
    trends, stretch_s = trends_of(
        request for request in requests_of(path, files) if wanted in request.route
    )
    return documents.TrendDocument(
        format="askless growth-over-time",
        capture=str(path),
        stretch_s=stretch_s,
        shapes=tuple(_trend(one, values) for one in trends[:TRENDS_MOST]),
        hidden=max(len(trends) - TRENDS_MOST, 0),
        notes=notes_of(files),
    )


def _trend(one: Trend, values: bool) -> documents.TrendRow:
    statement = one.statement
    return documents.TrendRow(
        shape=one.shape,
        sql=statement.text if values else masked(statement.text, statement.system),
        routes=one.routes,
        count=one.count,
        total_ms=one.total_ns / 1e6,
        counts=one.counts,
        first_ms=one.first_ms,
        last_ms=one.last_ms,
        direction=str(one.direction),
        ratio=one.ratio,
    )
