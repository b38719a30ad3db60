"""What the terminal shows: one function a document. Fits 100 columns, degrades to 80; words before colours."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterable, Sequence

from rich import box
from rich.console import Console, RenderableType
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from askless.core.findings import Advice, Finding, Line
from askless.core.words import number, plural, size
from askless.output import documents
from askless.output.text import brief, milliseconds, one_line, percent, safe, short_path

SEVERITY_STYLE = {"urgent": "bold red", "worthwhile": "yellow", "minor": "cyan"}
WIDEST = 100


def console(stderr: bool = False) -> Console:
    """A console of at most 100 columns. Never reads markup; colour only where the terminal and NO_COLOR allow."""
    made = Console(stderr=stderr, highlight=False, markup=False, emoji=False, soft_wrap=False)
    columns = int(os.environ.get("COLUMNS") or 0) if not made.is_terminal else made.width
    made.width = max(min(columns or WIDEST, WIDEST), 60)
    return made


def indented(what: RenderableType, columns: int, below: int = 0) -> Padding:
    """Something moved to the right, without filling its lines up with spaces."""
    return Padding(what, (0, 0, below, columns), expand=False)


def labelled(out: Console, rows: Sequence[tuple[str, str]], columns: int = 2) -> None:
    """Lines of `label: text`, whose texts stay under each other where they are wrapped."""
    grid = Table.grid(padding=(0, 1, 0, 0))
    for name, text in rows:
        if text:
            grid.add_row(f"{name}:".ljust(7), Text(safe(text)))
    if grid.row_count:
        out.print(indented(grid, columns))


def note(text: str) -> None:
    """A line for people on stderr."""
    console(stderr=True).print(Text(safe(text)))


def warn_notes(notes: Iterable[str]) -> None:
    """What the recorder could not do, on stderr."""
    for text in dict.fromkeys(notes):
        note("note: " + text)


def table_of(*columns: tuple[str, str]) -> Table:
    table = Table(box=box.SIMPLE_HEAD, pad_edge=False, padding=(0, 1, 0, 0), header_style="bold", expand=False)
    for name, side in columns:
        table.add_column(name, justify="right" if side == "r" else "left", no_wrap=side == "r", overflow="fold")
    return table


def requests(document: documents.RequestsDocument) -> None:
    """The routes, the one that spends most time in queries first."""
    out = console()
    out.print(
        Text(
            f"{plural(document.requests, 'request')}, {plural(document.queries, 'query')}; noise apart: "
            f"{plural(document.noise, 'query')} of transaction control, settings and catalogs"
        )
    )
    columns = [
        ("route", "l"), ("requests", "r"), ("queries", "r"), ("shapes", "r"), ("repeated", "r"), ("db ms", "r"),
        ("share", "r"), ("rows", "r"), ("bytes", "r"), ("noise", "r"),
    ]  # fmt: skip
    left_out = {9} if not document.noise else set()
    if out.width < 96:
        left_out |= {3, 9}
    table = table_of(*(column for i, column in enumerate(columns) if i not in left_out))
    table.columns[0].min_width = 16
    for row in document.routes:
        cells: tuple[Text | str, ...] = (
            Text(safe(row.route)), f"{row.requests:,}", number(row.queries), number(row.shapes),
            Text(number(row.repeated), style="bold" if row.repeated >= 3 else ""), milliseconds(row.database_ms),
            percent(row.share), number(row.rows), size(row.bytes), number(row.noise),
        )  # fmt: skip
        table.add_row(*(cell for i, cell in enumerate(cells) if i not in left_out))
    out.print(table)
    out.print(
        Text(
            "Per request: queries median, others mean. share: of the request's time, as the application saw it.",
            style="dim",
        )
    )
    if any(row.errors for row in document.routes):
        failed = ", ".join(f"{row.errors} in {safe(row.route)}" for row in document.routes if row.errors)
        out.print(Text(f"failed queries: {failed}"))


def each(document: documents.EachDocument) -> None:
    """The requests one by one."""
    table = table_of(("no.", "r"), ("request", "l"), ("status", "r"), ("queries", "r"), ("repeated", "r"), ("db ms", "r"), ("ms", "r"), ("rows", "r"))  # fmt: skip
    for row in document.requests:
        name = one_line(row.route + (f"  {row.path}" if row.path else ""), 60) + ("  (warm-up)" if row.warm_up else "")
        table.add_row(
            str(row.number), Text(name), str(row.status or ""), f"{row.queries:,}", f"{row.repeated:,}",
            milliseconds(row.database_ms), milliseconds(row.request_ms), f"{row.rows:,}",
        )  # fmt: skip
    console().print(table)


def timeline(document: documents.TimelineDocument) -> None:
    """One request's queries on a time axis."""
    out = console()
    out.print(Text(f"request {document.number}: {safe(document.route)}  {safe(document.path)}".rstrip(), style="bold"))
    share = document.database_ms / document.request_ms if document.request_ms else 0.0
    out.print(
        Text(
            f"{plural(document.queries, 'query')} (and {document.noise:,} noise), {milliseconds(document.database_ms)} ms of "
            f"{milliseconds(document.request_ms)} ms in the database ({percent(share)})"
        )
    )
    bar_width = 22 if out.width >= 100 else 12
    table = table_of(("at ms", "r"), (f"0 ── {milliseconds(document.request_ms)} ms", "l"), ("ms", "r"), ("runs", "r"), ("rows", "r"), ("query and line of code", "l"))  # fmt: skip
    for row in document.rows:
        what = Text(one_line(brief(row.sql), 2 * (out.width - bar_width - 32)), style="dim" if row.noise else "")
        if row.parameters:
            what.append("\n  with " + one_line(row.parameters, 80), style="italic")
        if row.line is not None and not row.noise:
            what.append(f"\n{short_path(row.line.file, 2)}:{row.line.line} in {safe(row.line.function)}", style="cyan")
        if row.load:
            what.append(f"\n{safe(row.load)}", style="dim")
        if row.error:
            what.append("\n  failed: " + one_line(row.error, 100), style="red")
        table.add_row(
            milliseconds(row.start_ms), _bar(row, document.request_ms, bar_width), milliseconds(row.duration_ms),
            f"×{row.count}" if row.count > 1 else "", f"{row.rows:,}", what,
        )  # fmt: skip
    out.print(table)


