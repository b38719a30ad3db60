"""`askless serve`: the report of a capture in the browser, while the capture grows."""

from __future__ import annotations

import argparse

from askless.cli.common import (
    add_capture,
    add_server,
    limits_of,
)
from askless.cli.follow import whenever_grown
from askless.cli.report import add_wish, wish_of

EXAMPLES = """  askless serve calls                 prints the address; Ctrl-C stops it
  askless serve calls --port 8123
  askless serve calls --db sqlite:///harbour.db --compare before"""

_LOOK_S = 0.5


def declare(parser: argparse.ArgumentParser) -> None:
    """Declare the options."""
    add_capture(parser)
    parser.add_argument(
        "--port",
        metavar="N",
        type=int,
        default=0,
        help="port on 127.0.0.1 (default: any free port)",
    )
    add_wish(parser)
    add_server(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Show the report until Ctrl-C."""
    import sys

    from askless.cli.signals import stoppable
    from askless.output import notices
    from askless.output.page import page
    from askless.output.serving import ServedPage
    from askless.reports.report import GrowingReport

    limits = limits_of(options.timeout, trusted=options.trust_function)
    try:
        with stoppable(), ServedPage(options.port) as served:
            watched = GrowingReport(options.capture, wish_of(options), limits, notices.progress)
            served.show(page(watched.document(), served.events))
            with served.serving():
                notices.progress_done()
                sys.stdout.write(served.url + "\n")
                sys.stdout.flush()
                notices.note("open this address in a browser; press Ctrl-C to stop")
                whenever_grown(
                    watched.look,
                    lambda: served.show(page(watched.document(), served.events)),
                    _LOOK_S,
                )
    except KeyboardInterrupt:
        return 0  # the way to end it
