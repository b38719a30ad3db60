"""`--echo`: one line on stderr for each statement as it ends, with its time and rows."""

import os
import re
import sys

from . import recorder
from .fields import DURATION_NS, ERROR, ROWS, TEXT

FIELDS = 14  # of a record as the drivers make it
_SPACE = re.compile(r"\s+")
_CONTROL = re.compile(r"[\x00-\x1f\x7f-\x9f]")


class Echo:
    """Prints records, each once. A cursor still open at a prompt is printed before the prompt."""

    def __init__(self, mode):
        self.colour = mode == "colour"
        self.width = 100
        try:
            self.width = os.get_terminal_size(2).columns
        except OSError:
            pass
        if sys.flags.interactive:
            sys.ps1 = _Prompt(self, ">>> ")

    def show(self, record):
        """Print one record unless it has been: a shown record carries one field more."""
        if len(record) > FIELDS:
            return
        record.append(True)
        ms = record[DURATION_NS] / 1e6
        rows = "" if record[ROWS] < 0 else "%d row%s" % (record[ROWS], "" if record[ROWS] == 1 else "s")
        head = "%9.3f ms %9s  " % (ms, rows)
        text = _CONTROL.sub("\ufffd", _SPACE.sub(" ", str(record[TEXT])).strip())
        room = max(self.width - len(head) - 1, 40)
        if len(text) > room:
            text = text[: room - 1] + "\u2026"
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
