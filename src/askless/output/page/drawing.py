"""The page's drawings, as SVG that is made when the page is written: nothing to load, nothing to
run, and it prints.

A library that draws in the browser weighs more than all that a report says, and shows nothing where
scripts are off; a capture's drawings are bars and points. Anyone who can't see them has the same
numbers in the table next to them.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from math import log

from markupsafe import Markup

from askless.core.growth.by_rows import LinearFit, theil
from askless.core.statistics import Ratio
from askless.core.verdicts import Outcome
from askless.output.growth_text import fitted
from askless.reports import documents

LANE = 16  # pixels of a lane's height
_LEAST = 0.25  # per cent of a lane that a bar takes at least, so that it is seen
PLOT_WIDTH, PLOT_HEIGHT, MARGIN = 300, 150, 34
TICKS_MOST = 200
POINTS_MOST = 120


def _svg(body: str, attributes: str) -> Markup:
    """Drawn of numbers alone; screen readers are given the table."""
    return Markup(f'<svg aria-hidden="true" focusable="false" {attributes}>{body}</svg>')


def _bar(left: float, width: float, kind: str, top: float = 2, height: float = LANE - 4) -> str:
    """A bar of a lane; left and width in per cent."""
    width = min(max(width, _LEAST), 100.0)
    left = min(left, 100.0 - width)
    return (
        f'<rect class="{kind}" x="{left:.2f}%" y="{top:g}" width="{width:.2f}%" '
        f'height="{height:g}"/>'
    )


def lane(row: documents.TimelineRow, total_ms: float) -> Markup:
    """Where in its request a query ran; of a folded run its span, and each of its queries."""
    if total_ms <= 0:
        return Markup("")
    scale = 100 / total_ms
    kind = "noise" if row.noise else "query"
    if row.count == 1 or not row.executions:
        body = _bar(row.start_ms * scale, (row.end_ms - row.start_ms) * scale, kind)
    else:
        body = _bar(row.start_ms * scale, (row.end_ms - row.start_ms) * scale, "span", 5, LANE - 10)
        every = -(-len(row.executions) // TICKS_MOST)
        body += "".join(
            _bar(start * scale, took * scale, kind) for start, took in row.executions[::every]
        )
    return _svg(body, f'class="lane" width="100%" height="{LANE}"')


def share(parts: Sequence[tuple[str, float]], whole: float) -> Markup:
    """A bar of several parts, each with what it is called; `whole` is the length of the longest
    such bar.
    """
    if whole <= 0:
        return Markup("")
    body, left = "", 0.0
    for kind, value in parts:
        width = 100 * value / whole
        body += f'<rect class="{kind}" x="{left:.2f}%" y="0" width="{width:.2f}%" height="10"/>'
        left += width
    return _svg(body, 'class="share" width="100%" height="10"')


def points(row: documents.GrowthRow) -> Markup:
    """Queries against rows, and the line through them."""
    xs = [float(rows) for rows, _, _ in row.points]
    return _plot(xs, [float(queries) for _, queries, _ in row.points], fitted(row), "queries")


def times(row: documents.GrowthRow) -> Markup:
    """The time of requests against rows."""
    xs, ys = [float(rows) for rows, _, _ in row.points], [ms for _, _, ms in row.points]
    return _plot(xs, ys, theil(xs, ys), "ms")


def _plot(xs: Sequence[float], ys: Sequence[float], line: LinearFit, unit: str) -> Markup:
    right, top = (
        max(xs, default=0) * 1.05 or 1,
        max([*ys, line.at(max(xs, default=0))], default=0) * 1.1 or 1,
    )
    inner_w, inner_h = PLOT_WIDTH - MARGIN - 6, PLOT_HEIGHT - MARGIN - 6

    def at(x: float, y: float) -> tuple[float, float]:
        return MARGIN + inner_w * x / right, 6 + inner_h * (1 - min(max(y / top, 0.0), 1.0))

    every = -(-len(xs) // POINTS_MOST) or 1
    dots = "".join(
        '<circle cx="{:.1f}" cy="{:.1f}" r="3"/>'.format(*at(x, y))
        for x, y in list(zip(xs, ys, strict=True))[::every]
    )
    (x1, y1), (x2, y2) = at(0, line.at(0)), at(right, line.at(right))
    floor = 6 + inner_h
    body = (
        f'<path class="axis" d="M{MARGIN} 6V{floor:.0f}H{PLOT_WIDTH - 6}"/>'
        f'<line class="fit" x1="{x1:.1f}" y1="{y1:.1f}" x2="{x2:.1f}" y2="{y2:.1f}"/>{dots}'
        f'<text x="{MARGIN - 4}" y="14" text-anchor="end">{_amount(top)}</text>'
        f'<text x="{MARGIN - 4}" y="{floor:.0f}" text-anchor="end">0</text>'
        f'<text x="{PLOT_WIDTH - 6}" y="{floor + 14:.0f}" text-anchor="end">{_amount(right)} '
        "rows</text>"
        f'<text x="{MARGIN}" y="{floor + 14:.0f}">{unit}</text>'
    )
    return _svg(
        body,
        f'class="plot" viewBox="0 0 {PLOT_WIDTH} {PLOT_HEIGHT}" width="{PLOT_WIDTH}" '
        f'height="{PLOT_HEIGHT}"',
    )


def _amount(value: float) -> str:
    return f"{value:,.0f}" if value >= 10 else f"{value:.2g}"


_KINDS = {Outcome.FASTER: "better", Outcome.SLOWER: "worse"}


def interval(ratio: Ratio, outcome: Outcome, widest: float) -> Markup:
    """A ratio of times with its interval on a scale where twice as fast and half as fast are as far
    from 1; 1 is marked.
    """
    reach = log(max(widest, 1.1))

    def at(value: float) -> float:
        return 50 + 48 * min(max(log(max(value, 1e-6)) / reach, -1.0), 1.0)

    value, low, high = map(at, (ratio.value, ratio.low, ratio.high))
    kind = _KINDS.get(outcome, "same")
    body = (
        '<line class="one" x1="50%" x2="50%" y1="0" y2="16"/>'
        f'<line class="{kind}" x1="{low:.1f}%" x2="{high:.1f}%" y1="8" y2="8"/>'
        f'<circle class="{kind}" cx="{value:.1f}%" cy="8" r="4"/>'
    )
    return _svg(body, 'class="interval" width="100%" height="16"')


def widest(ratios: Iterable[Ratio | None]) -> float:
    """The largest factor that intervals reach, up or down, as far as 10."""
    reached = [max(one.high, 1 / max(one.low, 1e-6)) for one in ratios if one is not None]
    return min(max(reached, default=2.0), 10.0)