def _bar(row: documents.TimelineRow, total_ms: float, width: int) -> Text:
    """Where in the request the query ran; a folded run shows its span light and its share of it dark."""
    if total_ms <= 0:
        return Text("")
    first = min(int(row.start_ms / total_ms * width), width - 1)
    last = max(min(int(row.end_ms / total_ms * width + 0.999), width), first + 1)
    span = last - first
    solid = (
        span if row.count == 1 else max(1, round(span * min(row.duration_ms / max(row.end_ms - row.start_ms, 1e-9), 1)))
    )
    style = "dim" if row.noise else "bold" if row.count > 1 else ""
    return Text(" " * first + "█" * solid + "░" * (span - solid), style=style)


def _at(line: Line) -> str:
    return f"{short_path(line.file)}:{line.line}"


def findings(document: documents.FindingsDocument) -> None:
    """The findings, one short paragraph each."""
    out = console()
    if not document.findings:
        asked = f"{plural(document.requests, 'request')} and {plural(document.queries, 'query')}"
        out.print(
            Text("Nothing that the filters let through." if document.hidden else f"Nothing asks too much in {asked}.")
        )
    for place, finding in enumerate(document.findings, 1):
        _summary(out, place, finding)
    if document.findings:
        out.print(Text("The whole story of one: askless findings " + safe(document.capture) + " --show 1", style="dim"))
    if document.hidden:
        out.print(Text(f"{document.hidden} more hidden by the filters.", style="dim"))


