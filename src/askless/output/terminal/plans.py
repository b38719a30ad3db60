"""What the terminal shows of plans: trees in words, what was observed on their nodes, and indexes
to try.
"""

from __future__ import annotations

import textwrap
from collections.abc import Iterator, Sequence

import msgspec
from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from askless.core.formatting import number
from askless.output import plan_text
from askless.output.terminal.drawing import PROSE, indented, labelled
from askless.output.text import milliseconds, one_line, percent, safe
from askless.reports import documents


def plan(out: Console, document: documents.PlanDocument) -> None:
    """Statements and their plans, what was observed, and the indexes to try."""
    for place, row in enumerate(document.statements, 1):
        out.print(Text(f"{place}. {one_line(row.sql, 300)}", style="bold"))
        if plan_text.executions(row):
            out.print(Text("  " + safe(plan_text.executions(row)), style="dim"))
        if row.error:
            out.print(Text("  can't be explained: " + one_line(row.error, 200), style="red"))
        if row.remark:
            out.print(Text("  " + safe(row.remark), style="yellow"))
        if row.plan:
            out.print(indented(_steps(row.plan), 2), width=out.width)
        if plan_text.planning(row):
            out.print(Text("  " + plan_text.planning(row), style="dim"))
        if row.generic_plan:
            out.print(Text("  " + plan_text.GENERIC))
            out.print(indented(_steps(row.generic_plan), 2), width=out.width)
        for index in row.indexes:
            index_to_try(out, index)
        if not row.indexes and not row.error and document.schema_known:
            out.print(Text("  " + plan_text.NO_INDEX))
        out.print()
    if plan_text.coverage(document):
        out.print(Text(plan_text.coverage(document), style="dim"))


def index_to_try(out: Console, index: documents.IndexRow) -> None:
    out.print(Text("  → " + safe(index.ddl), style="green"))
    labelled(out, plan_text.to_try(index), 4)


def _steps(nodes: Sequence[documents.PlanNode]) -> Table:
    """A plan's steps, numbered; what a step takes in is below it, one column further in, so that
    deep plans stay legible.
    """
    grid = Table.grid(padding=(0, 1, 0, 0))
    grid.add_column(justify="right", style="dim", no_wrap=True)
    grid.add_column(overflow="fold")
    waiting = [(node, 0) for node in reversed(nodes)]
    place = 0
    while waiting:
        node, depth = waiting.pop()
        place += 1
        grid.add_row(
            str(place), Padding(_node(node), (0, 0, 0, min(depth, _DEEPEST)), expand=False)
        )
        waiting += [(child, depth + 1) for child in reversed(node.children)]
    return grid


def _node(node: documents.PlanNode) -> Text:
    text = Text().append(safe(node.kind), style="bold")
    text.append(safe(plan_text.target(node)))
    for part in (plan_text.table_size(node), plan_text.detail(node)):
        text.append(f"  {part}" if part else "", style="dim")
    if plan_text.condition(node):
        text.append(f"\ncondition: {plan_text.condition(node)}", style="dim")
    if plan_text.numbers(node):
        text.append("\n" + plan_text.numbers(node))
    for observation in node.observations:
        text.append("\n! " + safe(observation), style="yellow")
    return text


def plan_tree(out: Console, document: documents.PlanDocument) -> None:
    """Plans as trees with numbers next to: rows expected against rows found, the share of the time.

    What was observed runs over the whole width, below its step.
    """
    for place, row in enumerate(document.statements, 1):
        out.print(Text(f"{place}. {one_line(row.sql, 300)}", style="bold"))
        if row.error:
            out.print(Text("  can't be explained: " + one_line(row.error, 200), style="red"))
            continue
        _tree(out, row.plan)
    if not any(node.actual_rows is not None for row in document.statements for node in row.plan):
        out.print(
            Text(
                "Nothing was run, so these are only estimates; --analyze runs the statement.",
                style="dim",
            )
        )


_DEEPEST = 40  # columns that a step is further in, at most
_BAR = 10
_BARS_FROM = 96  # columns of the terminal
_HEADS = ("rows expected", "rows found", "runs", "own ms", "time")
_LEAST_STEP = 24  # columns that steps keep


class _Step(msgspec.Struct):
    """A line of a tree: what guides the eye to it and on below it, the step's own words, its
    numbers.
    """

    lead: str
    below: str
    node: documents.PlanNode
    numbers: tuple[str, ...]


def _tree(out: Console, plan: Sequence[documents.PlanNode]) -> None:
    steps = [step for node in plan for step in _steps_of(node, "", "", out.width >= _BARS_FROM)]
    widths = [
        max(len(head), *(len(step.numbers[i]) for step in steps)) for i, head in enumerate(_HEADS)
    ]
    room = max(out.width - 2 - sum(widths) - 2 * len(widths), _LEAST_STEP)
    longest = max(
        len(step.lead) + len(step.node.kind) + len(safe(plan_text.target(step.node)))
        for step in steps
    )
    width = min(longest, room)

    def line(step: Text, cells: Sequence[str], style: str = "") -> None:
        step.pad_right(max(width - len(step), 0))
        for place, (cell, size) in enumerate(zip(cells, widths, strict=True)):
            side = cell.ljust(size) if place == len(widths) - 1 else cell.rjust(size)
            step.append("  " + side, style=style)
        step.rstrip()
        out.print(indented(step, 2), width=out.width)

    line(Text("step", style="bold"), _HEADS, "bold")
    out.print(
        indented(Text("─" * (width + sum(widths) + 2 * len(widths)), style="dim"), 2),
        width=out.width,
    )
    for step in steps:
        guide = step.below + ("│ " if step.node.children else "  ")
        text = Text().append(step.lead, style="dim").append(safe(step.node.kind), style="bold")
        target = safe(plan_text.target(step.node))
        fits = len(text) + len(target) <= width
        if (
            not fits
            and len(step.lead) + len(step.node.kind) + len(f" on {step.node.table}") <= width
        ):
            target = f" on {safe(step.node.table)}"
        line(text.append(target), step.numbers)
        if not fits and step.node.index:
            by = one_line(f"by {step.node.index}", out.width - 2 - len(guide))
            out.print(
                indented(Text(guide, style="dim").append(by, style="not dim"), 2), width=out.width
            )
        for observation in step.node.observations:
            for part in textwrap.wrap(
                "! " + safe(observation), min(out.width, PROSE) - 2 - len(guide)
            ):
                out.print(
                    indented(Text(guide, style="dim").append(part, style="not dim yellow"), 2),
                    width=out.width,
                )


def _steps_of(node: documents.PlanNode, lead: str, below: str, bars: bool) -> Iterator[_Step]:
    """A node and all below it, from the top."""
    share = percent(node.share) if node.share is not None else ""
    if bars and node.share is not None:
        share = ("█" * round(min(node.share, 1.0) * _BAR) + " " + share).strip()
    yield _Step(
        lead,
        below,
        node,
        (
            number(node.estimated_rows) if node.estimated_rows is not None else "",
            "never run"
            if node.loops == 0
            else number(node.actual_rows)
            if node.actual_rows is not None
            else "",
            f"×{node.loops:,}" if (node.loops or 1) > 1 else "",
            milliseconds(node.own_ms) if node.own_ms is not None else "",
            share,
        ),
    )
    for place, child in enumerate(node.children):
        end = place == len(node.children) - 1
        yield from _steps_of(
            child, below + ("└ " if end else "├ "), below + ("  " if end else "│ "), bars
        )
