"""What the terminal shows of the index advisor: the set of indexes, what each serves and costs, what could go."""

from __future__ import annotations

from rich.console import Console
from rich.text import Text

from askless.core.words import number, plural, size
from askless.output.terminal.drawing import command, indented, labelled, table_of
from askless.output.text import brief, milliseconds, one_line, safe
from askless.reports import documents

SERVED_MOST = 4


def indexes(out: Console, document: documents.IndexesDocument) -> None:
    """The advised set, then what is redundant, then foreign keys without an index."""
    read = plural(document.shapes, "shape")
    if document.indexes:
        out.print(
            Text(
                f"{plural(len(document.indexes), 'index')} for {read} of {safe(document.capture)}",
                style="bold",
            )
        )
    else:
        out.print(Text(f"No index to advise for {read} of {safe(document.capture)}.", style="bold"))
    if document.unread:
        out.print(
            Text(
                f"{plural(document.unread, 'shape')} could not be read, or ask other tables; they are left out",
                style="dim",
            )
        )
    for place, index in enumerate(document.indexes, 1):
        out.print()
        _one(out, place, index)
    if document.proof is not None:
        _proof(out, document.proof)
    if document.redundant:
        out.print(Text("\nRedundant: a longer index begins with the same columns", style="bold"))
        for gone in document.redundant:
            out.print(
                indented(
                    Text(safe(gone.ddl) + ";", style="yellow").append(f"  -- {safe(gone.by)} serves it", style="dim"), 2
                )
            )
    if document.unasked:
        text = f"{plural(document.unasked, 'index')} of that kind on tables that the capture never asks: not judged"
        out.print(Text(text, style="dim"))
    if document.foreign_keys:
        _keys(out, document)
    if document.indexes:
        out.print()
        how = "the values of the capture, asked of the database" if document.measured else "the saved schema alone"
        lead = f"Rows are estimated from {how}. A trial measures:"
        command(out, lead, "trial", document.capture, "--db", "URL", "--index", document.indexes[0].ddl)


def _proof(out: Console, proof: documents.SetProof) -> None:
    asked = f"{plural(proof.statements, 'statement')} of the capture"
    text = f"\nProven {proof.where}: {proof.unit} of {asked} {number(proof.before)} → {number(proof.after)}"
    out.print(Text(text, style="bold"))
    for label, entries in (
        ("left out", proof.left_out),
        ("not to be dropped", proof.needed),
        ("mind", proof.harming),
    ):
        for one in entries:
            why = safe(one_line(brief(one.why), 160))
            out.print(indented(Text(f"{label}: {safe(one.ddl)};").append(f"  -- {why}", style="dim"), 2))
    if proof.skipped:
        out.print(
            indented(
                Text(
                    f"{plural(proof.skipped, 'statement')} could not be asked on copies, and say nothing here",
                    style="dim",
                ),
                2,
            )
        )


def _one(out: Console, place: int, index: documents.AdvisedIndex) -> None:
    out.print(Text(f"{place}. ").append(safe(index.ddl) + ";", style="green"))
    writes = (
        f"{plural(index.writes, 'write')} of the capture would each keep it up"
        if index.writes
        else "no writes to it in the capture"
    )
    rows = [
        ("why", index.why + (" (a guess: nobody asked the database)" if index.guessed else "")),
        ("price", f"about {size(index.size_bytes)}; {writes}"),
    ]
    rows += [("drop", f"{name}, which it makes redundant") for name in index.redundant]
    rows += [("or", index.partial + ", for these rows only")] if index.partial else []
    labelled(out, rows, 3)
    table = table_of(("serves", "l"), ("queries", "r"), ("ms", "r"), (f"rows of {index.table}", "r"))
    for served in index.serves[:SERVED_MOST]:
        what = Text(one_line(brief(served.sql), 90)).append(
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
        out.print(indented(Text(f"and {len(index.serves) - SERVED_MOST} shapes more", style="dim"), 3))


def _keys(out: Console, document: documents.IndexesDocument) -> None:
    out.print(Text("\nForeign keys without an index", style="bold"))
    for key in document.foreign_keys:
        queries = (
            f"{plural(len(key.shapes), 'shape')} of the capture used it to look up or join"
            if key.shapes
            else "nothing in the capture looks up by it; deleting a parent reads the whole table"
        )
        rows = f" ({key.rows:,} rows)" if key.rows is not None else ""
        out.print(
            indented(
                Text(f"{safe(key.table)}.{', '.join(map(safe, key.columns))} → {safe(key.target)}{rows}: {queries}"), 2
            )
        )
        out.print(indented(Text(safe(key.ddl) + ";", style="green" if key.shapes else "dim"), 4))
