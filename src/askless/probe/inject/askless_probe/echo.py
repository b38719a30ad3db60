"""`--echo`: each statement on stderr as it ends, with its time, its rows and the values asked for.

The list of columns is folded, so that FROM, JOIN and WHERE can be seen; what no one's code wrote is
omitted.
"""

import os
import re
import sys

from . import recorder, values
from .fields import DURATION_NS, ERROR, PARAMETERS, ROWS, TEXT

FIELDS = 14  # of a record as the drivers make it
LINES_MAX = 4
_SPACE = re.compile(r"\s+")
_CONTROL = re.compile(r"[\x00-\x1f\x7f-\x9f]")
_SELECT = re.compile(r"SELECT (?:DISTINCT |ALL )?", re.I)
_STEP = re.compile(r"[()]|'[^']*'|\bFROM\b", re.I)
_NOISE = re.compile(
    r"(?:BEGIN|COMMIT|ROLLBACK|SAVEPOINT|RELEASE|END|START "
    r"TRANSACTION|PRAGMA|SET|SHOW|DEALLOCATE|DISCARD|RESET)\b"
    r"|SELECT (?:1|QUOTE\(\?\)(?:, QUOTE\(\?\))*|set_config\([^)]*\)|(?:pg_catalog\.)?version\(\)"
    r"|current_schema\(\)) ?;?$|;?$",
    re.I,
)


def folded(text):
    """The statement on one line, the columns of its outermost SELECT folded where they are many."""
    text = _SPACE.sub(" ", text).strip()
    head = _SELECT.match(text)
    if head is None:
        return text
    depth, commas_from = 0, head.end()
    for step in _STEP.finditer(text, head.end()):
        sign = step.group()
        if sign == "(":
            depth += 1
        elif sign == ")":
            depth -= 1
        elif depth == 0 and sign.upper() == "FROM":
            columns = text[commas_from : step.start()].strip()
            if len(columns) <= 40:
                return text
            return "%s\u2026 %s" % (head.group(), text[step.start() :])
    return text


def shown_values(parameters):
    """The values of a statement, short."""
    if isinstance(parameters, dict):
        shown = ", ".join(
            "%s=%s" % (name, _short(value)) for name, value in list(parameters.items())[:12]
        )
    else:
        shown = ", ".join(map(_short, parameters[:12]))
    return "  (%s%s)" % (shown, ", \u2026" if len(parameters) > 12 else "") if parameters else ""


def _short(value):
    text = (
        "NULL"
        if value is None
        else repr(value)
        if type(value) in (str, int, float, bool)
        else values.text_of(value)
    )
    return text if len(text) <= 40 else text[:39] + "\u2026"


def in_lines(text, width, indent):
    """The text in lines of a width, those after the first indented; cut where they would be too
    many.
    """
    lines = []
    while text and len(lines) < LINES_MAX:
        room = max(width - indent, 40)
        cut = len(text) if len(text) <= room else text.rfind(" ", room // 2, room + 1)
        cut = room if cut < 0 else cut
        lines.append(text[:cut].rstrip())
        text = text[cut:].lstrip()
    if text:
        lines[-1] = lines[-1][: max(width - indent, 40) - 1] + "\u2026"
    return ("\n" + " " * indent).join(lines)


class Echo:
    """Prints records, each once. A cursor still open at a prompt is printed before the prompt."""

    def __init__(self, mode):
        self.colour = mode == "colour"
        self.width = 100
        try:
            # a terminal that no one sized says 0
            self.width = os.get_terminal_size(2).columns or self.width
        except OSError:
            pass
        if sys.flags.interactive:
            sys.ps1 = _Prompt(self, ">>> ")

    def show(self, record):
        """Print one record unless it has been: a shown record carries one field more."""
        if len(record) > FIELDS:
            return
        record.append(True)
        text = str(record[TEXT])
        if _NOISE.match(text.strip()) and not record[ERROR]:
            return
        ms = record[DURATION_NS] / 1e6
        rows = (
            ""
            if record[ROWS] < 0
            else "%d row%s" % (record[ROWS], "" if record[ROWS] == 1 else "s")
        )
        head = "%9.3f ms %9s  " % (ms, rows)
        text = _CONTROL.sub("\ufffd", folded(text) + shown_values(record[PARAMETERS] or ()))
        text = in_lines(text, self.width - 1, len(head))
        if record[ERROR]:
            text += "  ! " + _CONTROL.sub("\ufffd", record[ERROR])
        if self.colour:
            head = "\x1b[2m" + head + "\x1b[0m"
        try:
            sys.stderr.write(head + text + "\n")
            sys.stderr.flush()
        except (OSError, ValueError):
            pass
        except UnicodeEncodeError:
            sys.stderr.write(head + text.encode("ascii", "replace").decode() + "\n")

    def catch_up(self, records):
        """Print what has not been, of records about to be written."""
        for record in records:
            self.show(record)


class _Prompt:
    """An interactive prompt that first prints what the last line asked."""

    def __init__(self, echo, text):
        self.echo = echo
        self.text = text

    def __str__(self):
        if recorder.outside is not None:
            for record in list(recorder.outside.records):
                self.echo.show(record)
        return self.text
