"""What the terminal shows: one function a document, looked up here. Fits 100 columns, degrades to
80.
"""

from __future__ import annotations

from importlib import import_module
from typing import Any

from askless.output.formats import View
from askless.reports.documents import Document, name_of

# Document and variant -> the function that draws it.
VIEWS = {
    ("requests", ""): "askless.output.terminal.requests:requests",
    ("requests-each", ""): "askless.output.terminal.requests:each",
    ("timeline", ""): "askless.output.terminal.timeline:timeline",
    ("findings", ""): "askless.output.terminal.findings:findings",
    ("findings", "all"): "askless.output.terminal.findings:all_edits",
    ("findings", "each"): "askless.output.terminal.findings:each",
    ("findings", "story"): "askless.output.terminal.findings:story",
    ("patch", ""): "askless.output.terminal.patch:patch",
    ("check", ""): "askless.output.terminal.check:check",
    ("plan", ""): "askless.output.terminal.plans:plan",
    ("plan", "tree"): "askless.output.terminal.plans:plan_tree",
    ("tables", ""): "askless.output.terminal.tables:tables",
    ("trial", ""): "askless.output.terminal.trials:index",
    ("trial-rewrite", ""): "askless.output.terminal.trials:rewrite",
    ("trial-finding", ""): "askless.output.terminal.trials:finding",
    ("trial-edits", ""): "askless.output.terminal.edit_trial:edits",
    ("weigh", ""): "askless.output.terminal.trials:weigh",
    ("indexes", ""): "askless.output.terminal.indexes:indexes",
    ("growth", ""): "askless.output.terminal.growth:growth",
    ("growth-over-time", ""): "askless.output.terminal.growth:over_time",
    ("patterns", ""): "askless.output.terminal.patterns:patterns",
    ("gate", ""): "askless.output.terminal.gate:gate",
    ("compare", ""): "askless.output.terminal.compare:compare",
}


class Terminal:
    """See the module."""

    def check(self) -> None:
        """Nothing more is needed."""

    def render(self, document: Document, view: View) -> bytes:
        """The document as text, with colours where standard output is a terminal that takes
        them.
        """
        from askless.output.terminal.drawing import console

        module, _, function = VIEWS[name_of(document), view.variant].partition(":")
        draw: Any = getattr(import_module(module), function)
        out = console()
        with out.capture() as captured:
            draw(out, document)
        return captured.get().encode("utf-8", "replace")


FORMATS = {"terminal": Terminal()}
