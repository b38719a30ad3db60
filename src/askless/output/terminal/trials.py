"""What the terminal shows of trials: an index, a rewritten statement, a finding, and the parts of a
statement.
"""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.table import Table
from rich.text import Text

from askless.core.formatting import plural, size
from askless.core.trials.alternatives import Promise
from askless.core.verdicts import Outcome, Verdict
from askless.output.terminal.drawing import indented, labelled, table_of
from askless.output.text import milliseconds, one_line, safe
from askless.reports import documents


def index(out: Console, document: documents.TrialDocument) -> None:
    """The trial of an index: plans, times, and whether the result stayed the same."""
    out.print(Text(safe(document.index), style="bold"))
    out.print(
        Text(
            f"built {document.where} in {milliseconds(document.build_ms)} ms, "
            f"{size(document.size_bytes)}; dropped afterwards"
        )
    )
    if document.locked_ms:
        waited = (
            f"another session waited {milliseconds(document.longest_wait_ms)} ms at most"
            if document.longest_wait_ms
            else "no one waited"
        )
        out.print(
            Text(
                f"others could not write to the table for {milliseconds(document.locked_ms)} ms; "
                f"{waited}"
            )
        )
    if document.caution:
        out.print(Text("caution: " + safe(document.caution), style="yellow"))
    for row in document.statements:
        out.print()
        out.print(Text(one_line(row.sql, 300)))
        columns = [("", "l"), ("median ms", "r"), (row.work_unit, "r"), ("plan", "l")]
        sides: list[list[Text | str]] = [
            [
                "before",
                milliseconds(row.before_ms),
                f"{row.work.before:,}",
                plan_line(row.plan_before),
            ],
            ["after", milliseconds(row.after_ms), f"{row.work.after:,}", plan_line(row.plan_after)],
        ]
        out.print(indented(_sides(columns, sides), 2))
        same = "the same result" if row.same_result else "DIFFERENT result: " + row.difference
        out.print(
            indented(
                Text(
                    f"{same} ({plural(row.rows, 'row')}), {row.repetitions} interleaved "
                    "repetitions each"
                ),
                2,
            )
        )
        out.print(indented(_verdict(row.verdict), 2))


def _sides(columns: Sequence[tuple[str, str]], rows: Sequence[Sequence[Text | str]]) -> Table:
    """Both sides under each other; a measure without a name was not taken and has no column."""
    remaining = [place for place, (name, _) in enumerate(columns) if name or not place]
    table = table_of(*(columns[place] for place in remaining))
    for row in rows:
        table.add_row(*(row[place] for place in remaining))
    return table


_STYLES = {
    Outcome.FASTER: "green", Outcome.SLOWER: "red", Outcome.CHANGED: "red", Outcome.UNUSED: "red",
}  # fmt: skip


def _verdict(verdict: Verdict) -> Text:
    return Text(safe(verdict.text), style=_STYLES.get(verdict.outcome, ""))


def plan_line(nodes: Sequence[documents.PlanNode]) -> Text:
    """A plan on one line: what it reads and how, what it does with it."""
    flat: list[str] = []

    def walk(node: documents.PlanNode) -> None:
        flat.append(f"{node.kind} {node.table}{' by ' + node.index if node.index else ''}".strip())
        for child in node.children:
            walk(child)

    for node in nodes:
        walk(node)
    return Text(safe("; ".join(flat)))


def rewrite(out: Console, document: documents.RewriteDocument) -> None:
    """A rewritten statement against the first one."""
    out.print(_verdict(document.verdict))
    sets = f" with {plural(document.sets, 'set')} of values" if document.sets > 1 else ""
    if document.same_result:
        out.print(
            Text(
                f"same result on today's rows{sets}: {plural(document.before.rows, 'row')}; "
                f"{document.repetitions} interleaved repetitions each"
            )
        )
    else:
        out.print(Text("first difference: " + safe(document.difference)))
        rows = [("cause", document.cause)]
        rows += [("lost", row) for row in document.missing_rows] + [
            ("gained", row) for row in document.extra_rows
        ]
        labelled(out, rows)
    if document.synthetic_rows and document.same_result:
        out.print(Text("also the same on private copies with synthetic rows:"))
        labelled(out, [("with", words) for words in document.synthetic_rows])
    for text in document.remarks:
        out.print(Text("note: " + safe(text), style="yellow"))
    columns = [
        ("", "l"),
        ("median ms", "r"),
        ("rows", "r"),
        ("bytes", "r"),
        (document.work_unit, "r"),
        ("plan", "l"),
    ]
    sides: list[list[Text | str]] = []
    for name, side in (("before", document.before), ("after", document.after)):
        time = milliseconds(side.median_ms) if side.median_ms is not None else "–"
        sides.append(
            [name, time, f"{side.rows:,}", size(side.bytes), f"{side.work:,}", plan_line(side.plan)]
        )
    out.print(indented(_sides(columns, sides), 2))