def _summary(out: Console, place: int, finding: Finding) -> None:
    head = Text(f"{place:>3}  ")
    head.append(f"{finding.severity:<12}", style=SEVERITY_STYLE.get(finding.severity, ""))
    head.append(f"{finding.pattern}", style="bold")
    head.append(f"  {safe(finding.route)}")
    out.print(head)
    out.print(indented(Text(safe(finding.title)), 5))
    if finding.lines:
        more = f" and {len(finding.lines) - 1} more" if len(finding.lines) > 1 else ""
        out.print(
            indented(Text(f"{_at(finding.lines[0])} in {safe(finding.lines[0].function)}{more}", style="cyan"), 5)
        )
    saving = _saving(finding)
    if saving:
        out.print(indented(Text(saving), 5))
    if finding.advice:
        advice = finding.advice[0]
        line = Text("→ " + safe(advice.title))
        if advice.at is not None:
            line.append(f", at {_at(advice.at)}")
        out.print(indented(line, 5))
        if advice.code:
            out.print(indented(Text(one_line(advice.code, 180), style="green"), 7))
    out.print()


def _saving(finding: Finding) -> str:
    cost = finding.cost
    if cost.avoidable:
        return (
            f"saves about {plural(cost.avoidable, 'query')} and {milliseconds(cost.saving_ms)} ms in the database "
            f"({percent(cost.share)} of the request); evidence: {finding.evidence}"
        )
    parts = []
    if cost.bytes:
        parts.append(size(cost.bytes))
    if cost.rows:
        parts.append(plural(cost.rows, "row"))
    return f"need not be fetched: {' and '.join(parts)} a request; evidence: {finding.evidence}" if parts else ""


def story(finding: Finding, place: int) -> None:
    """One finding in full: what is wrong, the evidence, what to do, what to check."""
    out = console()
    _summary_head(out, finding, place)
    _section(out, "Where")
    for line in finding.lines[:8]:
        times = f", {plural(line.queries, 'query')} in the capture" if line.queries else ""
        out.print(indented(Text(f"{_at(line)} in {safe(line.function)}{times}", style="cyan"), 2))
    if finding.source is not None:
        what = "the rows were fetched at" if finding.pattern == "already-loaded" else "the keys come from"
        out.print(indented(Text(f"{what} {_at(finding.source)} in {safe(finding.source.function)}"), 2))
    for line in finding.callers:
        out.print(indented(Text(f"called from {_at(line)} in {safe(line.function)}"), 2))
    if len(finding.path) > 1 and not finding.callers:
        called = " ← ".join(f"{safe(step.function)} ({_at(step)})" for step in finding.path[1:])
        out.print(indented(Text("called by " + called), 2))
    _section(out, f"Evidence: {finding.evidence}")
    points = Table.grid(padding=(0, 1, 0, 0))
    for reason in finding.because:
        points.add_row("·", Text(safe(reason)))
    for doubt in finding.unsure:
        points.add_row("?", Text("not sure: " + safe(doubt), style="yellow"))
    out.print(indented(points, 2))
    _section(out, "Cost")
    saving = _saving(finding)
    cost = finding.cost
    out.print(indented(Text(f"{plural(cost.queries, 'query')} a request, median {milliseconds(cost.query_ms)} ms each, in {plural(finding.requests, 'request')}"), 2))  # fmt: skip
    if saving:
        out.print(indented(Text(saving), 2))
    if cost.loop_ms:
        loop = (
            f"the loop around them takes {milliseconds(cost.loop_ms)} ms a request, the application's own work included"
        )
        out.print(indented(Text(loop), 2))
    _section(out, "The query")
    _sql(out, finding.sql)
    for turn, advice in enumerate(finding.advice, 1):
        _section(out, f"Advice {turn} of {len(finding.advice)}: {advice.title}")
        _advice(out, advice)


