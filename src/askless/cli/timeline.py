"""`askless timeline`: one request's queries in order."""

from __future__ import annotations

import argparse

from askless.cli.common import add_capture, add_figure, add_json, check_figure, draw, show

EXAMPLES = """  askless timeline calls                      the request with the most database time
  askless timeline calls kdq12                the request of this name (askless requests calls --each)
  askless timeline calls --route /calls/due   the slowest of that route
  askless timeline calls kdq12 --no-fold --values
  askless timeline calls kdq12 --figure due.svg    a picture of it"""


def declare(parser: argparse.ArgumentParser) -> None:
    """Declare the options."""
    add_capture(parser)
    parser.add_argument(
        "request",
        metavar="REQUEST",
        nargs="?",
        default="",
        help="its name, or its number in the list just shown (askless requests CAPTURE --each)",
    )
    parser.add_argument(
        "--route",
        metavar="TEXT",
        default="",
        help="the slowest request of the routes that contain this text",
    )
    parser.add_argument("--no-fold", action="store_true", help="show each query on its own line")
    parser.add_argument(
        "--values",
        action="store_true",
        help="show parameters, literals and the path; they may be private",
    )
    add_figure(parser, "its queries on a time axis")
    add_json(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Print one request."""
    from askless.api.captures import read
    from askless.reports.name_lookup import request_name

    check_figure(options.figure, "timeline")
    name = request_name(options.capture, options.request) if options.request else ""
    document = read(options.capture, values=options.values).timeline(
        name, options.route, options.no_fold
    )
    draw(document, options.figure)
    show(document, options.json)
    return 0
