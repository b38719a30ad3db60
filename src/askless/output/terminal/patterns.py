"""The patterns: a line each, or the page of one."""

from __future__ import annotations

from rich.console import Console
from rich.markdown import Markdown
from rich.table import Table
from rich.text import Text

from askless.output.terminal.drawing import SEVERITY_STYLE, command
from askless.reports import documents


def patterns(out: Console, document: documents.PatternsDocument) -> None:
    """The page of one pattern, if there is one; else all of them."""
    if document.page:
        out.print(Markdown(document.page, code_theme="ansi_dark", inline_code_theme="ansi_dark"))
        return
    rows = Table.grid(padding=(0, 2, 1, 0))
    for row in document.patterns:
        entry = Text(row.title)
        entry.append(f"\n{'with --track-use: ' if row.needs_use else ''}{row.flagged}", style="dim")
        rows.add_row(
            Text(row.name, style="bold"),
            Text(row.severity, style=SEVERITY_STYLE.get(row.severity, "")),
            entry,
        )
    out.print(rows)
    command(out, "Explain one:", "patterns", "NAME")
