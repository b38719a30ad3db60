"""What a capture was judged by, what is over, and by how much."""

from __future__ import annotations

from rich.console import Console, RenderableType
from rich.text import Text

from askless.core.findings.finding import Finding
from askless.core.formatting import plural
from askless.output import gate_text
from askless.output.finding_text import at
from askless.output.terminal.drawing import NARROWEST, WIDE, InMiddle, indented, linked, table_of
from askless.output.text import safe
from askless.reports import documents

_WITHIN_MOST = 12  # rows that are listed although nothing is wrong with them


def gate(out: Console, document: documents.GateDocument) -> None:
    """First whether it passed, then what is over."""
    over = [row for row in document.rows if row.over]
    head = Text(gate_text.outcome(document), style="bold green" if document.passed else "bold red")
    head.append(": " + safe(gate_text.how_many(document)), style="not bold default")
    out.print(head)
    if document.rows:
        columns = [("", "l"), ("route", "l"), ("at most", "r"), ("seen", "r"), ("over by", "r")]
        is_wide = out.width >= WIDE
        if is_wide:
            columns.insert(2, ("what", "l"))  # the amounts have their units, so it can go first
        table = table_of(*columns)
        table.columns[1].min_width = NARROWEST
        within = [row for row in document.rows if not row.over]
        for row in [*over, *within[:_WITHIN_MOST]]:
            table.add_row(*_cells(row, is_wide))
        out.print(indented(table, 2))
        if len(within) > _WITHIN_MOST:
            out.print(
                indented(
                    Text(f"and {len(within) - _WITHIN_MOST} more within limits", style="dim"), 2
                )
            )
    for finding in document.findings:
        _finding(out, finding)
    for route in document.missing_routes:
        out.print(Text(safe(gate_text.not_judged(route)), style="yellow"))
    for remark in document.remarks:
        out.print(Text(safe(remark), style="yellow"))
    if document.accepted:
        out.print(
            Text(
                f"{plural(document.accepted, 'finding')} accepted in {safe(document.project)}",
                style="dim",
            )
        )


def _cells(row: documents.GateRow, is_wide: bool) -> tuple[RenderableType, ...]:
    mark = Text("over" if row.over else "ok", style="red" if row.over else "green")
    what = [gate_text.what(row)] if is_wide else []
    return (
        mark,
        InMiddle(row.route),
        *what,
        gate_text.limit(row),
        gate_text.seen(row),
        gate_text.over_by(row),
    )


def _finding(out: Console, finding: Finding) -> None:
    line = Text(f"{finding.pattern}  {safe(finding.route)}", style="bold")
    line.append(f"  {finding.key}", style="dim")
    out.print(indented(line, 2))
    out.print(indented(Text(safe(finding.title)), 4))
    if finding.lines:
        out.print(
            indented(linked(out, Text(at(finding.lines[0]), style="cyan"), finding.lines[0]), 4)
        )
