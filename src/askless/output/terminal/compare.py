"""Two captures side by side."""

from __future__ import annotations

from rich.console import Console
from rich.text import Text

from askless.core.words import number, plural, size
from askless.output.terminal.drawing import indented, table_of
from askless.output.text import milliseconds, safe
from askless.reports import documents


def compare(out: Console, document: documents.CompareDocument) -> None:
    """Two captures side by side, and what became of the findings."""
    out.print(
        Text(
            "The first line of each route is before, the second after; means a request, times median (quartiles).",
            style="dim",
        )
    )
    objects = any(any(row.objects) for row in document.routes)
    memory = any(any(row.memory_bytes) for row in document.routes)
    tracked = [("objects", "r")] * objects + [("memory", "r")] * memory
    table = table_of(("route", "l"), ("queries", "r"), ("rows", "r"), ("bytes", "r"), *tracked, ("ms a request, quartiles", "r"), ("faster by", "l"))  # fmt: skip
    for row in document.routes:
        more = [_pair(row.objects, number)] * objects + [_pair(row.memory_bytes, _known)] * memory
        table.add_row(
            Text(safe(row.route)), _pair(row.queries, number), _pair(row.rows, number), _pair(row.bytes, size), *more,
            f"{_spread(row.time[0])}\n{_spread(row.time[1])}", Text(row.verdict.text.replace(" (", "\n(", 1)),
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


def _spread(spread: documents.Spread | None) -> str:
    if spread is None:
        return "–"
    return f"{milliseconds(spread.median)} ({milliseconds(spread.low)} to {milliseconds(spread.high)})"
