"""A trial of edits on the application: which are proven, which are not and why, and the pages."""

from __future__ import annotations

from rich.console import Console
from rich.text import Text

from askless.core.formatting import milliseconds, plural
from askless.core.statistics import Ratio
from askless.output import finding_text, gate_text
from askless.output.terminal.drawing import NARROWEST, InMiddle, indented, labelled, table_of
from askless.output.text import safe
from askless.reports import documents


def edits(out: Console, document: documents.EditTrialDocument) -> None:
    """Each edit, then the pages with those that are proven."""
    proven = [edit for edit in document.edits if edit.proven]
    out.print(f"{len(proven)} of {plural(len(document.edits), 'edit')} proven")
    for edit in sorted(document.edits, key=lambda one: not one.proven):
        _edit(out, edit)
    if document.rounds:
        _pages(out, document)
        _findings(out, document)


def _edit(out: Console, edit: documents.TriedEdit) -> None:
    mark, style = ("proven", "green") if edit.proven else ("not proven", "red")
    where = f", at {finding_text.place(edit.at)}" if edit.at is not None else ""
    out.print()
    out.print(Text(mark, style=style).append(safe(f"  {edit.title}{where}"), style="default"))
    if edit.code:
        out.print(indented(Text(safe(edit.code), style="cyan"), 2))
    if edit.reason:
        out.print(indented(Text(safe(edit.reason)), 2))
    if edit.difference is not None:
        labelled(
            out,
            [
                ("at", edit.difference.where),
                ("before", edit.difference.before),
                ("after", edit.difference.after),
            ],
        )
    if edit.proven:
        before, after = edit.queries
        out.print(
            indented(
                Text(
                    safe(
                        f"{edit.route}: {before or 0:.3g} queries per request, now {after or 0:.3g}"
                        f" ({edit.queries_after:.3g} predicted with this edit alone)"
                    )
                ),
                2,
            )
        )


def _pages(out: Console, document: documents.EditTrialDocument) -> None:
    out.print()
    out.print(
        Text(
            f"With the edits that work together: {plural(document.rounds, 'round')} of separate "
            "processes, interleaved. Places that differ by themselves are set apart, not compared. "
            "Times are medians as the visitor saw them.",
            style="dim",
        )
    )
    table = table_of(
        ("page", "l"),
        ("answers", "l"),
        ("set apart", "r"),
        ("before ms", "r"),
        ("after ms", "r"),
        ("faster by", "l"),
    )
    table.columns[0].min_width = NARROWEST
    is_same = any(edit.proven for edit in document.edits)
    for page in document.pages:
        table.add_row(
            InMiddle(page.url),
            f"{page.visits} {'the same' if is_same else 'compared'}",
            str(page.set_apart),
            milliseconds(page.before_ms),
            milliseconds(page.after_ms),
            Text(_ratio(page.ratio)),
        )
    out.print(table)
    table = table_of(("route", "l"), ("queries", "r"), ("rows", "r"))
    table.columns[0].min_width = NARROWEST
    for row in document.routes:
        table.add_row(
            InMiddle(row.route),
            " → ".join(gate_text.pair(row.queries)),
            " → ".join(gate_text.pair(row.rows)),
        )
    out.print(table)


def _ratio(ratio: Ratio | None) -> str:
    if ratio is None:
        return ""
    if not ratio.certain:
        return "no certain difference"
    return f"{ratio.value:.3g} times ({ratio.low:.3g} to {ratio.high:.3g})"


def _findings(out: Console, document: documents.EditTrialDocument) -> None:
    for name, keys in (
        ("fixed", document.fixed),
        ("remaining", document.remaining),
        ("new", document.new),
    ):
        if keys:
            out.print(Text(safe(f"{name}: {', '.join(keys)}")))
