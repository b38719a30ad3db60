"""What is wrapped around a plan when it is pasted: a client's frame, a page's code fence, a mail's
quotes and breaks.

Each step takes one kind of wrapping off, if all lines show it, and leaves every line at its number.
"""

from __future__ import annotations

import html
import re
from collections.abc import Callable, Sequence
from itertools import pairwise

from askless.core.plans.errors import UnreadablePlan

# What web pages and mail put into a text: invisible breaks, and spaces of another kind.
_INVISIBLE = dict.fromkeys(map(ord, "\u200b\u200c\u200d\u2060\ufeff\u00ad")) | {
    0xA0: " ",
    0x2007: " ",
    0x202F: " ",
}
_BOX = {ord("│"): "|", ord("┃"): "|", ord("║"): "|"} | dict.fromkeys(
    map(ord, "─━═┌┐└┘├┤┬┴┼╔╗╚╝╠╣╦╩╬╒╕╘╛╞╡"), "-"
)
FRAME = re.compile(r"^\s*(?:QUERY PLAN|[-+=]{4,}|\(\d+ rows?\))\s*$")
_OTHER_FORMS = (
    (re.compile(r"^[ \t]*- Plan:", re.M), "YAML"),
    (re.compile(r"^[ \t]*<explain\b", re.M), "XML"),
)
_HEAD = re.compile(
    r"^\s*(?:query[ _]?plan|plan|(?:query[ _]?)?plan[ _]?text|explain(?:[ _]analyze)?)\s*$", re.I
)
_PROMPT = re.compile(
    r"^\s*(?:[\w.@-]*[=\-*(]?[#>]|mysql>|MariaDB \[[^\]]*\]>|sqlite>|\.{3}>|\s+->(?=\s*$))\s*(?=\w)",
    re.I,
)
_STATEMENT = re.compile(r"^\s*(?:explain|analyze)\b.*\S", re.I)
_RULE = re.compile(r"^[\s|+=-]*[-=]{4,}[\s|+=-]*$")
_RECORD = re.compile(r"^-\[ RECORD \d+ \][-+]*\s*$")
_NUMBERED = re.compile(r"^( *(\d+)[.:)]?)(?: |$)")
_OPEN = re.compile(r"\((?:cost=|actual |rows=)[^()]*$")
_MORE = re.compile(r"^\s*\((?:cost=|actual |never executed)")

# What chat programs and word processors make of an arrow, of two dashes, of two dots and of quotes.
_ARROW = re.compile(
    r"^(?P<before>[\s|>\"']*(?:EXPLAIN:\s*)?)(?:[→➔➙➜➝➞⟶⇒⟹➡]\ufe0f?|[–—−─-] ?>|[–—−]>)"
    r"(?P<after>\s+\w)"
)
_BRANCH = re.compile(r"^(?P<before>[| ]*[|`])[–—]+(?=[A-Z])")
_DASHES = re.compile(r"^[\s|+–—]*[–—]{2,}[\s|+–—]*$")
_DOTS = re.compile(r"(?<=\d)…(?=\d)")
_QUOTES = str.maketrans("“”„", '"""')
_STARS = re.compile(r"^\*{3,} \d+\. row \*{3,}$")
_LABEL = re.compile(r"^\s*(?:EXPLAIN|ANALYZE):\s*(?=\{|->)")
_CELL = re.compile(r"^\s*(?P<name>\w+): ?(?P<value>.*)$")
_COUNTED = re.compile(r"^\d+ rows? in set\b.*$")

Lines = list[str]


def unframed(text: str) -> str:
    """The text without what was wrapped around it. Lines keep their numbers."""
    text = text.translate(_INVISIBLE)
    for pattern, name in _OTHER_FORMS:
        match = pattern.search(text)
        if match:
            line = text.count("\n", 0, match.start()) + 1
            raise UnreadablePlan(
                line,
                f"this is the {name} form, which is not supported; the plain text and FORMAT JSON "
                "are",
            )
    if "&gt;" in text:
        text = html.unescape(text)
    if '"' not in text:
        text = text.translate(_QUOTES)
    lines = text.splitlines()
    for step in _STEPS:
        lines = step(lines)
    if any(f'"{word}"' in text for word in ("Plan", "query_block", "query_plan")):
        lines = ["" if FRAME.match(line) else re.sub(r"\s*\+$", "", line) for line in lines]
    return "\n".join(lines)


def _filled(lines: Sequence[str]) -> Lines:
    return [line for line in lines if line.strip()]


def _without_fences(lines: Lines) -> Lines:
    return [
        "" if re.match(r"^\s*(?:>\s*)*(?:`{3,}|~{3,})\s*\w*\s*$", line) else line for line in lines
    ]


def _without_quotes(lines: Lines) -> Lines:
    """The marks of a quoted mail."""
    filled = _filled(lines)
    while filled and all(line.lstrip().startswith(">") for line in filled):
        lines = [re.sub(r"^\s*> ?", "", line) for line in lines]
        filled = _filled(lines)
    return lines


def _without_strings(lines: Lines) -> Lines:
    """Each line as a string of its own, as grids copy them."""
    for mark in ('"', "'"):
        filled = [line.strip().rstrip(",").rstrip() for line in _filled(lines)]
        if len(filled) > 1 and all(
            len(line) > 1 and line[0] == mark == line[-1] for line in filled
        ):
            return [
                line.strip().rstrip(",").rstrip()[1:-1].replace(mark * 2, mark)
                if line.strip()
                else ""
                for line in lines
            ]
    return lines


