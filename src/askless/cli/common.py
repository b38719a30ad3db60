"""What several commands share: options, reading a capture, printing a document."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec

from askless.capture.reading import FileReport, read
from askless.core.analysis import summarise
from askless.core.errors import AskLessError
from askless.core.findings import Finding
from askless.core.model import Schema
from askless.core.settings import Settings
from askless.core.summary import Summary
from askless.output import documents, terminal

if TYPE_CHECKING:
    from askless.database.servers import Limits


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
        "--db",
        metavar="URL",
        required=required,
        help="the database: sqlite:///harbour.db, postgresql://user@host/name, mariadb://user@host/name; it is only read",
    )


def add_schema(parser: argparse.ArgumentParser) -> None:
    """A schema that was saved before."""
    parser.add_argument(
        "--schema", metavar="FILE", type=Path, help="tables and their sizes from a file (askless tables -o FILE)"
    )


def add_limits(parser: argparse.ArgumentParser, trial: bool = False) -> None:
    """How far a command may go on a server."""
    parser.add_argument(
        "--timeout", metavar="SECONDS", type=float, default=30.0, help="the longest a statement may run (default: 30)"
    )
    if trial:
        parser.add_argument("--allow-large", action="store_true", help="copy or index tables of more than 512 MiB too")
        parser.add_argument(
            "--even-if-busy", action="store_true", help="go on although other sessions are at work on the tables"
        )


def limits_of(options: argparse.Namespace) -> Limits:
    """The limits that the options set. Raises AskLessError bad-timeout."""
    from askless.database.servers import Limits

    if not 0 < options.timeout <= 86_400:
        raise AskLessError(
            "bad-timeout", "--timeout takes seconds, more than 0 and at most a day", "for example --timeout 60"
        )
    return Limits(
        statement_s=options.timeout,
        allow_large=getattr(options, "allow_large", False),
        even_if_busy=getattr(options, "even_if_busy", False),
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


def schema_file(path: Path | None) -> Schema | None:
    """The schema in a file, where one is named. Raises AskLessError schema-unreadable."""
    if path is None:
        return None
    try:
        document = msgspec.json.decode(path.read_bytes(), type=documents.TablesDocument)
    except OSError as error:
        raise AskLessError("schema-unreadable", f"can't read {path}: {error.strerror}", "check the path") from None
    except msgspec.DecodeError as error:
        raise AskLessError(
            "schema-unreadable", f"{path} holds no tables: {error}", "make it with: askless tables --db URL -o FILE"
        ) from None
    if document.version != 1 or document.format != "askless tables":
        raise AskLessError(
            "schema-unreadable",
            f"{path} is {document.format!r} version {document.version}; this reads 'askless tables' version 1",
            "make it anew with: askless tables --db URL -o FILE",
        )
    return Schema(document.system, document.tables)


def schema_of(options: argparse.Namespace) -> Schema | None:
    """The schema of the database or the file that the options name; None where they name neither."""
    if options.schema is not None:
        return schema_file(options.schema)
    if options.db is None:
        return None
    from askless.database.connecting import connect, parse_url
    from askless.database.reflecting import reflect

    with connect(parse_url(options.db)) as connection:
        return reflect(connection)


def one_finding(found: list[Finding], wanted: str) -> tuple[int, Finding]:
    """The finding with this place or key, and its place. Raises AskLessError no-finding."""
    for place, finding in enumerate(found, 1):
        if wanted in (str(place), finding.key):
            return place, finding
    raise AskLessError(
        "no-finding", f"there is no finding {wanted}; {len(found)} are listed", "leave --show out to list them"
    )
