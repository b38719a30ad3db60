"""Findings: a short paragraph each, or the whole story of one."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.table import Table
from rich.text import Text

from askless.core.findings import NO_LINE, Advice, Edit, Finding, Line
from askless.core.severities import SEVERITIES
from askless.core.words import number, plural, size
from askless.output.terminal.drawing import SEVERITY_STYLE, at, command, in_function, indented, labelled, table_of
from askless.output.text import milliseconds, one_line, percent, safe
from askless.reports import documents

EDITS_MOST = 12  # in one list; the others are counted below it


def findings(out: Console, document: documents.FindingsDocument) -> None:
    """What to change, a short paragraph for each edit with the findings that it mends; those that matter least are left out."""
    _edits(out, document, EDITS_MOST)


def all_edits(out: Console, document: documents.FindingsDocument) -> None:
    """The same with every edit."""
    _edits(out, document, len(document.edits))


def _edits(out: Console, document: documents.FindingsDocument, most: int) -> None:
    by_key = {finding.key: finding for finding in document.findings}
    _none(out, document)
    place = 0
    for turn, edit in enumerate(document.edits):
        mended = [by_key[key] for key in edit.findings if key in by_key]
        if turn < most:
            _edit(out, place + 1, edit, mended, document)
        place += len(mended)
    left = document.edits[most:]
    if left:
        words = [plural(sum(one.severity == name for one in left), name) for name in SEVERITIES]
        weights = ", ".join(word.removesuffix("s") for word in words if not word.startswith("0 "))
        command(
            out,
            f"{plural(len(left), 'edit')} more ({weights}), which gain less:",
            "findings",
            document.capture,
            "--all",
        )
    _foot(out, document)


def each(out: Console, document: documents.FindingsDocument) -> None:
    """The findings, one short paragraph each."""
    _none(out, document)
    for place, finding in enumerate(document.findings, 1):
        _summary(out, place, finding, finding.key in document.accepted, _caller(finding, document.findings))
    _foot(out, document)


def _none(out: Console, document: documents.FindingsDocument) -> None:
    if not document.findings:
        queries = f"{plural(document.requests, 'request')} and {plural(document.queries, 'query')}"
        out.print(
            Text("Nothing that the filters let through." if document.hidden else f"Nothing asks too much in {queries}.")
        )


def _foot(out: Console, document: documents.FindingsDocument) -> None:
    if document.findings:
        first = document.findings[0].key
        lead = "The whole story of one, by its name or its number in this list:"
        command(out, lead, "findings", document.capture, "--show", first)
    if document.round_trip_ms:
        way = f"{milliseconds(document.round_trip_ms)} ms are counted for the way of each query."
        out.print(Text(way, style="dim"))
    if document.hidden:
        out.print(Text(f"{document.hidden} more hidden by the filters.", style="dim"))
    if document.accepted:
        them = "it" if len(document.accepted) == 1 else "them"
        accepted = f"{plural(len(document.accepted), 'finding')} accepted in askless.toml; --accepted shows {them} too."
        out.print(Text(accepted, style="dim"))


def _edit(
    out: Console, place: int, edit: Edit, mended: Sequence[Finding], document: documents.FindingsDocument
) -> None:
    head = Text()
    head.append(f"{edit.severity:<12}", style=SEVERITY_STYLE.get(edit.severity, ""))
    more = f" and {plural(len(edit.routes) - 1, 'more route')}" if len(edit.routes) > 1 else ""
    head.append(f"{safe(edit.routes[0])}", style="bold")
    head.append(more)
    out.print(head)
    out.print(indented(Text(_gain(edit, mended)), 2))
    change = Text("→ " + safe(edit.title))
    if edit.at is not None:
        change.append(f", {where(edit.at)}")
    out.print(indented(change, 2))
    if edit.code:
        out.print(indented(Text(one_line(edit.code), style="green"), 4))
    rows = Table.grid(padding=(0, 1, 0, 0))
    for turn, finding in enumerate(mended):
        what = Text(safe(finding.brief))
        if finding.lines:
            what.append(f"\n{_lines(finding)}", style="cyan")
        caller = _caller(finding, document.findings)
        if caller is not None:
            what.append(f"\ncalled at {at(caller)}{in_function(caller)}", style="cyan")
        name = Text(finding.key.ljust(10), style="dim")
        name.append("\naccepted" if finding.key in document.accepted else f"\n{finding.evidence}")
        rows.add_row(f"{place + turn:>3}", Text(finding.pattern.ljust(15), style="bold"), name, what)
    out.print(indented(rows, 2))
    out.print()


def _gain(edit: Edit, mended: Sequence[Finding]) -> str:
    if edit.saving_ms:
        saves = f"saves about {milliseconds(edit.saving_ms)} of {milliseconds(edit.request_ms)} ms"
        return f"{plural(edit.queries, 'query')} a request → {number(edit.queries_after)}, {saves}"
    return _saving(mended[0]) if mended else ""


def where(line: Line) -> str:
    """Where a change is to be made: nobody can change a query in the template that shows it."""
    if line.function == "template":
        return f"where the query is built that {at(line)} shows"
    return f"at {at(line)}" if line.line else f"at {at(line)}{in_function(line)}"


def _caller(finding: Finding, others: Sequence[Finding]) -> Line | None:
    """The nearest caller by which a finding is told from others of its route at the same line; None without such."""

    def path(of: Finding) -> list[tuple[str, int]]:
        return [(line.file, line.line) for line in of.path]

    mine = path(finding)
    alike = [
        path(other)
        for other in others
        if other.route == finding.route and other is not finding and mine and path(other)[:1] == mine[:1]
    ]
    for depth in range(1, len(mine)):
        if any(other[: depth + 1] != mine[: depth + 1] for other in alike):
            return finding.path[depth]
    return None


def _summary(out: Console, place: int, finding: Finding, accepted: bool, caller: Line | None) -> None:
    head = Text(f"{place:>3}  ")
    head.append(f"{finding.severity:<12}", style=SEVERITY_STYLE.get(finding.severity, ""))
    head.append(f"{finding.pattern}", style="bold")
    head.append(f"  {safe(finding.route)}")
    head.append(f"  {finding.key}", style="dim")
    head.append("  accepted" if accepted else "")
    out.print(head)
    out.print(indented(Text(safe(finding.title)), 5))
    if finding.lines:
        out.print(indented(Text(_lines(finding), style="cyan"), 5))
    if caller is not None:
        out.print(indented(Text(f"called at {at(caller)}{in_function(caller)}", style="cyan"), 7))
    saving = _saving(finding)
    if saving:
        out.print(indented(Text(f"{saving}; evidence: {finding.evidence}"), 5))
    if finding.advice:
        advice = finding.advice[0]
        line = Text("→ " + safe(advice.title))
        if advice.at is not None:
            line.append(f", {where(advice.at)}")
        out.print(indented(line, 5))
        if advice.code:
            out.print(indented(Text(one_line(advice.code), style="green"), 7))
    out.print()


def _lines(finding: Finding) -> str:
    """The first line of a finding, and how many more there are."""
    first, *others = finding.lines
    more = f" and {len(others)} more" if others else ""
    return f"{at(first)}{in_function(first)}{more}"


def _saving(finding: Finding) -> str:
    cost = finding.cost
    if cost.avoidable:
        return (
            f"saves about {plural(cost.avoidable, 'query')} and {milliseconds(cost.saving_ms)} ms, {percent(cost.share)} of "
            f"the request ({milliseconds(cost.database_ms)} ms in the database)"
        )
    parts = []
    if cost.bytes:
        parts.append(size(cost.bytes))
    if cost.rows:
        parts.append(plural(cost.rows, "row"))
    known = finding.pattern not in ("over-wide", "unbounded") or finding.evidence == "traced"
    lead = "need not be fetched" if known else "fetched, whether it is read or not"
    return f"{lead}: {' and '.join(parts)} a request" if parts else ""


def story(out: Console, document: documents.FindingsDocument) -> None:
    """Each finding in full: what is wrong, the evidence, what to do, what to check."""
    for turn, finding in enumerate(document.findings):
        if turn:
            out.print()
        _story(out, finding, finding.key in document.accepted)


def _story(out: Console, finding: Finding, accepted: bool) -> None:
    _head(out, finding, accepted)
    _section(out, "Where")
    for line in finding.lines[:8]:
        times = f", {plural(line.queries, 'query')} in the capture" if line.queries else ""
        out.print(indented(Text(f"{at(line)}{in_function(line)}{times}", style="cyan"), 2))
    if not finding.lines:
        out.print(indented(Text(NO_LINE), 2))
    if finding.source is not None:
        what = "the rows were fetched at" if finding.pattern == "already-loaded" else "the keys come from"
        out.print(indented(Text(f"{what} {at(finding.source)}{in_function(finding.source)}"), 2))
    for line in finding.callers:
        out.print(indented(Text(f"called from {at(line)}{in_function(line)}"), 2))
    if len(finding.path) > 1 and not finding.callers:
        called = " ← ".join(f"{safe(step.function)} ({at(step)})" for step in finding.path[1:])
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
    beside = len(finding.advice) > 1
    if beside:
        _roads(out, finding.advice)
    for turn, advice in enumerate(finding.advice, 1):
        _section(out, f"Advice {turn} of {len(finding.advice)}: {advice.title}")
        _advice(out, advice, beside)


def _roads(out: Console, roads: Sequence[Advice]) -> None:
    """Where there are several ways, what each gives and what it costs, side by side."""
    _section(out, "The roads, side by side")
    table = table_of(("", "r"), ("road", "l"), ("what it gives", "l"), ("its price", "l"))
    for turn, road in enumerate(roads, 1):
        table.add_row(str(turn), *(Text(safe(text)) for text in (road.title, road.saving, road.trade_off)))
    out.print(indented(table, 2))


def _head(out: Console, finding: Finding, accepted: bool) -> None:
    head = Text().append(finding.severity, style=SEVERITY_STYLE.get(finding.severity, ""))
    kind = f"{finding.pattern} ({finding.variant})" if finding.variant else finding.pattern
    head.append(f"  {kind}", style="bold")
    head.append(f"  {safe(finding.route)}")
    head.append(f"  {finding.key}", style="dim")
    head.append("  accepted" if accepted else "")
    out.print(head)
    out.print(Text(safe(finding.title)))


def _section(out: Console, title: str) -> None:
    out.print()
    out.print(Text(safe(title), style="bold"))


def _sql(out: Console, sql: str) -> None:
    for line in safe(sql).strip().replace("\t", "  ").splitlines():
        out.print(indented(Text(line), 4))


def _advice(out: Console, advice: Advice, beside: bool) -> None:
    """One road; what stands `beside` the others in a table is not told again."""
    rows = [("why", advice.why)]
    rows += [("saving", advice.saving), ("price", advice.trade_off)] if not beside else []
    if advice.at is not None:
        rows.append(("where", f"{at(advice.at)}{in_function(advice.at)}"))
    labelled(out, rows)
    if advice.code:
        out.print(indented(Text(safe(advice.code), style="green"), 4))
    if advice.sql:
        out.print(indented(Text("the SQL afterwards:"), 2))
        _sql(out, advice.sql)
    labelled(out, [("check", check) for check in advice.check])
