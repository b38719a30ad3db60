"""What a capture was judged by, what is over, and by how much."""

from __future__ import annotations

from rich.console import Console, RenderableType
from rich.text import Text

from askless.core.budget import amount
from askless.core.findings import Finding
from askless.core.words import plural
from askless.output.terminal.drawing import NARROWEST, WIDE, InMiddle, at, indented, table_of
from askless.output.text import safe
from askless.reports import documents

_WITHIN_MOST = 12  # rows that are listed although nothing is wrong with them


def gate(out: Console, document: documents.GateDocument) -> None:
    """First whether it passed, then what is over."""
    over = [row for row in document.rows if row.over]
    by = " and ".join(
        filter(
            None,
            [
                document.project and f"the budgets of {document.project}",
                document.baseline and f"the baseline {document.baseline}",
            ],
        )
    )
    head = Text().append(*(("passed", "bold green") if document.passed else ("NOT passed", "bold red")))
    head.append(f": {len(over)} of {plural(len(document.rows), 'limit')} over, by {safe(by)}")
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
            out.print(indented(Text(f"and {len(within) - _WITHIN_MOST} more within their limits", style="dim"), 2))
    for finding in document.findings:
        _finding(out, finding)
    for route in document.not_asked:
        out.print(
            Text(f"not judged: the capture has no request of {safe(route)} (--partial lets that pass)", style="yellow")
        )
    for remark in document.remarks:
        out.print(Text(safe(remark), style="yellow"))
    if document.accepted:
        out.print(Text(f"{plural(document.accepted, 'finding')} accepted in {safe(document.project)}", style="dim"))


def _cells(row: documents.GateRow, is_wide: bool) -> tuple[RenderableType, ...]:
    is_pattern = row.measure == "patterns"
    what = "findings" if is_pattern else row.measure.replace("database_ms", "database")
    limit = "none" if is_pattern else _short(row.measure, row.limit)
    if row.source == "baseline":
        limit = "no new one" if is_pattern else f"{limit} before"
    more = ""
    if row.over and not is_pattern:
        share = f" (+{100 * (row.seen / row.limit - 1):,.0f} %)" if row.limit else ""
        more = _short(row.measure, row.seen - row.limit) + share
    mark = Text("over" if row.over else "ok", style="red" if row.over else "green")
    return mark, InMiddle(row.route), *([what] if is_wide else ()), limit, _short(row.measure, row.seen), more


def _short(measure: str, value: float) -> str:
    return amount(measure, value).removesuffix(" in the database")


def _finding(out: Console, finding: Finding) -> None:
    line = Text(f"{finding.pattern}  {safe(finding.route)}", style="bold")
    line.append(f"  {finding.key}", style="dim")
    out.print(indented(line, 2))
    out.print(indented(Text(safe(finding.title)), 4))
    if finding.lines:
        out.print(indented(Text(at(finding.lines[0]), style="cyan"), 4))