def finding(out: Console, document: documents.FindingTrialDocument) -> None:
    """A finding's alternatives in a table."""
    out.print(Text(safe(document.title), style="bold"))
    replayed = f"{plural(document.lookups, 'lookup')} of {plural(document.keys, 'key')}"
    what = f"replayed: request {document.request} of {safe(document.route)}, {replayed}"
    if document.lookups == 1:
        what = (
            f"tested: the slowest of these queries, in request {document.request} of "
            f"{safe(document.route)}"
        )
    out.print(Text(f"{what}; {document.repetitions} interleaved repetitions each"))
    columns = [
        ("alternative", "l"),
        ("queries", "r"),
        ("rows", "r"),
        ("bytes", "r"),
        ("median ms", "r"),
        ("ratio, 99 % interval", "l"),
    ]
    if document.network_latency_ms:
        columns += [(f"ms at +{document.network_latency_ms:g} ms", "r"), ("ratio", "r")]
    table = table_of(*columns)
    for alternative in document.alternatives:
        ratio = (
            f"×{alternative.ratio.value:.1f} (×{alternative.ratio.low:.1f} to "
            f"×{alternative.ratio.high:.1f})"
            if alternative.ratio is not None
            else ""
        )
        cells = [
            safe(alternative.name),
            f"{alternative.queries:,}",
            f"{alternative.rows:,}",
            size(alternative.bytes),
            milliseconds(alternative.median_ms),
            ratio,
        ]
        if document.network_latency_ms:
            cells += [
                milliseconds(alternative.with_latency_ms),
                f"×{alternative.ratio_with_latency:.1f}"
                if alternative.ratio_with_latency is not None
                else "",
            ]
        table.add_row(*cells)
    out.print(indented(table, 2))
    for alternative in document.alternatives[1:]:
        text = (
            "the same rows"
            if alternative.same_result
            else "DIFFERENT rows: " + alternative.difference
        )
        out.print(
            indented(
                Text(
                    f"{safe(alternative.name)}: {safe(text)}",
                    style="" if alternative.same_result else "red",
                ),
                2,
            )
        )
        labelled(
            out,
            [
                ("cause", alternative.cause),
                ("returns", alternative.returns if alternative.returns != Promise.SAME else ""),
                ("note", alternative.note),
            ],
            4,
        )
    out.print(_verdict(document.verdict))
    if document.network_latency_ms:
        out.print(
            Text(
                f"+{document.network_latency_ms:g} ms is added per query by calculation; the "
                "other times were measured here.",
                style="dim",
            )
        )
    for alternative in document.alternatives[1:]:
        if alternative.same_result:
            out.print(Text(f"\n{safe(alternative.name)}:", style="bold"))
            for line in safe(alternative.sql).strip().splitlines():
                out.print(indented(Text(line), 2))


def weigh(out: Console, document: documents.WeighDocument) -> None:
    """The parts of a statement, the dearest first."""
    out.print(Text(one_line(document.sql, 400), style="bold"))
    out.print(
        Text(
            f"whole: {milliseconds(document.whole_ms)} ms, {plural(document.rows, 'row')}, "
            f"{size(document.bytes)}; {document.repetitions} interleaved repetitions each"
        )
    )
    table = table_of(("without", "l"), ("ms", "r"), ("rows", "r"), ("what it costs", "l"))
    for part in document.parts:
        what = (
            Text()
            .append(f"{part.kind}: ", style="dim")
            .append(one_line(part.part, 60), style="bold")
        )
        if part.with_it:
            what.append(f"\nand with it {safe(part.with_it)}", style="dim")
        text = Text(safe(part.verdict.text))
        if part.error:
            text.append("\n" + one_line(part.error, 80), style="dim")
        time = milliseconds(part.without_ms) if part.without_ms is not None else "–"
        table.add_row(what, time, f"{part.rows:,}" if not part.error else "–", text)
    out.print(indented(table, 2))
    out.print(
        Text(
            "Clauses can depend on each other, so the shares need not add up. Removing one "
            "changes the result; this only measures time.",
            style="dim",
        )
    )
