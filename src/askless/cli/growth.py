"""`askless growth`: how what a route asks grows with its rows; how queries change over a long
capture.
"""

from __future__ import annotations

import argparse

from askless.cli.common import add_capture, add_figure, add_json, check_figure, draw, show
from askless.core.errors import AskLessError

EXAMPLES = """  askless growth calls                             queries = 1 + 2 x port_call, and the projection for ten times the rows
  askless growth calls --figure growth.svg         queries and time against rows
  askless growth calls --over-time                 statements that become slower or more frequent

record requests of different sizes:
  askless capture app -o calls --visit 'http://127.0.0.1:8000/calls/due?first={size}' --sizes 10,20,40,80 -- python app.py"""


def declare(parser: argparse.ArgumentParser) -> None:
    """Declare the options."""
    add_capture(parser)
    parser.add_argument(
        "--route", metavar="TEXT", default="", help="only routes that contain this text"
    )
    parser.add_argument(
        "--over-time",
        action="store_true",
        help="compare the costliest statements at the start and at the end of the capture instead",
    )
    add_figure(parser, "queries and time against rows")
    parser.add_argument(
        "--values", action="store_true", help="with --over-time: show literals; they may be private"
    )
    add_json(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Print, and draw where a file is named."""
    from askless.api.captures import read

    check_figure(options.figure, "growth")
    if options.over_time and options.figure is not None:
        raise AskLessError(
            "no-figure", "--figure can't be combined with --over-time", "remove one of the two"
        )
    if options.over_time:
        show(read(options.capture, values=options.values).over_time(options.route), options.json)
        return 0
    document = read(options.capture).growth(options.route)
    draw(document, options.figure)
    show(document, options.json)
    return 0
