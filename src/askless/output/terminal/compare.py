"""Two captures side by side."""

from __future__ import annotations

from rich.console import Console
from rich.text import Text

from askless.core.words import number, plural, size
from askless.output.terminal.drawing import NARROWEST, WIDE, InMiddle, indented, table_of
from askless.output.text import milliseconds, safe
from askless.reports import documents


def compare(out: Console, document: documents.CompareDocument) -> None:
    """Two captures side by side, and what became of the findings."""
    is_wide = out.width >= WIDE
    objects = any(any(row.objects) for row in document.routes)
    memory = any(any(row.memory_bytes) for row in document.routes)
    out.print(
        Text(
            "The first line of each route is before, the second after; means a request, times median"
            + (" alone, for want of room." if objects or memory else " (quartiles)."),
            style="dim",
        )
    )
    sizes = [("rows", "r")] * (is_wide or not objects) + [("bytes", "r")] * is_wide
    sizes += [("objects", "r")] * objects + [("memory", "r")] * memory
    times = ("ms, median", "r") if objects or memory else ("ms a request, quartiles", "r")
    table = table_of(("route", "l"), ("queries", "r"), *sizes, times, ("faster by", "l"))
    table.columns[0].min_width = NARROWEST
    for row in document.routes:
        cells = {
            "rows": _pair(row.rows, number), "bytes": _pair(row.bytes, size), "objects": _pair(row.objects, number),
            "memory": _pair(row.memory_bytes, _known),
        }  # fmt: skip
        before, after = (_spread(spread, quartiles=not (objects or memory)) for spread in row.time)
        table.add_row(
            InMiddle(row.route), _pair(row.queries, number), *(cells[name] for name, _ in sizes), f"{before}\n{after}",
            Text(row.verdict.text.replace(" (", "\n(", 1)),
        )  # fmt: skip
    out.print(table)
    if document.drift is None:
        drift = "No route asks the same on both sides: how far the two runs drifted apart is not known."
    else:
        drift = f"Routes that ask the same moved by up to ×{document.drift:.2f} between the two runs: no less than that counts."
    out.print(Text(drift, style="dim"))
    for title, items in (("gone", document.gone), ("new", document.new), ("left", document.left)):
        out.print(Text(f"{plural(len(items), 'finding')} {title}" + (":" if items else ""), style="bold"))
        for finding in items:
            out.print(indented(Text(f"{finding.pattern}  {safe(finding.route)}", style="bold"), 2))
            out.print(indented(Text(safe(finding.title)), 4))
    if document.accepted:
        out.print(Text(f"{plural(document.accepted, 'finding')} accepted in askless.toml", style="dim"))


def _pair(values: tuple[float | None, float | None], form: object) -> str:
    assert callable(form)
    before, after = ("–" if value is None else str(form(value)) for value in values)
    return f"{before}\n{after}"


def _known(value: float) -> str:
    return size(value) if value else "–"


def _spread(spread: documents.Spread | None, quartiles: bool) -> str:
    if spread is None:
        return "–"
    around = f" ({milliseconds(spread.low)} to {milliseconds(spread.high)})" if quartiles else ""
    return milliseconds(spread.median) + around
