"""`askless requests`: which routes ask how much."""

from __future__ import annotations

import argparse

from askless.cli.common import add_capture, add_json, show

EXAMPLES = """  askless requests calls               by route, the one that spends most time in queries first
  askless requests calls --each        one by one, with the names that `askless timeline` takes
  askless requests calls --json"""


def declare(parser: argparse.ArgumentParser) -> None:
    """Declare the options."""
    add_capture(parser)
    parser.add_argument("--each", action="store_true", help="list the requests one by one")
    parser.add_argument("--route", metavar="TEXT", default="", help="only routes that contain this text")
    parser.add_argument("--values", action="store_true", help="with --each: show paths; they may be private")
    add_json(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Print the routes or the requests."""
    from askless.reports import requests

    if not options.each:
        show(requests.by_route(options.capture, options.route), options.json)
        return 0
    from askless.project import lists

    document = requests.each(options.capture, options.route, options.values)
    if not options.json:
        lists.remember(options.capture, "request", [row.name for row in document.requests])
    show(document, options.json)
    return 0
