"""Formats: what can be made of a document. See `registry` for their names.

A format's module has `FORMATS`, by name. The ending of a file that is written in a format is `.`
and its name.
"""

from __future__ import annotations

from collections.abc import Collection
from importlib import import_module
from pathlib import Path
from typing import Protocol

import msgspec

from askless.core.errors import AskLessError
from askless.output.registry import REGISTRY
from askless.reports.documents import Document, name_of


class View(msgspec.Struct, frozen=True):
    """How to show a document, if a format has several ways. `variant` is one of them, by a name of
    the command's.

    `root` is the folder that files of the project are named from, for formats that other programs
    read.
    """

    variant: str = ""
    root: Path | None = None


class Format(Protocol):
    """One format. Its entry in the registry names the documents that it can show."""

    def check(self) -> None:
        """Raises AskLessError if something is not installed that the format needs."""

    def render(self, document: Document, view: View) -> bytes:
        """The document in this format."""


def format_of(name: str) -> Format:
    """The format of a name. Raises AskLessError no-format."""
    if name not in REGISTRY:
        from difflib import get_close_matches

        near = get_close_matches(name, REGISTRY, 1, 0.5)
        remedy = f"did you mean {near[0]}?" if near else "formats: " + ", ".join(REGISTRY)
        raise AskLessError("no-format", f"there is no format {name!r}", remedy)
    result: Format = import_module(REGISTRY[name].module).FORMATS[name]
    return result


def format_for(path: Path, document: str, among: Collection[str] = ()) -> Format:
    """The format of a file, by its ending, for the document of a name. Raises AskLessError
    no-format.
    """
    name = path.suffix.lower().removeprefix(".")
    fitting = [
        other
        for other in among or REGISTRY
        if other != "terminal" and REGISTRY[other].shows(document)
    ]
    if name not in fitting:
        endings = " or ".join("." + other for other in fitting)
        raise AskLessError(
            "no-format",
            f"{document} can't be written to {path}",
            f"use a file name that ends in {endings}",
        )
    return format_of(name)


def check_fits(name: str, document: Document) -> None:
    """Raises AskLessError no-format if a format of this name can't show a document."""
    if name in REGISTRY and not REGISTRY[name].shows(name_of(document)):
        raise AskLessError(
            "no-format", f"the format {name} does not show {name_of(document)}", "remove the option"
        )
