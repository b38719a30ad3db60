"""One request's queries on a time axis."""

from __future__ import annotations

from rich.console import Console
from rich.text import Text

from askless.core.formatting import plural
from askless.output.finding_text import place
from askless.output.terminal.drawing import linked, table_of
from askless.output.text import brief, milliseconds, one_line, percent, safe
from askless.reports import documents


def timeline(out: Console, document: documents.TimelineDocument) -> None:
    """One request's queries on a time axis."""
    out.print(
        Text(
            f"request {document.name}: {safe(document.route)}  {safe(document.path)}".rstrip(),
            style="bold",
        )
    )
    share = document.database_ms / document.request_ms if document.request_ms else 0.0
    out.print(
        Text(
            f"{plural(document.queries, 'query')} (and {document.noise:,} noise), "
            f"{milliseconds(document.database_ms)} ms of "
            f"{milliseconds(document.request_ms)} ms in the database ({percent(share)})"
        )
    )
    bar_width = max(12, min((out.width - 56) // 2, 60))
    table = table_of(
        ("at ms", "r"),
        (f"0 ── {milliseconds(document.request_ms)} ms", "l"),
        ("ms", "r"),
        ("runs", "r"),
        ("rows", "r"),
        ("query and line of code", "l"),
    )
    for row in document.rows:
        what = Text(
            one_line(brief(row.sql), 2 * (out.width - bar_width - 32)),
            style="dim" if row.noise else "",
        )
        if row.parameters:
            what.append("\n  with " + one_line(row.parameters, 80), style="italic")
        if row.line is not None and not row.noise:
            what.append(f"\n{place(row.line)}", style="cyan")
            linked(out, what, row.line)
        if row.load:
            what.append(f"\n{safe(row.load)}", style="dim")
        if row.rows_examined is not None and row.rows_examined > row.rows:
            what.append(f"\n  the server read {plural(row.rows_examined, 'row')}", style="dim")
        if row.error:
            what.append("\n  failed: " + one_line(row.error, 100), style="red")
        table.add_row(
            milliseconds(row.start_ms),
            _bar(row, document.request_ms, bar_width),
            milliseconds(row.duration_ms),
            f"×{row.count}" if row.count > 1 else "",
            f"{row.rows:,}",
            what,
        )
    out.print(table)


def _bar(row: documents.TimelineRow, total_ms: float, width: int) -> Text:
    """Where in the request the query ran; a folded run shows its span light and its share of it
    dark.
    """
    if total_ms <= 0:
        return Text("")
    first = min(int(row.start_ms / total_ms * width), width - 1)
    last = max(min(int(row.end_ms / total_ms * width + 0.999), width), first + 1)
    span = last - first
    solid = (
        span
        if row.count == 1
        else max(1, round(span * min(row.duration_ms / max(row.end_ms - row.start_ms, 1e-9), 1)))
    )
    style = "dim" if row.noise else "bold" if row.count > 1 else ""
    return Text(" " * first + "█" * solid + "░" * (span - solid), style=style)
