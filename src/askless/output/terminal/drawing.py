"""What all views draw with: the console, tables, indented and labelled text. Words before colours."""

from __future__ import annotations

import os
import shlex
from collections.abc import Sequence

from rich import box
from rich.console import Console, ConsoleOptions, RenderableType, RenderResult
from rich.measure import Measurement
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from askless.output.text import in_middle, one_line, safe

SEVERITY_STYLE = {"urgent": "bold red", "worthwhile": "yellow", "minor": "cyan"}
WIDEST = 100
WIDE = 96  # columns from which a table may have all of its own
NARROWEST = 16  # columns that a route keeps


def console() -> Console:
    """A console of at most 100 columns. Never reads markup; colour only where the terminal and NO_COLOR allow."""
    product = Console(highlight=False, markup=False, emoji=False, soft_wrap=False)
    columns = int(os.environ.get("COLUMNS") or 0) if not product.is_terminal else product.width
    product.width = max(min(columns or WIDEST, WIDEST), 60)
    return product


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


def command(out: Console, lead: str, *words: str) -> None:
    """What to run next, on a line of its own that is never wrapped, so that it can be copied whole."""
    out.print(Text(lead, style="dim"))
    out.print(Text("  askless " + shlex.join(map(safe, words)), style="dim"), soft_wrap=True)


def table_of(*columns: tuple[str, str]) -> Table:
    """An empty table; each column has a name and a side, l or r."""
    table = Table(box=box.SIMPLE_HEAD, pad_edge=False, padding=(0, 1, 0, 0), header_style="bold", expand=False)
    for name, side in columns:
        table.add_column(name, justify="right" if side == "r" else "left", no_wrap=side == "r", overflow="fold")
    return table


class InMiddle:
    """A route on one line, shortened in its middle to the width that a table has left for it."""

    def __init__(self, text: str) -> None:
        self.text = one_line(text)

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        """The name, as long as it may be."""
        yield Text(in_middle(self.text, options.max_width))

    def __rich_measure__(self, console: Console, options: ConsoleOptions) -> Measurement:
        """From the least that tells one route from another to the whole name."""
        return Measurement(min(NARROWEST, len(self.text)), len(self.text))
