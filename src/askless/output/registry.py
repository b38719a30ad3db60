"""The registry of formats, as data that a command line can read without importing what a format
needs.
"""

from __future__ import annotations

from typing import NamedTuple


class Entry(NamedTuple):
    """One format. `documents` are those that it can show, all if none is named.

    `printed`: the documents that a command prints in it on request (`--format NAME`); others are
    only written into files.
    """

    module: str
    documents: tuple[str, ...] = ()
    printed: tuple[str, ...] = ()

    def shows(self, document: str) -> bool:
        """Whether it can show a document of this name."""
        return not self.documents or document in self.documents


_PRINTED = ("findings", "compare", "gate")  # the documents of commands with `--format`
_DRAWN = ("plan", "growth", "timeline", "requests", "compare")

# Name -> what there is to know of the format. A new format is a file in this package and an entry
# here.
REGISTRY: dict[str, Entry] = {
    "terminal": Entry("askless.output.terminal", (), _PRINTED),
    "json": Entry("askless.output.json_text", (), _PRINTED),
    "markdown": Entry("askless.output.markdown", _PRINTED, _PRINTED),
    "sarif": Entry("askless.output.sarif", _PRINTED, _PRINTED),
    "csv": Entry("askless.output.csv_text", _PRINTED, _PRINTED),
    "junit": Entry("askless.output.junit", ("gate",), ("gate",)),
    "sql": Entry("askless.output.sql", ("indexes",)),
    "html": Entry("askless.output.page", ("report",)),
    "svg": Entry("askless.output.figures", _DRAWN),
    "png": Entry("askless.output.figures", _DRAWN),
}
FIGURES = ("svg", "png")


def printed_formats(document: str) -> tuple[str, ...]:
    """The names that `--format` takes for a document."""
    return tuple(name for name, entry in REGISTRY.items() if document in entry.printed)
