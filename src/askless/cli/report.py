"""`askless report`: all that is reported of a capture, as one page that needs nothing but
itself.
"""

from __future__ import annotations

import argparse

from askless.cli.common import (
    add_capture,
    add_json,
    add_server,
    file,
    limits_of,
    milliseconds_of,
    show,
)
from askless.core.errors import AskLessError

TYPE_CHECKING = False
if TYPE_CHECKING:
    from askless.reports.report import ReportOptions

EXAMPLES = """  askless report calls -o calls.html                             an HTML page that works offline
  askless report calls -o calls.html --db sqlite:///harbour.db   with plans and indexes
  askless report calls -o calls.html --compare before            with changes since another capture
  askless report calls --json                                    the same as JSON"""


def declare(parser: argparse.ArgumentParser) -> None:
    """Declare the options."""
    add_capture(parser)
    parser.add_argument(
        "-o", "--out", metavar="FILE", type=file, help="file to write: .html or .json"
    )
    add_wish(parser)
    add_server(parser)
    add_json(parser)
    parser.set_defaults(run=run)


def add_wish(parser: argparse.ArgumentParser) -> None:
    """What a report takes in next to the capture and a database."""
    parser.add_argument(
        "--compare", metavar="CAPTURE", type=file, help="an earlier capture of the same pages"
    )
    parser.add_argument(
        "--network-latency",
        metavar="TIME",
        default="",
        help="network latency to add per query, e.g. 0.5ms",
    )
    parser.add_argument(
        "--values",
        action="store_true",
        help="show parameters, literals and paths; they may be private",
    )


def wish_of(options: argparse.Namespace) -> ReportOptions:
    """The same as plain values. Raises AskLessError bad-time."""
    from askless.reports.report import ReportOptions

    network_latency_ms = milliseconds_of(options.network_latency)
    return ReportOptions(
        options.db, options.schema, options.compare, options.values, network_latency_ms
    )


def run(options: argparse.Namespace) -> int:
    """Gather everything, and write it."""
    from askless.api.captures import read
    from askless.output import delivery, notices

    if options.out is None and not options.json:
        raise AskLessError(
            "no-target",
            "a report needs a file",
            f"name one: askless report {options.capture} -o calls.html",
        )
    if options.out is not None:
        delivery.check_target(options.out, "report")
    limits = limits_of(options.timeout, trusted=options.trust_function)
    document = read(options.capture, values=options.values).report(
        db=options.db,
        schema=options.schema,
        before=read(options.compare) if options.compare is not None else None,
        network_latency_ms=milliseconds_of(options.network_latency),
        limits=limits,
        progress=notices.progress,
    )
    if options.json:
        show(document, json=True)
    if options.out is not None:
        delivery.to_file(document, options.out)
        notices.progress_done()
        if not options.json:
            notices.notes(document.notes)
        notices.note(f"wrote {options.out}")
    return 0
