"""The registry of formats: what can be made of a document. A new format is a file in this room and a line here.

A format's module has `FORMATS`, by name. The ending of a file that is written in a format is `.` and its name.
"""

from __future__ import annotations

from collections.abc import Collection
from importlib import import_module
from pathlib import Path
from typing import Protocol

import msgspec

from askless.core.errors import AskLessError
from askless.reports.documents import Document, name_of

REGISTRY = {
    "terminal": "askless.output.terminal",
    "json": "askless.output.json_text",
    "sql": "askless.output.sql",
    "markdown": "askless.output.markdown",
    "sarif": "askless.output.sarif",
    "junit": "askless.output.junit",
    "csv": "askless.output.csv_text",
    "html": "askless.output.page",
    "svg": "askless.output.figures",
    "png": "askless.output.figures",
}
FILES = tuple(name for name in REGISTRY if name != "terminal")
FIGURES = ("svg", "png")


class View(msgspec.Struct, frozen=True):
    """How to show a document, where a format has several ways. `variant` is one of them, by a name of the command's.

    `root` is the folder that files of the project are named from, for formats that other programs read.
    """

    variant: str = ""
    root: Path | None = None


class Format(Protocol):
    """One format. `documents` are the names of those that it can show; none named stands for all."""

    documents: frozenset[str]

    def check(self) -> None:
        """Raises AskLessError where something is not installed that the format needs."""

    def render(self, document: Document, view: View) -> bytes:
        """The document in this format."""


def format_of(name: str) -> Format:
    """The format of a name. Raises AskLessError no-format."""
    if name not in REGISTRY:
        from difflib import get_close_matches

        near = get_close_matches(name, REGISTRY, 1, 0.5)
        remedy = f"did you mean {near[0]}?" if near else "formats: " + ", ".join(REGISTRY)
        raise AskLessError("no-format", f"there is no format {name!r}", remedy)
    result: Format = import_module(REGISTRY[name]).FORMATS[name]
    return result


def format_for(path: Path, document: str, among: Collection[str] = FILES) -> Format:
    """The format of a file, by its ending, for the document of a name. Raises AskLessError no-format."""
    name = path.suffix.lower().removeprefix(".")
    fitting = []
    for other in among:
        result = format_of(other)
        if not result.documents or document in result.documents:
            fitting.append(other)
    if name not in fitting:
        endings = " or ".join("." + other for other in fitting)
        raise AskLessError("no-format", f"{document} can't be written into {path}", f"let the file end in {endings}")
    return format_of(name)


def check_fits(found: Format, document: Document) -> None:
    """Raises AskLessError no-format where a format can't show a document."""
    name = name_of(document)
    if found.documents and name not in found.documents:
        raise AskLessError("no-format", f"this format does not show {name}", "leave the option out")
