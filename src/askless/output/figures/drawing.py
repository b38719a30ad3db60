"""What all drawings share: colours, text that is not taken for a formula, a canvas."""

from __future__ import annotations

from typing import Any

from askless.output.text import one_line

DATABASE, APPLICATION, SPAN, NOISE = "#3b6ea5", "#c9d6e2", "#a9c3dc", "#9aa4ad"
FASTER, SLOWER, SAME = "#2e7d4f", "#b3392f", "#6b7680"
INK, SOFT = "#1c2630", "#5b6671"


def plain(text: str, longest: int = 0) -> str:
    """Text on one line that the drawing does not take for a formula."""
    return one_line(text, longest).replace("$", r"\$")


def canvas(width: float, height: float) -> Any:
    """An empty figure of so many inches."""
    from matplotlib.figure import Figure

    return Figure(figsize=(width, height), layout="constrained")


def bare(axes: Any, *sides: str) -> None:
    """Take away the frame's sides that say nothing."""
    for side in sides or ("top", "right"):
        axes.spines[side].set_visible(False)
