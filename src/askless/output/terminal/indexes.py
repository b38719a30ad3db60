"""What the terminal shows of the index advisor: the set of indexes, what each serves and costs,
what could go.
"""

from __future__ import annotations

from rich.console import Console
from rich.text import Text

from askless.core.formatting import number, plural
from askless.output import plan_text
from askless.output.terminal.drawing import command, indented, labelled, table_of
from askless.output.text import brief, milliseconds, one_line, safe
from askless.reports import documents

SERVED_MOST = 4


def indexes(out: Console, document: documents.IndexesDocument) -> None:
    """The advised set, then what is redundant, then foreign keys without an index."""
    out.print(Text(safe(plan_text.how_many(document)), style="bold"))
    if document.unread:
        out.print(Text(plan_text.left_unread(document), style="dim"))
    for place, index in enumerate(document.indexes, 1):
        out.print()
        _one(out, place, index)
    if document.set_trial is not None:
        _proof(out, document.set_trial)
    if document.redundant:
        out.print(Text("\n" + plan_text.REDUNDANT, style="bold"))
        for gone in document.redundant:
            out.print(
                indented(
                    Text(safe(gone.ddl) + ";", style="yellow").append(
                        f"  -- {safe(gone.by)} serves it", style="dim"
                    ),
                    2,
                )
            )
    if document.unjudged_indexes:
        out.print(Text(plan_text.unasked(document), style="dim"))
    if document.foreign_keys:
        _keys(out, document)
    if document.indexes:
        out.print()
        lead = f"{plan_text.estimated_from(document)} To measure:"
        command(
            out, lead, "trial", document.capture, "--db", "URL", "--index", document.indexes[0].ddl
        )


def _proof(out: Console, proof: documents.IndexSetTrialResult) -> None:
    statements = f"{plural(proof.statements, 'statement')} of the capture"
    text = (
        f"\nTested {proof.where}: {proof.unit} of {statements} {number(proof.before)} → "
        f"{number(proof.after)}"
    )
    out.print(Text(text, style="bold"))
    for label, entries in (
        ("excluded", proof.excluded),
        ("do not drop", proof.needed),
        ("mind", proof.harming),
    ):
        for one in entries:
            why = safe(one_line(brief(one.why), 160))
            out.print(
                indented(Text(f"{label}: {safe(one.ddl)};").append(f"  -- {why}", style="dim"), 2)
            )
    if proof.skipped:
        out.print(
            indented(
                Text(
                    f"{plural(proof.skipped, 'statement')} could not be run on copies and are not "
                    "included",
                    style="dim",
                ),
                2,
            )
        )


def _one(out: Console, place: int, index: documents.AdvisedIndex) -> None:
    out.print(Text(f"{place}. ").append(safe(index.ddl) + ";", style="green"))
    labelled(out, plan_text.advised(index), 3)
    table = table_of(
        ("serves", "l"), ("queries", "r"), ("ms", "r"), (f"rows of {index.table}", "r")
    )
    for served in index.serves[:SERVED_MOST]:
        what = Text(one_line(brief(served.sql), max(out.width - 40, 60))).append(
            "\n" + ", ".join(map(safe, served.routes[:2])), style="cyan"
        )
        table.add_row(
            what,
            f"{served.queries:,}",
            milliseconds(served.total_ms),
            f"{number(served.rows_before)} → {number(served.rows_after)}",
        )
    out.print(indented(table, 3))
    if len(index.serves) > SERVED_MOST:
        out.print(
            indented(Text(f"and {len(index.serves) - SERVED_MOST} more shapes", style="dim"), 3)
        )


def _keys(out: Console, document: documents.IndexesDocument) -> None:
    out.print(Text("\n" + plan_text.BARE_KEYS, style="bold"))
    for key in plan_text.missed_keys(document):
        out.print(indented(Text(safe(plan_text.bare_key(key))), 2))
        out.print(indented(Text(safe(key.ddl) + ";", style="green"), 4))
    if plan_text.other_keys(document):
        out.print(indented(Text(safe(plan_text.other_keys(document)), style="dim"), 2))
