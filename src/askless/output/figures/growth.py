"""Queries and time against rows, a row of drawings for each route."""

from __future__ import annotations

from typing import Any

from askless.core.errors import AskLessError
from askless.core.growth.by_rows import LinearFit, theil
from askless.output import growth_text
from askless.output.figures.drawing import bare, canvas, plain
from askless.reports import documents

ROUTES_MOST = 6
HEIGHT = 2.5  # inches a route
POINT, LINE, TIME = "#3b6ea5", "#c05020", "#4a7a3a"


def drawn(document: documents.GrowthDocument) -> Any:
    """The routes of several sizes, those that grow most first. Raises AskLessError no-figure if
    there is none.
    """
    rows = [row for row in document.routes if row.projected][:ROUTES_MOST]
    if not rows:
        raise AskLessError(
            "no-figure",
            "no route has requests with lists of different sizes, so there is nothing to draw",
            "visit a page at several sizes (see askless growth --help)",
        )
    figure = canvas(10, HEIGHT * len(rows) + 0.4)
    axes: Any = figure.subplots(len(rows), 2, squeeze=False)
    for row, (queries_axis, times_axis) in zip(rows, axes, strict=True):
        rows_seen = [float(rows) for rows, _, _ in row.points]
        queries, times = [float(one) for _, one, _ in row.points], [ms for _, _, ms in row.points]
        _panel(queries_axis, row, rows_seen, queries, "queries", POINT, growth_text.fitted(row))
        _panel(times_axis, row, rows_seen, times, "ms per request", TIME, theil(rows_seen, times))
        queries_axis.set_title(
            plain(f"{row.route}: {growth_text.equation(row)}", 80),
            fontsize=9,
            loc="left",
            weight="bold",
        )
    return figure


def _panel(
    axes: Any,
    row: documents.GrowthRow,
    xs: list[float],
    ys: list[float],
    what: str,
    colour: str,
    line: LinearFit,
) -> None:
    axes.plot(xs, ys, "o", color=colour, markersize=4, alpha=0.6)
    ends = [0.0, max(xs) * 1.05]
    axes.plot(ends, [line.at(x) for x in ends], color=LINE, linewidth=1)
    axes.set_xlim(0, ends[1])
    axes.set_ylim(0, max(max(ys), line.at(ends[1])) * 1.1 or 1)
    axes.set_xlabel(f"rows of {row.table or 'the list'}".replace("$", r"\$"), fontsize=8)
    axes.set_ylabel(what, fontsize=8)
    axes.tick_params(labelsize=8)
    bare(axes)
