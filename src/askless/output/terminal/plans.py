"""What the terminal shows of plans: trees in words, what was observed on their nodes, and indexes to try."""

from __future__ import annotations

import textwrap
from collections.abc import Sequence

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from askless.core.words import number
from askless.output import planned
from askless.output.terminal.drawing import indented, labelled, table_of
from askless.output.text import milliseconds, one_line, percent, safe
from askless.reports import documents


def plan(out: Console, document: documents.PlanDocument) -> None:
    """Statements and their plans, what was observed, and the indexes to try."""
    for place, row in enumerate(document.statements, 1):
        out.print(Text(f"{place}. {one_line(row.sql, 300)}", style="bold"))
        if planned.asked(row):
            out.print(Text("  " + safe(planned.asked(row)), style="dim"))
        if row.error:
            out.print(Text("  can't be explained: " + one_line(row.error, 200), style="red"))
        if row.remark:
            out.print(Text("  " + safe(row.remark), style="yellow"))
        if row.plan:
            out.print(indented(_steps(row.plan), 2))
        if planned.planning(row):
            out.print(Text("  " + planned.planning(row), style="dim"))
        if row.generic_plan:
            out.print(Text("  " + planned.GENERIC))
            out.print(indented(_steps(row.generic_plan), 2))
        for index in row.indexes:
            index_to_try(out, index)
        if not row.indexes and not row.error and document.schema_known:
            out.print(Text("  " + planned.NO_INDEX))
        out.print()


def index_to_try(out: Console, index: documents.IndexRow) -> None:
    out.print(Text("  → " + safe(index.ddl), style="green"))
    labelled(out, planned.to_try(index), 4)


def _steps(nodes: Sequence[documents.PlanNode]) -> Table:
    """A plan's steps, numbered; what a step takes in stands below it, one column further in, so that deep plans stay legible."""
    grid = Table.grid(padding=(0, 1, 0, 0))
    grid.add_column(justify="right", style="dim", no_wrap=True)
    grid.add_column(overflow="fold")
    waiting = [(node, 0) for node in reversed(nodes)]
    place = 0
    while waiting:
        node, depth = waiting.pop()
        place += 1
        grid.add_row(str(place), Padding(_node(node), (0, 0, 0, min(depth, _DEEPEST)), expand=False))
        waiting += [(child, depth + 1) for child in reversed(node.children)]
    return grid


def _node(node: documents.PlanNode) -> Text:
    text = Text().append(safe(node.kind), style="bold")
    text.append(safe(planned.target(node)))
    for told in (planned.table_size(node), planned.detail(node)):
        text.append(f"  {told}" if told else "", style="dim")
    if planned.condition(node):
        text.append(f"\ncondition: {planned.condition(node)}", style="dim")
    if planned.numbers(node):
        text.append("\n" + planned.numbers(node))
    for observation in node.observations:
        text.append("\n! " + safe(observation), style="yellow")
    return text


def plan_tree(out: Console, document: documents.PlanDocument) -> None:
    """Plans as a table: the tree, rows expected against rows found, the share of the time; observations below their node."""
    bars = out.width >= _BARS_FROM
    for place, row in enumerate(document.statements, 1):
        out.print(Text(f"{place}. {one_line(row.sql, 300)}", style="bold"))
        if row.error:
            out.print(Text("  can't be explained: " + one_line(row.error, 200), style="red"))
            continue
        table = table_of(
            ("step", "l"), ("rows expected", "r"), ("rows found", "r"), ("runs", "r"), ("own ms", "r"), ("time", "l")
        )
        for node in row.plan:
            _rows(table, node, "", "", out.width - (_NUMBERS if bars else _NUMBERS_ALONE), bars)
        out.print(indented(table, 2))
    if not any(node.actual_rows is not None for row in document.statements for node in row.plan):
        out.print(Text("Nothing was run, so there are expectations only; --analyze runs the statement.", style="dim"))


_DEEPEST = 40  # columns that a step stands further in, at most
_BAR = 10
_NUMBERS, _NUMBERS_ALONE = 60, 53  # columns that the numbers beside the tree take, with bars and without
_BARS_FROM = 96  # columns of the terminal


def _rows(table: Table, node: documents.PlanNode, lead: str, below: str, wide: int, bars: bool) -> None:
    """One line a node, and its observations under it."""
    text = Text().append(lead, style="dim").append(safe(node.kind), style="bold")
    on, by = (f" on {safe(node.table)}" if node.table else ""), (f" by {safe(node.index)}" if node.index else "")
    text.append(on)
    fits = len(lead) + len(node.kind) + len(on) + len(by) <= wide
    text.append(by if fits else "")
    guide = below + ("│ " if node.children else "  ")
    if not fits:
        text.append("\n" + guide, style="dim").append(one_line(by, wide - len(guide)))
    for observation in node.observations:
        for line in textwrap.wrap("! " + safe(observation), max(wide - len(guide), 20)):
            text.append("\n" + guide, style="dim").append(line, style="yellow")
    expected = number(node.estimated_rows) if node.estimated_rows is not None else ""
    result = "never run" if node.loops == 0 else number(node.actual_rows) if node.actual_rows is not None else ""
    runs = f"×{node.loops:,}" if (node.loops or 1) > 1 else ""
    own = milliseconds(node.own_ms) if node.own_ms is not None else ""
    share = percent(node.share) if node.share is not None else ""
    if bars and node.share is not None:
        share = ("█" * round(min(node.share, 1.0) * _BAR) + " " + share).strip()
    table.add_row(text, expected, result, runs, own, share)
    for place, child in enumerate(node.children):
        end = place == len(node.children) - 1
        _rows(table, child, below + ("└ " if end else "├ "), below + ("  " if end else "│ "), wide, bars)
