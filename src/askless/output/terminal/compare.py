"""Two captures side by side."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from types import MappingProxyType

from rich.console import Console
from rich.text import Text

from askless.core.findings.finding import Finding
from askless.core.formatting import plural, size
from askless.output import gate_text
from askless.output.terminal.drawing import NARROWEST, WIDE, InMiddle, indented, table_of
from askless.output.text import safe
from askless.reports import documents


def compare(out: Console, document: documents.CompareDocument) -> None:
    """Two captures side by side, and what became of the findings."""
    is_wide = out.width >= WIDE
    objects = any(any(row.objects) for row in document.routes)
    memory = any(any(row.memory_bytes) for row in document.routes)
    out.print(
        Text(
            "The first line of each route is before, the second after; means per request, times "
            "median" + (" only, for lack of space." if objects or memory else " (quartiles)."),
            style="dim",
        )
    )
    sizes = [("rows", "r")] * (is_wide or not objects) + [("bytes", "r")] * is_wide
    sizes += [("objects", "r")] * objects + [("memory", "r")] * memory
    times = ("ms, median", "r") if objects or memory else ("ms per request, quartiles", "r")
    table = table_of(("route", "l"), ("queries", "r"), *sizes, times, ("faster by", "l"))
    table.columns[0].min_width = NARROWEST
    for row in document.routes:
        cells = {
            "queries": gate_text.pair(row.queries),
            "rows": gate_text.pair(row.rows),
            "bytes": gate_text.pair(row.bytes, size),
            "objects": gate_text.pair(row.objects),
            "memory": gate_text.pair(row.memory_bytes, gate_text.memory),
        }
        before, after = (
            gate_text.spread(spread, quartiles=not (objects or memory)) for spread in row.time
        )
        table.add_row(
            InMiddle(row.route),
            *("\n".join(cells[name]) for name, _ in (("queries", "r"), *sizes)),
            f"{before}\n{after}",
            Text(row.verdict.text.replace(" (", "\n(", 1)),
        )
    out.print(table)
    out.print(Text(gate_text.drift(document), style="dim"))
    _findings(out, document)


def _findings(out: Console, document: documents.CompareDocument) -> None:
    """What became of the findings."""
    _list(out, "fixed", document.fixed)
    _list(out, "new", document.new)
    if document.improved:
        _list(out, "improved", document.improved)
    if document.uncovered:
        reasons = {one.finding.key: one.reason for one in document.uncovered}
        _list(out, "uncovered", [one.finding for one in document.uncovered], reasons)
    _list(out, "remaining", document.remaining)
    if document.accepted:
        out.print(
            Text(f"{plural(document.accepted, 'finding')} accepted in askless.toml", style="dim")
        )


def _list(
    out: Console,
    title: str,
    findings: Sequence[Finding],
    reasons: Mapping[str, str] = MappingProxyType({}),
) -> None:
    head = f"{plural(len(findings), 'finding')} {title}" + (":" if findings else "")
    out.print(Text(head, style="bold"))
    for finding in findings:
        out.print(indented(Text(f"{finding.pattern}  {safe(finding.route)}", style="bold"), 2))
        out.print(indented(Text(safe(finding.title)), 4))
        if finding.key in reasons:
            out.print(indented(Text(safe(reasons[finding.key]), style="dim"), 4))
