"""Growth with the rows, and change over time."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.text import Text

from askless.core.formatting import number, size
from askless.core.growth.by_rows import SIZES_LEAST
from askless.output import growth_text
from askless.output.terminal.drawing import indented, table_of
from askless.output.text import brief, milliseconds, one_line, safe
from askless.reports import documents

_STYLE = {"grows": "bold red", "does not grow": "green", "slower": "bold red", "faster": "green"}


def growth(out: Console, document: documents.GrowthDocument) -> None:
    """The routes, those that grow first; those of too few sizes in one line each."""
    if not document.routes:
        out.print(Text("No requests with queries."))
        return
    few = [row for row in document.routes if not row.projected]
    for row in document.routes:
        if row.projected:
            _route(out, row)
    if few:
        out.print(Text(growth_text.TOO_FEW, style="bold"))
        for row in few:
            out.print(indented(Text(safe(f"{row.route}  {growth_text.seen(row)}")), 2))
        hint = (
            f"Needs at least {SIZES_LEAST} sizes, the largest 1.5 times the smallest. To visit a "
            "page at several sizes, see askless growth --help."
        )
        out.print(Text(hint, style="dim"))


def _route(out: Console, row: documents.GrowthRow) -> None:
    head = Text(safe(row.route), style="bold")
    head.append("  ")
    head.append(row.outcome, style=_STYLE.get(row.outcome, "yellow"))
    out.print(head)
    out.print(indented(Text(safe(f"{growth_text.equation(row)}    {growth_text.seen(row)}")), 2))
    table = table_of(("", "l"), ("rows", "r"), ("queries", "r"), ("ms", "r"), ("bytes", "r"))
    for name, one in zip(growth_text.PROJECTED, row.projected, strict=False):
        table.add_row(
            name,
            number(one.rows),
            number(round(one.queries)),
            milliseconds(one.request_ms),
            size(one.bytes),
        )
    out.print(indented(table, 2))
    for remark in growth_text.remarks(row):
        out.print(indented(Text(remark, style="yellow" if remark == growth_text.BENDS else ""), 2))
    out.print()


def over_time(out: Console, document: documents.TrendDocument) -> None:
    """The statements that take most time, first third against last."""
    stretches = max((len(row.counts) for row in document.shapes), default=0)
    lasted = (
        f"{document.stretch_s * stretches:,.1f} s in {stretches} parts of "
        f"{document.stretch_s:,.2f} s"
    )
    out.print(
        Text(f"{lasted}; first third compared with last, median execution times", style="dim")
    )
    table = table_of(
        ("statement", "l"),
        ("count", "r"),
        ("often", "l"),
        ("ms first", "r"),
        ("ms last", "r"),
        ("change", "l"),
    )
    table.columns[2].no_wrap = True  # a row of blocks is read as one
    for row in document.shapes:
        ratio = (
            f" ×{row.ratio.value:.2f} (×{row.ratio.low:.2f} to ×{row.ratio.high:.2f})"
            if row.ratio is not None
            else ""
        )
        change = Text(row.direction, style=_STYLE.get(row.direction, ""))
        change.append(ratio.replace(" (", "\n(", 1))
        table.add_row(
            Text(one_line(brief(row.sql), max(out.width - 56, 24))),
            f"{row.count:,}",
            _bars(row.counts),
            milliseconds(row.first_ms) if row.first_ms else "–",
            milliseconds(row.last_ms) if row.last_ms else "–",
            change,
        )
    out.print(table)
    slower = sum(row.direction == "slower" for row in document.shapes)
    if slower * 2 > len(document.shapes) > 2:
        out.print(
            Text(
                "More than half became slower: the whole machine or database may be slower.",
                style="yellow",
            )
        )
    if document.hidden:
        out.print(
            Text(
                f"{document.hidden} more take less time time (--json lists the same fifteen).",
                style="dim",
            )
        )


def _bars(counts: Sequence[int]) -> str:
    """How often, stretch by stretch, as a row of blocks."""
    most = max(counts, default=0)
    return "".join(" ▁▂▃▄▅▆▇█"[round(8 * count / most) if most else 0] for count in counts)
