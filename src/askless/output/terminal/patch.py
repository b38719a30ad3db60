"""Which edits are in a patch, and why others are not."""

from __future__ import annotations

from rich.console import Console
from rich.padding import Padding
from rich.text import Text

from askless.output import finding_text
from askless.output.text import safe
from askless.reports import documents


def patch(out: Console, document: documents.PatchDocument) -> None:
    """Those in the patch, then the others with their reasons."""
    patched = [edit for edit in document.edits if edit.patched]
    out.print(f"{len(patched)} of {len(document.edits)} edits are in the patch")
    for edit in sorted(document.edits, key=lambda one: not one.patched):
        where = f", at {finding_text.place(edit.at)}" if edit.at is not None else ""
        mark, style = ("in it", "green") if edit.patched else ("not in it", "yellow")
        line = Text(f"{mark:10}", style=style).append(
            safe(f"{edit.findings[0]:10} {edit.title}{where}"), style="default"
        )
        out.print(line)
        if edit.reason:
            out.print(Padding(Text(safe(edit.reason)), (0, 0, 0, 10)))
