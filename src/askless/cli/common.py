"""What several commands share: options, reading a capture, printing a document."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import Any

from askless.capture.reading import FileReport, read
from askless.core.analysis import summarise
from askless.core.model import Schema
from askless.core.settings import Settings
from askless.core.summary import Summary
from askless.output import documents, terminal


def command(commands: Any, name: str, help_text: str, examples: str) -> argparse.ArgumentParser:
    """A command's own parser, with examples below its help."""
    parser: argparse.ArgumentParser = commands.add_parser(
        name,
        help=help_text,
        description=help_text[0].upper() + help_text[1:] + ".",
        epilog="examples:\n" + examples,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    return parser


def add_capture(parser: argparse.ArgumentParser) -> None:
    """The capture that a command reads."""
    parser.add_argument("capture", metavar="CAPTURE", type=Path, help="a capture: a file, or a folder of files")


def add_json(parser: argparse.ArgumentParser) -> None:
    """Output for programs."""
    parser.add_argument("--json", action="store_true", help="print JSON (its form: askless schema COMMAND)")


def add_database(parser: argparse.ArgumentParser, required: bool = False) -> None:
    """The database that a command asks."""
    parser.add_argument(
        "--db", metavar="URL", required=required, help="the database, as in sqlite:///harbour.db; it is only read"
    )


def print_document(document: documents.Document) -> None:
    """A document on stdout, as JSON."""
    sys.stdout.write(documents.encode(document) + "\n")


def load(path: Path, settings: Settings | None = None) -> tuple[Summary, list[FileReport]]:
    """Read and add up a capture; what was odd about it is said on stderr."""
    reports: list[FileReport] = []
    summary = summarise(read(path, reports), settings)
    terminal.warn_notes(notes_of(reports))
    return summary, reports


def notes_of(reports: list[FileReport]) -> list[str]:
    """What a reader of a report should know of its capture."""
    notes = []
    for report in reports:
        notes += [f"{report.path.name}: {note}" for note in report.notes]
        if report.torn:
            notes.append(f"{report.path.name}: the last line is torn (a crash does that); everything before it counts")
        if report.bad_lines:
            line, reason = report.bad_lines[0]
            notes.append(
                f"{report.path.name}: {len(report.bad_lines)} lines can't be read, the first is line {line}: {reason}"
            )
    return notes


def reflect(url_text: str | None) -> Schema | None:
    """The schema of a database, where one is named."""
    if url_text is None:
        return None
    from askless.database.connecting import connect, parse_url
    from askless.database.reflecting import reflect as reflect_schema

    with connect(parse_url(url_text)) as connection:
        return reflect_schema(connection)
