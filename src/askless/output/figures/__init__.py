"""Drawings as SVG or PNG, by Matplotlib, which is an extra. A new drawing is a file in this package
and a line here.
"""

from __future__ import annotations

import io
from importlib import import_module
from importlib.util import find_spec
from typing import Any

from askless.core.errors import AskLessError
from askless.output.formats import View
from askless.reports.documents import Document, name_of

# Document -> the function that draws it on a canvas of Matplotlib's.
DRAWN = {
    "plan": "askless.output.figures.plan:drawn",
    "growth": "askless.output.figures.growth:drawn",
    "timeline": "askless.output.figures.timeline:drawn",
    "requests": "askless.output.figures.requests:drawn",
    "compare": "askless.output.figures.compare:drawn",
}
DPI = 110


class Figure:
    """See the module. `name` is Matplotlib's name of the file's form."""

    def __init__(self, name: str) -> None:
        self.name = name

    def check(self) -> None:
        """Raises AskLessError if Matplotlib is missing."""
        if find_spec("matplotlib") is None:
            raise AskLessError(
                "figures-extra-missing",
                "drawing needs Matplotlib",
                "install the extra: pip install 'ask-less[figures]'",
            )

    def render(self, document: Document, view: View) -> bytes:
        """The drawing. Raises AskLessError no-figure if there is nothing to draw."""
        import matplotlib

        matplotlib.use("Agg")
        module, _, function = DRAWN[name_of(document)].partition(":")
        canvas: Any = getattr(import_module(module), function)(document)
        stream = io.BytesIO()
        # The same document gives the same file: no date, and ids that are made from a fixed salt.
        with matplotlib.rc_context({"svg.hashsalt": "askless"}):
            canvas.savefig(
                stream,
                dpi=DPI,
                format=self.name,
                metadata={"Date": None} if self.name == "svg" else None,
            )
        return stream.getvalue()


FORMATS = {"svg": Figure("svg"), "png": Figure("png")}
