"""What several commands share: options as plain values, and how a document is shown."""

from __future__ import annotations

import argparse
import re

from askless.core.errors import AskLessError

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence
    from pathlib import Path
    from typing import Any

    from askless.core.records.schema import Schema
    from askless.database.servers import Limits
    from askless.reports.documents import Document

_TIME = re.compile(r"^\s*(\d+(?:\.\d+)?)\s*(us|µs|ms|s)?\s*$")
LOCK_BUDGET = "200ms"
_UNITS = {"us": 1e-3, "µs": 1e-3, "ms": 1.0, "s": 1e3, None: 1.0}


def described(commands: Any, name: str, help_text: str, examples: str) -> argparse.ArgumentParser:
    """A command's own parser, with examples below its help."""
    parser: argparse.ArgumentParser = commands.add_parser(
        name,
        help=help_text,
        description=help_text[0].upper() + help_text[1:] + ".",
        epilog="examples:\n" + examples,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    return parser


def file(text: str) -> Path:
    """The path that an option names, or the place that a URL does. Raises AskLessError:
    remote-extra-missing, bad-url.
    """
    from pathlib import Path

    if "://" not in text:
        return Path(text)
    from askless.capture.remote import place_of

    return place_of(text)


def add_capture(parser: argparse.ArgumentParser) -> None:
    """The capture that a command reads."""
    parser.add_argument(
        "capture", metavar="CAPTURE", type=file, help="a capture: a file, or a folder of files"
    )


def add_subject(parser: argparse.ArgumentParser, what: str) -> None:
    """What a command works on: a capture, or a statement that is typed."""
    parser.add_argument(
        "capture",
        metavar="CAPTURE",
        type=file,
        nargs="?",
        help="a capture: a file, or a folder of files",
    )
    parser.add_argument("--sql", metavar="STATEMENT", help=f"one {what} instead of a capture")
    parser.add_argument(
        "--parameters",
        metavar="JSON",
        default="",
        help="values of its placeholders: a list, or an object by name",
    )


def check_subject(capture: Path | None, sql: str | None, slug: str, command: str) -> None:
    """Raises AskLessError of this slug if not just one of the two is named."""
    if (capture is None) == (sql is None):
        raise AskLessError(slug, "name either a capture or --sql", f"see: askless {command} --help")


def add_json(parser: argparse.ArgumentParser) -> None:
    """Output for programs."""
    parser.add_argument(
        "--json", action="store_true", help="print JSON (schema: askless schema COMMAND)"
    )


def add_spread(parser: argparse.ArgumentParser) -> None:
    """Where a large capture is added up."""
    parser.add_argument(
        "--workers",
        metavar="N",
        type=int,
        help="worker processes (default: one per CPU)",
    )
    parser.add_argument(
        "--cluster",
        metavar="ADDRESS",
        default="",
        help="address of a Dask scheduler to run on; local starts one on this machine",
    )


def add_format(parser: argparse.ArgumentParser, document: str) -> None:
    """Output for people, for programs, and for services that show it next to the code."""
    from askless.output.registry import printed_formats

    names = printed_formats(document)
    formats = parser.add_mutually_exclusive_group()
    formats.add_argument(
        "--format",
        metavar="FORMAT",
        choices=names,
        default="terminal",
        help="print it as " + ", ".join(names),
    )
    formats.add_argument(
        "--json",
        action="store_const",
        dest="format",
        const="json",
        help="print JSON (schema: askless schema COMMAND)",
    )


def add_figure(parser: argparse.ArgumentParser, what: str) -> None:
    """A picture of what a command says."""
    parser.add_argument(
        "--figure", metavar="OUT", type=file, help=f"draw {what}: into a file .svg or .png"
    )


def check_figure(path: Path | None, document: str) -> None:
    """Raises AskLessError if a document of this name can't be drawn into a file: better before long
    work.
    """
    if path is not None:
        from askless.output import delivery, registry

        delivery.check_target(path, document, registry.FIGURES)


def draw(document: Document, path: Path | None) -> None:
    """Draw a document into a file, if one is named. Raises AskLessError: no-figure,
    file-unwritable.
    """
    if path is not None:
        from askless.output import delivery, notices

        delivery.to_file(document, path)
        notices.note(f"drew {path}")


def add_allow_damaged(parser: argparse.ArgumentParser) -> None:
    """Judging what is left of a capture."""
    parser.add_argument(
        "--allow-damaged",
        action="store_true",
        help="judge a damaged or incomplete capture by what can be read",
    )


def add_database(parser: argparse.ArgumentParser, required: bool = False) -> None:
    """The database that a command asks."""
    parser.add_argument(
        "--db",
        metavar="URL",
        required=required,
        help="the database: sqlite:///harbour.db, postgresql://user@host/name, "
        "mariadb://user@host/name; it is only read",
    )


def add_schema(parser: argparse.ArgumentParser) -> None:
    """A schema that was saved before."""
    parser.add_argument(
        "--schema",
        metavar="FILE",
        type=file,
        help="tables and their sizes from a file (askless tables -o FILE)",
    )


def add_limits(parser: argparse.ArgumentParser, trial: bool = False) -> None:
    """How far a command may go on a server."""
    parser.add_argument(
        "--timeout",
        metavar="SECONDS",
        type=float,
        default=30.0,
        help="time limit per statement (default: 30)",
    )
    if trial:
        add_trust(parser)
        parser.add_argument(
            "--allow-large",
            action="store_true",
            help="copy or index tables of more than 512 MiB too",
        )
        parser.add_argument(
            "--allow-busy",
            action="store_true",
            help="continue even if other sessions are using the tables",
        )


def add_lock_budget(parser: argparse.ArgumentParser) -> None:
    """How long others may wait for a lock of a trial's."""
    parser.add_argument(
        "--lock-budget",
        metavar="TIME",
        default=LOCK_BUDGET,
        help="with --index on PostgreSQL: release the table lock after others wait this long "
        f"(default: {LOCK_BUDGET})",
    )


def add_server(parser: argparse.ArgumentParser) -> None:
    """A database that is only read, or a schema that was saved instead; how far to go on it."""
    add_database(parser)
    add_schema(parser)
    add_limits(parser)
    add_trust(parser)


def add_trust(parser: argparse.ArgumentParser) -> None:
    """Functions that may run in someone's statement."""
    parser.add_argument(
        "--trust-function",
        metavar="NAME",
        action="append",
        default=[],
        help="allow calls to this function (a rollback must undo its effects)",
    )


def limits_of(
    timeout_s: float,
    allow_large: bool = False,
    even_if_busy: bool = False,
    trusted: Sequence[str] = (),
    lock_budget: str = "",
    harder: bool = False,
    on_copies: bool = False,
) -> Limits:
    """The limits that options set. Raises AskLessError bad-timeout."""
    from askless.database.servers import Limits

    if not 0 < timeout_s <= 86_400:
        raise AskLessError(
            "bad-timeout",
            "--timeout takes seconds: more than 0, at most one day",
            "for example --timeout 60",
        )
    budget_s = milliseconds_of(lock_budget or LOCK_BUDGET, "--lock-budget") / 1e3
    return Limits(
        statement_s=timeout_s,
        allow_large=allow_large,
        even_if_busy=even_if_busy,
        lock_budget_s=budget_s,
        trusted=tuple(trusted),
        harder=harder,
        on_copies=on_copies,
    )


def saved_schema(path: Path | None) -> Schema | None:
    """The schema in the file of an option; None if none is named. Raises AskLessError
    schema-unreadable.
    """
    if path is None:
        return None
    from askless.reports.loading import schema_file

    return schema_file(path)


def show(document: Document, json: bool = False, variant: str = "", form: str = "terminal") -> None:
    """A document on standard output, as JSON or in a format of this name; its notes on standard
    error.
    """
    from askless.output import delivery, notices
    from askless.output.formats import View
    from askless.project.project_root import root

    notices.progress_done()
    notices.notes(document.notes)
    delivery.to_stdout(
        document, "json" if json else form, View(variant, root() if form == "sarif" else None)
    )


def milliseconds_of(text: str, option: str = "--network-latency") -> float:
    """A time as people write it: 0.5ms, 500us, 1 s. Raises AskLessError bad-time."""
    if not text:
        return 0.0
    match = _TIME.match(text)
    if match is None:
        raise AskLessError(
            "bad-time", f"{option} can't read {text!r}", "write it like 0.5ms or 200us"
        )
    return float(match[1]) * _UNITS[match[2]]