def _as_typed(lines: Lines) -> Lines:
    """Arrows, dashes and dots as the server wrote them."""
    lines = [_ARROW.sub(r"\g<before>->\g<after>", line) for line in lines]
    lines = [_BRANCH.sub(r"\g<before>--", _LABEL.sub("", line)) for line in lines]
    return ["" if _DASHES.match(line) else _DOTS.sub("..", line) for line in lines]


def _without_stars(lines: Lines) -> Lines:
    """Rows one under another as MySQL's client prints them for \\G: a table's are rows of cells
    again, the first one after a header.
    """
    starts = [at for at, line in enumerate(lines) if _STARS.match(line.strip())]
    if not starts:
        return lines
    results = ["" if _COUNTED.match(line) else line for line in lines]
    for turn, (start, end) in enumerate(pairwise([*starts, len(lines)])):
        results[start] = ""
        cells = [cell for line in lines[start + 1 : end] if (cell := _CELL.match(line))]
        names = [cell["name"] for cell in cells]
        if names[:2] != ["id", "select_type"]:
            continue
        results[start:end] = [""] * (end - start)
        results[start + 1] = "\t".join(cell["value"].strip() for cell in cells)
        if not turn:
            results[start] = "\t".join(names)
    return results


def _unescaped(lines: Lines) -> Lines:
    """A plan in one line, its line breaks as MySQL's client writes them for scripts."""
    filled = _filled(lines)
    if len(filled) != 1 or not filled[0].lstrip().startswith("{\\n"):
        return lines
    return [re.sub(r"\\(.)", _escaped, line) for line in lines]


def _escaped(match: re.Match[str]) -> str:
    return {"n": " ", "t": " "}.get(match[1], match[1])


def _without_records(lines: Lines) -> Lines:
    """Rows one under another, each after the column's name."""
    if not any(_RECORD.match(line.translate(_BOX)) for line in lines):
        return lines
    results = []
    for line in lines:
        flat = line.translate(_BOX)
        if _RECORD.match(flat):
            results.append("")
            continue
        bar = flat.find("|")
        results.append(re.sub(r"\s*\+$", "", line[bar + 2 :]) if bar >= 0 else line)
    return results


_DRAWN = re.compile("[│─━║]")
_SEVERAL = re.compile(r"\|.*\|.*\||^[|\s]*[|`]--")  # columns of a table, or the branches of a tree


def _without_borders(lines: Lines) -> Lines:
    """Bars and lines around a table of one column. SQLite's trees and tables of several columns are
    left alone.
    """
    flat = [line.translate(_BOX) if _DRAWN.search(line) else line for line in lines]
    filled = [line for line in _filled(flat) if not _RULE.match(line)]
    ended = [line for line in filled if line.rstrip().endswith("|")]
    if len(ended) * 2 < len(filled) + 1 or any(_SEVERAL.search(line) for line in filled):
        return lines
    begun = all(line.lstrip().startswith("|") for line in ended)
    results = []
    for line in flat:
        if _RULE.match(line):
            results.append("")
            continue
        line = re.sub(r"\s*\|\s*$", "", line)
        results.append(re.sub(r"^\s*\|", "", line) if begun else line)
    return results


def _without_numbers(lines: Lines) -> Lines:
    filled = _filled(lines)
    matches = [_NUMBERED.match(line) for line in filled]
    numbers = [int(match[2]) for match in matches if match is not None]
    if len(filled) < 2 or numbers != list(
        range(numbers[0] if numbers else 0, len(filled) + (numbers[0] if numbers else 0))
    ):
        return lines
    width = max(len(match[1]) for match in matches if match is not None)
    return [line[width:] if line.strip() else line for line in lines]


def _without_heads(lines: Lines) -> Lines:
    """The column's name, the client's prompt, and the statement that was explained."""
    results: Lines = []
    open_ = False
    for line in lines:
        typed = _PROMPT.sub("", line)
        if open_:
            open_ = ";" not in line and "\\G" not in line
            results.append("")
        elif _HEAD.match(line) and not _step_like(line):
            results.append("")
        elif typed != line or _STATEMENT.match(line):
            is_statement = (
                _STATEMENT.match(typed) is not None
                and not _step_like(typed)
                and "EXPLAIN:" not in typed
            )
            results.append("" if is_statement else line)
            open_ = is_statement and ";" not in line and "\\G" not in line and typed != line
        else:
            results.append(line)
    return results


def _step_like(line: str) -> bool:
    return "(cost=" in line or "->" in line


def _unwrapped(lines: Lines) -> Lines:
    """Lines that something broke in the middle of their numbers are one again; the others stay at
    their place, empty.
    """
    results: Lines = []
    at = -1  # of the line that goes on
    for line in lines:
        broken = at >= 0 and (
            _OPEN.search(results[at]) is not None or _MORE.match(line) is not None
        )
        if broken and line.strip():
            results[at] = (
                results[at].rstrip() + (" " if not line.startswith(")") else "") + line.strip()
            )
            results.append("")
            continue
        results.append(line)
        at = len(results) - 1 if line.strip() else at
    return results


_STEPS: tuple[Callable[[Lines], Lines], ...] = (
    _without_fences, _without_quotes, _as_typed, _without_strings, _without_stars,
    _without_records, _without_borders, _without_numbers, _without_heads, _unescaped, _unwrapped,
)  # fmt: skip
