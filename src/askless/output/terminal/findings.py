"""Findings: a short paragraph each, or one finding in full."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from rich.console import Console
from rich.table import Table
from rich.text import Text

from askless.core.findings.finding import Advice, Edit, Finding, SourceLine
from askless.core.formatting import plural
from askless.output import finding_text
from askless.output.terminal.drawing import (
    SEVERITY_STYLE,
    code,
    command,
    indented,
    labelled,
    linked,
    table_of,
)
from askless.output.text import one_line, safe
from askless.reports import documents

EDITS_MOST = 12  # in one list; the others are counted below it


def findings(out: Console, document: documents.FindingsDocument) -> None:
    """What to change, a short paragraph for each edit with the findings that it fixes; those that
    matter least are omitted.
    """
    _edits(out, document, finding_text.unsure_edits(document), EDITS_MOST)


def all_edits(out: Console, document: documents.FindingsDocument) -> None:
    """The same with every edit."""
    _edits(out, document, (), len(document.edits))


def _edits(
    out: Console,
    document: documents.FindingsDocument,
    unsure: Collection[tuple[str, ...]],
    most: int,
) -> None:
    _none(out, document)
    place = shown = 0
    omitted = []
    for edit, mended in finding_text.with_mended(document):
        if edit.findings not in unsure:
            if shown < most:
                _edit(out, place + 1, edit, mended, document)
                shown += 1
            else:
                omitted.append(edit)
        place += len(mended)
    if unsure:
        out.print(Text(safe(finding_text.of_unsure(document, unsure))))
        out.print()
    if omitted:
        lead = (
            f"{plural(len(omitted), 'edit')} more ({finding_text.weights(omitted)}) with smaller "
            "savings:"
        )
        command(out, lead, "findings", document.capture, "--all")
    _foot(out, document)


def each(out: Console, document: documents.FindingsDocument) -> None:
    """The findings, one short paragraph each."""
    _none(out, document)
    for place, finding in enumerate(document.findings, 1):
        _summary(
            out,
            place,
            finding,
            finding.key in document.accepted,
            finding_text.caller_apart(finding, document.findings),
        )
    _foot(out, document)


def _none(out: Console, document: documents.FindingsDocument) -> None:
    if not document.findings:
        out.print(Text(finding_text.nothing_found(document)))


def _foot(out: Console, document: documents.FindingsDocument) -> None:
    if document.findings:
        first = document.findings[0].key
        lead = "Show one finding in full, by name or number:"
        command(out, lead, "findings", document.capture, "--show", first)
    for remark in finding_text.remarks(document):
        out.print(Text(remark, style="dim"))


def _edit(
    out: Console,
    place: int,
    edit: Edit,
    mended: Sequence[Finding],
    document: documents.FindingsDocument,
) -> None:
    head = Text()
    head.append(f"{edit.severity:<12}", style=SEVERITY_STYLE.get(edit.severity, ""))
    route, more = finding_text.routes_of(edit)
    head.append(safe(route), style="bold")
    head.append(more)
    out.print(head)
    out.print(indented(Text(finding_text.gain(edit, mended)), 2))
    change = Text("→ " + safe(edit.title))
    if edit.at is not None:
        change.append(f", {finding_text.where(edit.at)}")
    out.print(indented(linked(out, change, edit.at), 2))
    if edit.code:
        code(out, one_line(edit.code), 4, "green")
    if edit.other_routes:
        out.print(indented(Text(safe(finding_text.shared_line(edit)), style="yellow"), 4))
    rows = Table.grid(padding=(0, 1, 0, 0))
    for turn, finding, others in finding_text.alike(document, mended):
        what = Text(safe(finding.summary))
        what.append(f"  and {others:,} alike on other routes" if others else "")
        if finding.lines:
            what.append(f"\n{finding_text.first_line(finding)}", style="cyan")
        caller = finding_text.caller_apart(finding, document.findings)
        if caller is not None:
            what.append(f"\ncalled at {finding_text.place(caller)}", style="cyan")
        name = Text(finding.key.ljust(10), style="dim")
        name.append("\naccepted" if finding.key in document.accepted else f"\n{finding.evidence}")
        linked(out, what, *finding.lines[:1], caller)
        rows.add_row(
            f"{place + turn:>3}", Text(finding.pattern.ljust(15), style="bold"), name, what
        )
    out.print(indented(rows, 2))
    out.print()


def _summary(
    out: Console, place: int, finding: Finding, accepted: bool, caller: SourceLine | None
) -> None:
    head = Text(f"{place:>3}  ")
    head.append(f"{finding.severity:<12}", style=SEVERITY_STYLE.get(finding.severity, ""))
    head.append(f"{finding.pattern}", style="bold")
    head.append(f"  {safe(finding.route)}")
    head.append(f"  {finding.key}", style="dim")
    head.append("  accepted" if accepted else "")
    out.print(head)
    out.print(indented(Text(safe(finding.title)), 5))
    if finding.lines:
        out.print(
            indented(
                linked(out, Text(finding_text.first_line(finding), style="cyan"), finding.lines[0]),
                5,
            )
        )
    if caller is not None:
        out.print(
            indented(
                linked(out, Text(f"called at {finding_text.place(caller)}", style="cyan"), caller),
                7,
            )
        )
    saving = finding_text.saving(finding)
    if saving:
        out.print(indented(Text(f"{saving}; evidence: {finding.evidence}"), 5))
    if finding.advice:
        advice = finding.advice[0]
        line = Text("→ " + safe(advice.title))
        if advice.at is not None:
            line.append(f", {finding_text.where(advice.at)}")
        out.print(indented(linked(out, line, advice.at), 5))
        if advice.code:
            code(out, one_line(advice.code), 7, "green")
    out.print()


def story(out: Console, document: documents.FindingsDocument) -> None:
    """Each finding in full: what is wrong, the evidence, what to do, what to check."""
    for turn, finding in enumerate(document.findings):
        if turn:
            out.print()
        _story(out, finding, finding.key in document.accepted)


def _story(out: Console, finding: Finding, accepted: bool) -> None:
    _head(out, finding, accepted)
    _section(out, "Where")
    for text, line in finding_text.places(finding):
        out.print(
            indented(
                linked(out, Text(text, style="cyan" if line in finding.lines else ""), line), 2
            )
        )
    _section(out, f"Evidence: {finding.evidence}")
    points = Table.grid(padding=(0, 1, 0, 0))
    for reason in finding.evidence_details:
        points.add_row("·", Text(safe(reason)))
    for doubt in finding.caveats:
        points.add_row("?", Text("caveat: " + safe(doubt), style="yellow"))
    out.print(indented(points, 2))
    _section(out, "Cost")
    for text in finding_text.costs(finding):
        out.print(indented(Text(text), 2))
    _section(out, "The query")
    code(out, finding_text.statement(finding.sql), 4)
    beside = len(finding.advice) > 1
    if beside:
        _alternatives(out, finding.advice)
    for turn, advice in enumerate(finding.advice, 1):
        _section(out, f"Advice {turn} of {len(finding.advice)}: {advice.title}")
        _advice(out, advice, beside, finding_text.common_checks(finding))
    if finding_text.common_checks(finding):
        _section(out, finding_text.WHICHEVER)
        labelled(out, [("verify", check) for check in finding_text.common_checks(finding)])


def _alternatives(out: Console, alternatives: Sequence[Advice]) -> None:
    """Where there are several ways, what each gives and what it costs, side by side."""
    _section(out, "Alternatives compared")
    table = table_of(("", "r"), ("alternative", "l"), ("benefit", "l"), ("trade-offs", "l"))
    for turn, alternative in enumerate(alternatives, 1):
        table.add_row(
            str(turn),
            *(
                Text(safe(text))
                for text in (alternative.title, alternative.saving, alternative.trade_offs)
            ),
        )
    out.print(indented(table, 2))


def _head(out: Console, finding: Finding, accepted: bool) -> None:
    head = Text().append(finding.severity, style=SEVERITY_STYLE.get(finding.severity, ""))
    head.append(f"  {finding_text.kind(finding)}", style="bold")
    head.append(f"  {safe(finding.route)}")
    head.append(f"  {finding.key}", style="dim")
    head.append("  accepted" if accepted else "")
    out.print(head)
    out.print(Text(safe(finding.title)))


def _section(out: Console, title: str) -> None:
    out.print()
    out.print(Text(safe(title), style="bold"))


def _advice(out: Console, advice: Advice, beside: bool, common: Sequence[str]) -> None:
    """One alternative; what is in the table `beside` the others is not repeated, and what is
    `common` to all is below.
    """
    rows = [("why", advice.why)]
    rows += [("saving", advice.saving), ("trade-offs", advice.trade_offs)] if not beside else []
    if advice.at is not None:
        rows.append(("where", finding_text.place(advice.at)))
    labelled(out, rows)
    if advice.code:
        code(out, advice.code, 4, "green")
    if advice.sql:
        out.print(indented(Text("the SQL afterwards:"), 2))
        code(out, finding_text.statement(advice.sql), 4)
    labelled(out, [("verify", check) for check in advice.verify if check not in common])
