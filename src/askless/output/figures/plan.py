"""A plan as a tree of boxes."""

from __future__ import annotations

import textwrap
from typing import Any

from askless.core.errors import AskLessError
from askless.core.formatting import number, plural
from askless.output.figures.drawing import plain
from askless.output.text import milliseconds, one_line, percent, safe
from askless.reports import documents

BOX_WIDTH, BOX_HEIGHT = 3.3, 0.62
GAP_X, GAP_Y = 0.35, 0.5
LINE = 0.2
WRAP = 44
TITLE_CHARACTERS = 11.5  # an inch
PLAIN, SEEN = "#f4f6f8", "#fff3d6"


def drawn(document: documents.PlanDocument) -> Any:
    """The first plan of a document. Raises AskLessError no-figure if there is none."""
    row = next((row for row in document.statements if row.plan), None)
    if row is None:
        raise AskLessError("no-figure", "there is no plan to draw", "see the messages above")
    return _plan(row)


class _Box:
    """A node with its place: x in boxes, y in steps from the top."""

    def __init__(self, node: documents.PlanNode) -> None:
        self.node = node
        self.x = self.top = 0.0
        self.lines = _lines(node)
        self.height = BOX_HEIGHT + LINE * max(len(self.lines) - 2, 0)
        self.children = [_Box(child) for child in node.children]

    def place(self, left: float, top: float) -> float:
        """Lay out this node above its children; the right edge of what they take."""
        self.top = top
        below = top + self.height + GAP_Y
        if not self.children:
            self.x = left
            return left + BOX_WIDTH + GAP_X
        edge = left
        for child in self.children:
            edge = child.place(edge, below)
        self.x = (self.children[0].x + self.children[-1].x) / 2
        return edge

    def all(self) -> list[_Box]:
        """This box and all below it."""
        return [self, *(box for child in self.children for box in child.all())]


def _lines(node: documents.PlanNode) -> list[tuple[str, str]]:
    """The lines of a box with their weight: what, numbers, observations."""
    head = " ".join(part for part in (node.kind, f"on {node.table}" if node.table else "") if part)
    lines = [(one_line(head, WRAP), "bold")]
    if node.index:
        lines.append((one_line(f"by {node.index}", WRAP), "normal"))
    parts = []
    if node.loops == 0:
        parts.append("never run")
    elif node.actual_rows is not None:
        parts.append(
            plural(node.actual_rows, "row")
            + (f" × {node.loops:,}" if (node.loops or 1) > 1 else "")
        )
    if node.estimated_rows is not None:
        parts.append(f"{number(node.estimated_rows)} expected")
    if node.own_ms is not None:
        parts.append(
            f"{milliseconds(node.own_ms)} ms"
            + (f" ({percent(node.share)})" if node.share is not None else "")
        )
    if parts:
        lines.append((", ".join(parts), "normal"))
    for observation in node.observations:
        wrapped = textwrap.wrap("! " + safe(observation), WRAP)
        lines += [(text, "italic") for text in wrapped]
    return lines


def _plan(row: documents.PlanRow) -> Any:
    """Draw one statement's plan. Colour follows the share of the time; what was observed is in the
    box.
    """
    from matplotlib.figure import Figure as Canvas

    boxes: list[_Box] = []
    edge = 0.0
    for node in row.plan:
        box = _Box(node)
        edge = box.place(edge, 0.0)
        boxes += box.all()
    deepest = max(box.top + box.height for box in boxes)
    width = max(edge - GAP_X, BOX_WIDTH) + 0.4
    title = textwrap.wrap(one_line(row.sql, 400), int(width * TITLE_CHARACTERS)) or [""]
    above = 0.5 + LINE * (len(title) + 1)
    height = above + deepest + 0.2
    figure = Canvas(figsize=(width, height))
    axes: Any = figure.add_axes((0.0, 0.0, 1.0, 1.0))
    axes.set_xlim(-0.2, width - 0.2)
    axes.set_ylim(deepest + 0.2, -above)
    axes.axis("off")
    for place, line in enumerate(title):
        axes.text(
            0.0, 0.25 - above + place * LINE, plain(line), fontsize=9, weight="bold", va="center"
        )
    if any(box.node.share for box in boxes):
        axes.text(
            0.0,
            -0.2,
            "blue: each step's own share of the time",
            fontsize=8,
            color="#3b6ea5",
            va="center",
        )
    for box in boxes:
        _draw(axes, box)
    return figure


def _draw(axes: Any, box: _Box) -> None:
    from matplotlib.patches import Rectangle

    seen = bool(box.node.observations)
    axes.add_patch(
        Rectangle(
            (box.x, box.top),
            BOX_WIDTH,
            box.height,
            facecolor=SEEN if seen else PLAIN,
            edgecolor="#8a6d1a" if seen else "#7a8691",
            linewidth=1.4 if seen else 0.8,
        )
    )
    if box.node.share:
        axes.add_patch(
            Rectangle(
                (box.x, box.top + box.height - 0.07),
                BOX_WIDTH * min(box.node.share, 1.0),
                0.07,
                facecolor="#3b6ea5",
                linewidth=0,
            )
        )
    for place, (text, weight) in enumerate(box.lines):
        style = {"style": "italic"} if weight == "italic" else {"weight": weight}
        axes.text(
            box.x + 0.08,
            box.top + 0.17 + place * LINE,
            plain(text),
            fontsize=8,
            va="center",
            **style,
        )
    for child in box.children:
        axes.plot(
            [box.x + BOX_WIDTH / 2, child.x + BOX_WIDTH / 2],
            [box.top + box.height, child.top],
            color="#7a8691",
            linewidth=0.8,
            zorder=0,
        )
