"""What all views draw with: the console, tables, indented and labelled text. Words before
colours.
"""

from __future__ import annotations

import os
import shlex
from collections.abc import Sequence
from pathlib import Path
from socket import gethostname
from typing import Any
from urllib.parse import quote

from rich import box
from rich.console import Console, ConsoleOptions, RenderableType, RenderResult
from rich.measure import Measurement
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from askless.core.findings.finding import SourceLine
from askless.output.finding_text import at
from askless.output.text import in_middle, one_line, safe

SEVERITY_STYLE = {"urgent": "bold red", "worthwhile": "yellow", "minor": "cyan"}
WIDEST = 200
PROSE = 110  # columns after which no one finds the next line
UNKNOWN = 100  # columns where no one says how many there are
WIDE = 96  # columns from which a table may have all of its own
NARROWEST = 16  # columns that a route keeps


class Screen(Console):
    """A console whose tables take all of its width, and whose texts no more than can be read."""

    def print(self, *objects: Any, **options: Any) -> None:
        """Print; texts, alone, moved to the right or in a grid, are wrapped early unless a width is
        given.
        """
        if "width" not in options and not options.get("soft_wrap") and all(map(_is_text, objects)):
            options["width"] = min(self.width, PROSE)
        super().print(*objects, **options)


def _is_text(what: object) -> bool:
    inner = what.renderable if isinstance(what, Padding) else what
    return isinstance(inner, str | Text) or (isinstance(inner, Table) and inner.box is None)


def console() -> Console:
    """A console of 60 to 200 columns, 100 where they are not known.

    Never reads markup; colour only if the terminal and NO_COLOR allow.
    """
    product = Screen(highlight=False, markup=False, emoji=False, soft_wrap=False)
    columns = int(os.environ.get("COLUMNS") or 0) if not product.is_terminal else product.width
    product.width = max(min(columns or UNKNOWN, WIDEST), 60)
    return product


def code(out: Console, text: str, columns: int, style: str = "") -> None:
    """Statements and calls, as wide as there is room: if they break matters more than how long
    their lines are.
    """
    for line in safe(text).strip().replace("\t", "  ").splitlines():
        out.print(indented(Text(line, style=style), columns), width=out.width)


# What the environment says of a terminal that follows links (OSC 8), and from which version on.
_LINKING = {
    "KITTY_WINDOW_ID": 0,
    "WT_SESSION": 0,
    "KONSOLE_VERSION": 201200,
    "VTE_VERSION": 5000,
    "WEZTERM_PANE": 0,
}
_LINKING_PROGRAMS = ("iTerm.app", "WezTerm", "vscode", "ghostty", "Hyper", "Tabby")
_LINKING_TERMS = ("kitty", "foot", "alacritty", "ghostty")


def follows_links() -> bool:
    """Whether the terminal makes links of what it is reported to be one: one that does not would
    show nothing, or rubbish.
    """
    env = os.environ
    for name, least in _LINKING.items():
        digits = "".join(sign for sign in env.get(name, "") if sign.isdigit())
        if name in env and (not least or int(digits or 0) >= least):
            return True
    program, term = env.get("TERM_PROGRAM", ""), env.get("TERM", "")
    return program in _LINKING_PROGRAMS or any(name in term for name in _LINKING_TERMS)


def linked(out: Console, text: Text, *lines: SourceLine | None) -> Text:
    """The text with its lines of code as links, if the terminal follows them and the files are
    here.
    """
    if not out.is_terminal or not follows_links():
        return text
    for line in lines:
        where = at(line) if line is not None else ""
        start = text.plain.find(where) if where else -1
        if line is not None and start >= 0 and Path(line.file).is_file():
            address = f"file://{gethostname()}{quote(str(Path(line.file).resolve()))}#{line.line}"
            text.stylize(f"link {address}", start, start + len(where))
    return text


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
    """What to run next, on a line of its own that is never wrapped, so that it can be copied
    whole.
    """
    out.print(Text(lead, style="dim"))
    out.print(Text("  askless " + shlex.join(map(safe, words)), style="dim"), soft_wrap=True)


def table_of(*columns: tuple[str, str]) -> Table:
    """An empty table; each column has a name and a side, l or r."""
    table = Table(
        box=box.SIMPLE_HEAD, pad_edge=False, padding=(0, 1, 0, 0), header_style="bold", expand=False
    )
    for name, side in columns:
        table.add_column(
            name, justify="right" if side == "r" else "left", no_wrap=side == "r", overflow="fold"
        )
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