def _summary_head(out: Console, finding: Finding, place: int) -> None:
    head = Text(f"{place}  ")
    head.append(finding.severity, style=SEVERITY_STYLE.get(finding.severity, ""))
    kind = f"{finding.pattern} ({finding.variant})" if finding.variant else finding.pattern
    head.append(f"  {kind}", style="bold")
    head.append(f"  {safe(finding.route)}  [{finding.key}]")
    out.print(head)
    out.print(Text(safe(finding.title)))


def _section(out: Console, title: str) -> None:
    out.print()
    out.print(Text(safe(title), style="bold"))


def _sql(out: Console, sql: str) -> None:
    for line in safe(sql).strip().replace("\t", "  ").splitlines():
        out.print(indented(Text(line), 4))


def _advice(out: Console, advice: Advice) -> None:
    rows = [("why", advice.why), ("saving", advice.saving), ("price", advice.trade_off)]
    if advice.at is not None:
        rows.append(("where", f"{_at(advice.at)} in {advice.at.function}"))
    labelled(out, rows)
    if advice.code:
        out.print(indented(Text(safe(advice.code), style="green"), 4))
    if advice.sql:
        out.print(indented(Text("the SQL afterwards:"), 2))
        _sql(out, advice.sql)
    labelled(out, [("check", check) for check in advice.check])


def check(document: documents.CheckDocument) -> None:
    """What a capture holds, and whether it is whole."""
    out = console()
    for file in document.files:
        out.print(Text(safe(file.file), style="bold"))
        state = "ended in good order" if file.closed else "no end: the recorder was killed, or still runs"
        out.print(
            Text(f"  version {file.version}, recorder {safe(file.recorder)}, program {safe(file.program)}; {state}")
        )
        out.print(
            Text(
                f"  {file.lines:,} lines, {file.requests:,} requests ({file.open_requests} without an end), {file.queries:,} queries"
            )
        )
        if file.torn:
            out.print(Text("  the last line is torn; everything before it counts"))
        for line, reason in file.bad_lines[:5]:
            out.print(Text(f"  line {line} can't be read: {one_line(reason, 90)}"))
        if len(file.bad_lines) > 5:
            out.print(Text(f"  and {len(file.bad_lines) - 5} more lines"))
        for text in file.notes:
            out.print(Text("  note: " + safe(text)))
    out.print(Text("sound" if document.sound else "damaged: what could be read counts"))


def compare(document: documents.CompareDocument) -> None:
    """Two captures side by side, and what became of the findings."""
    out = console()
    out.print(
        Text(
            "The first line of each route is before, the second after; means a request, times median (quartiles).",
            style="dim",
        )
    )
    table = table_of(("route", "l"), ("queries", "r"), ("rows", "r"), ("bytes", "r"), ("ms a request, quartiles", "r"), ("faster by", "l"))  # fmt: skip
    for row in document.routes:
        table.add_row(
            Text(safe(row.route)), _pair(row.queries, number), _pair(row.rows, number), _pair(row.bytes, size),
            f"{_spread(row.time[0])}\n{_spread(row.time[1])}", Text(row.verdict.replace(" (", "\n(", 1)),
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


def _pair(values: tuple[float | None, float | None], form: object) -> str:
    assert callable(form)
    before, after = ("–" if value is None else str(form(value)) for value in values)
    return f"{before}\n{after}"


def _spread(spread: documents.Spread | None) -> str:
    if spread is None:
        return "–"
    return f"{milliseconds(spread.median)} ({milliseconds(spread.low)} to {milliseconds(spread.high)})"


def progress(text: str) -> None:
    """One line of progress on stderr, overwritten by the next; nothing where stderr is no terminal."""
    if sys.stderr.isatty():
        sys.stderr.write("\r\x1b[K" + one_line(text, 78))
        sys.stderr.flush()


def progress_done() -> None:
    """Clear the line of progress."""
    if sys.stderr.isatty():
        sys.stderr.write("\r\x1b[K")
        sys.stderr.flush()
