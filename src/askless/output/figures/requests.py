"""Where the time of a capture goes: a bar a route, the part in queries apart, and how many queries
per request asks.
"""

from __future__ import annotations

from typing import Any

from askless.core.errors import AskLessError
from askless.core.formatting import number, plural
from askless.output.figures.drawing import APPLICATION, DATABASE, INK, SOFT, bare, canvas, plain
from askless.output.text import in_middle, milliseconds, one_line
from askless.reports import documents

ROUTES_MOST = 25
_BAR, _EDGE = 0.3, 1.5  # inches


def drawn(document: documents.RequestsDocument) -> Any:
    """The routes that spend most time, at most 25. Raises AskLessError no-figure if there is
    none.
    """
    rows = sorted(document.routes, key=lambda row: -row.request_ms * row.requests)[:ROUTES_MOST]
    if not rows:
        raise AskLessError(
            "no-figure",
            "the capture contains no finished request, so there is nothing to draw",
            "record some",
        )
    figure = canvas(11, _BAR * len(rows) + _EDGE)
    axes = figure.subplots()
    places = range(len(rows))
    inside = [row.database_ms * row.requests for row in rows]
    whole = [max(row.request_ms, row.database_ms) * row.requests for row in rows]
    axes.barh(places, whole, color=APPLICATION, height=0.66, label="the application's own")
    axes.barh(places, inside, color=DATABASE, height=0.66, label="in queries")
    for place, row, end in zip(places, rows, whole, strict=True):
        repeated = f", {number(row.repeated)} repeated" if row.repeated >= 3 else ""
        label = (
            f"  {plural(row.queries, 'query')}{repeated}, {milliseconds(row.request_ms)} ms × "
            f"{row.requests:,}"
        )
        axes.text(end, place, label, va="center", fontsize=7.5, color=SOFT)
    axes.set_yticks(places, [plain(in_middle(one_line(row.route), 48)) for row in rows], fontsize=8)
    axes.set_ylim(len(rows) - 0.4, -0.6)
    axes.set_xlim(0, max(whole) * 1.32 or 1)
    axes.set_xlabel("ms over the whole capture", fontsize=8, color=SOFT)
    axes.tick_params(axis="x", labelsize=8)
    axes.tick_params(axis="y", length=0)
    bare(axes, "top", "right", "left")
    axes.legend(loc="lower right", fontsize=8, frameon=False)
    omitted = len(document.routes) - len(rows)
    more = f"; {plural(omitted, 'route')} more take less time" if omitted else ""
    head = f"{plural(document.requests, 'request')}, {plural(document.queries, 'query')}{more}"
    figure.suptitle(head, fontsize=10, x=0.01, ha="left", weight="bold", color=INK)
    return figure
