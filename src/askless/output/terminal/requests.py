"""Routes, and requests one by one."""

from __future__ import annotations

from rich.console import Console, RenderableType
from rich.text import Text

from askless.core.formatting import number, plural, size
from askless.output import finding_text
from askless.output.terminal.drawing import NARROWEST, WIDE, InMiddle, command, table_of
from askless.output.text import milliseconds, one_line, percent, safe
from askless.reports import documents


def requests(out: Console, document: documents.RequestsDocument) -> None:
    """The routes, the one that spends most time in queries first."""
    noise = f"{plural(document.noise, 'query')} of transaction control, settings and catalogs"
    partly = document.total_requests > document.requests
    if partly:
        out.print(Text(finding_text.all_of(document)))
    out.print(
        Text(
            f"{'kept: ' if partly else ''}{plural(document.requests, 'request')}, "
            f"{plural(document.queries, 'query')}; noise apart: {noise}"
        )
    )
    columns = _columns(document, is_narrow=out.width < WIDE, partly=partly)
    table = table_of(*((name, "l" if name == "route" else "r") for name in columns))
    table.columns[0].min_width = NARROWEST
    for row in document.routes:
        cells: dict[str, RenderableType] = {
            "route": InMiddle(row.route),
            "requests": f"{row.total_requests:,}",
            "kept": f"{row.requests:,}",
            "queries": number(row.queries),
            "shapes": number(row.shapes),
            "repeated": Text(number(row.repeated), style="bold" if row.repeated >= 3 else ""),
            "db ms": milliseconds(row.database_ms),
            "share": percent(row.share),
            "rows": number(row.rows),
            "bytes": size(row.bytes),
            "noise": number(row.noise),
            "objects": number(row.objects),
            "memory": size(row.memory_bytes) if row.memory_bytes else "–",
        }
        table.add_row(*(cells[name] for name in columns))
    out.print(table)
    out.print(
        Text(
            "Per request: median of queries, means of the rest. share: share of the request time, "
            "measured in the application." + (" Recorded requests only." if partly else ""),
            style="dim",
        )
    )
    if any(row.errors for row in document.routes):
        failed = ", ".join(
            f"{row.errors} in {safe(row.route)}" for row in document.routes if row.errors
        )
        out.print(Text(f"failed queries: {failed}"))


def each(out: Console, document: documents.EachDocument) -> None:
    """The requests one by one."""
    table = table_of(
        ("no.", "r"),
        ("name", "l"),
        ("request", "l"),
        ("status", "r"),
        ("queries", "r"),
        ("repeated", "r"),
        ("db ms", "r"),
        ("ms", "r"),
        ("rows", "r"),
    )
    for place, row in enumerate(document.requests, 1):
        name = one_line(row.route + (f"  {row.path}" if row.path else ""), 50) + (
            "  (warm-up)" if row.warm_up else ""
        )
        table.add_row(
            str(place),
            row.name,
            Text(name),
            str(row.status or ""),
            f"{row.queries:,}",
            f"{row.repeated:,}",
            milliseconds(row.database_ms),
            milliseconds(row.request_ms),
            f"{row.rows:,}",
        )
    out.print(table)
    if document.requests:
        lead = "Show one, by name or number:"
        command(out, lead, "timeline", document.capture, document.requests[0].name)


def _columns(document: documents.RequestsDocument, is_narrow: bool, partly: bool) -> list[str]:
    """The columns for which there is something to show, and room."""
    objects = any(row.objects for row in document.routes)
    memory = any(row.memory_bytes for row in document.routes)
    extra = objects or memory
    shown = {
        "route": True,
        "requests": True,
        "kept": partly,
        "queries": True,
        "shapes": not (is_narrow or extra),
        "repeated": True,
        "db ms": True,
        "share": not (is_narrow and extra),
        "rows": not (is_narrow and objects),  # objects are rows, nearly
        "bytes": not (is_narrow and extra),
        "noise": document.noise > 0 and not (is_narrow or extra or partly),
        "objects": objects,
        "memory": memory,
    }
    return [name for name, is_shown in shown.items() if is_shown]
