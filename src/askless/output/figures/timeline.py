"""One request's queries on a time axis, a lane each; a folded run shows its span and each of its
queries.
"""

from __future__ import annotations

from typing import Any

from askless.core.errors import AskLessError
from askless.core.formatting import location_text, plural
from askless.output.figures.drawing import DATABASE, INK, NOISE, SOFT, SPAN, bare, canvas, plain
from askless.output.text import brief, milliseconds, short_path
from askless.reports import documents

LANES_MOST = 40
_LANE, _EDGE = 0.34, 1.3  # inches
_LEAST = 0.0015  # of the width that a bar takes at least


def drawn(document: documents.TimelineDocument) -> Any:
    """The drawing. Raises AskLessError no-figure if the request asks nothing."""
    rows = document.rows[:LANES_MOST]
    if not rows:
        raise AskLessError(
            "no-figure",
            f"request {document.name} has no queries, so there is nothing to draw",
            f"list the others: askless requests {document.capture} --each",
        )
    figure = canvas(12, _LANE * len(rows) + _EDGE)
    axes = figure.subplots()
    total = max(document.request_ms, *(row.end_ms for row in rows))
    for lane, row in enumerate(rows):
        colour = NOISE if row.noise else DATABASE
        if row.count > 1 and row.executions:
            axes.barh(lane, row.end_ms - row.start_ms, left=row.start_ms, height=0.28, color=SPAN)
            widths = [max(took, total * _LEAST) for _, took in row.executions]
            axes.barh(
                [lane] * len(row.executions),
                widths,
                left=[start for start, _ in row.executions],
                height=0.62,
                color=colour,
            )
        else:
            width = max(row.end_ms - row.start_ms, total * _LEAST)
            axes.barh(lane, width, left=row.start_ms, height=0.62, color=colour)
    axes.set_yticks(range(len(rows)), [_label(row) for row in rows], fontsize=7.5)
    axes.set_ylim(len(rows) - 0.4, -0.6)
    axes.set_xlim(0, total)
    axes.set_xlabel("ms since the request started", fontsize=8, color=SOFT)
    axes.tick_params(axis="x", labelsize=8)
    axes.tick_params(axis="y", length=0)
    bare(axes, "top", "right", "left")
    omitted = document.rows[LANES_MOST:]
    more = f"; {len(omitted)} lines more are not drawn" if omitted else ""
    head = (
        f"{document.route}: {plural(document.queries, 'query')}, "
        f"{milliseconds(document.database_ms)} of "
    )
    head += f"{milliseconds(document.request_ms)} ms in the database{more}"
    figure.suptitle(plain(head, 140), fontsize=10, x=0.01, ha="left", weight="bold", color=INK)
    return figure


def _label(row: documents.TimelineRow) -> str:
    where = ""
    if row.line is not None and not row.noise:
        where = "\n" + plain(location_text(short_path(row.line.file, 2), row.line.line), 60)
    times = f"×{row.count}  " if row.count > 1 else ""
    return times + plain(brief(row.sql), 62) + where
