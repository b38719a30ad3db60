"""Before against after: queries per request, and how much faster with its interval, one line per
route.
"""

from __future__ import annotations

from typing import Any

from askless.core.errors import AskLessError
from askless.core.formatting import number
from askless.core.verdicts import Outcome
from askless.output.figures.drawing import (
    DATABASE,
    FASTER,
    INK,
    SAME,
    SLOWER,
    SOFT,
    SPAN,
    bare,
    canvas,
    plain,
)
from askless.output.text import in_middle, one_line
from askless.reports import documents

ROUTES_MOST = 30
_LINE, _EDGE = 0.36, 1.5  # inches
_COLOURS = {Outcome.FASTER: FASTER, Outcome.SLOWER: SLOWER}
_MARKS = {Outcome.FASTER: ">", Outcome.SLOWER: "<"}


def drawn(document: documents.CompareDocument) -> Any:
    """The routes that both sides asked. Raises AskLessError no-figure if there is none."""
    rows = [row for row in document.routes if None not in row.queries][:ROUTES_MOST]
    if not rows:
        raise AskLessError(
            "no-figure",
            "the captures have no routes in common, so there is nothing to draw",
            "name captures of the same pages",
        )
    figure = canvas(12, _LINE * len(rows) + _EDGE)
    left, right = figure.subplots(1, 2, sharey=True, width_ratios=(1, 1))
    _queries(left, rows)
    _ratios(right, rows)
    left.set_yticks(
        range(len(rows)), [plain(in_middle(one_line(row.route), 44)) for row in rows], fontsize=8
    )
    left.set_ylim(len(rows) - 0.4, -0.6)
    head = (
        f"{len(document.new)} new findings, {len(document.fixed)} fixed, "
        f"{len(document.improved)} improved, {len(document.remaining)} remaining"
    )
    figure.suptitle(plain(head), fontsize=10, x=0.01, ha="left", weight="bold", color=INK)
    return figure


def _queries(axes: Any, rows: list[documents.CompareRow]) -> None:
    for place, row in enumerate(rows):
        before, after = (value or 0.0 for value in row.queries)
        axes.plot([before, after], [place, place], color=SPAN, linewidth=2, zorder=1)
        axes.scatter([before], [place], facecolors="white", edgecolors=DATABASE, s=34, zorder=2)
        axes.scatter([after], [place], color=DATABASE, s=34, zorder=3)
        label = number(before) if before == after else f"{number(before)} → {number(after)}"
        axes.annotate(
            label,
            (max(before, after), place),
            (8, 0),
            textcoords="offset points",
            va="center",
            fontsize=7.5,
        )
    most = max(max(value or 0.0 for value in row.queries) for row in rows)
    axes.set_xlim(-most * 0.03, most * 1.3 or 1)
    axes.set_xlabel("queries per request: before ○, after ●", fontsize=8, color=SOFT)
    axes.tick_params(axis="x", labelsize=8)
    axes.tick_params(axis="y", length=0)
    bare(axes, "top", "right", "left")


def _ratios(axes: Any, rows: list[documents.CompareRow]) -> None:
    """A log axis: twice as fast and half as fast are as far from 1."""
    from matplotlib.ticker import FuncFormatter, NullFormatter

    axes.set_xscale("log")
    axes.axvline(1, color=SOFT, linewidth=0.8, linestyle=":")
    for place, row in enumerate(rows):
        if row.ratio is None:
            continue
        value, low, high = row.ratio.value, row.ratio.low, row.ratio.high
        outcome = row.verdict.outcome
        colour = _COLOURS.get(outcome, SAME)
        axes.plot([low, high], [place, place], color=colour, linewidth=2.5)
        axes.plot([value], [place], _MARKS.get(outcome, "o"), color=colour, markersize=6)
        axes.annotate(
            plain(row.verdict.text, 44),
            (high, place),
            (8, 0),
            textcoords="offset points",
            va="center",
            fontsize=7.5,
        )
    known = [row.ratio for row in rows if row.ratio is not None]
    low, high = min([0.5, *(one.low for one in known)]), max([2.0, *(one.high for one in known)])
    axes.set_xlim(low / 1.1, high * (high / low) ** 0.75)
    axes.xaxis.set_major_formatter(FuncFormatter(lambda value, _: f"×{value:g}"))
    axes.xaxis.set_minor_formatter(NullFormatter())
    axes.set_xlabel(
        "time before / time after with its interval; values above 1 are faster",
        fontsize=8,
        color=SOFT,
    )
    axes.tick_params(axis="x", labelsize=8)
    axes.tick_params(axis="y", length=0)
    bare(axes, "top", "right", "left")
