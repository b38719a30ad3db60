"""`askless requests`: which routes ask how much."""

from __future__ import annotations

import argparse

from askless.cli.common import (
    add_capture,
    add_figure,
    add_json,
    add_spread,
    check_figure,
    draw,
    show,
)
from askless.cli.follow import add_follow, follow
from askless.core.errors import AskLessError

EXAMPLES = """  askless requests calls               by route, the most database time first
  askless requests calls --each        one by one, with the names that `askless timeline` accepts
  askless requests calls --figure time.svg
  askless requests calls --json"""


def declare(parser: argparse.ArgumentParser) -> None:
    """Declare the options."""
    add_capture(parser)
    parser.add_argument("--each", action="store_true", help="list the requests one by one")
    parser.add_argument(
        "--route", metavar="TEXT", default="", help="only routes that contain this text"
    )
    parser.add_argument(
        "--values", action="store_true", help="with --each: show paths; they may be private"
    )
    add_figure(parser, "where time is spent, by route")
    add_json(parser)
    add_spread(parser)
    add_follow(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Print the routes or the requests. Raises AskLessError: not-together, no-figure."""
    if options.follow:
        from askless.reports.growing_capture import GrowingCapture

        if options.each or options.figure is not None:
            raise AskLessError(
                "not-together",
                "--follow can't be combined with --each or --figure",
                "remove one of them",
            )
        growing = GrowingCapture(options.capture, look=False)
        return follow(
            growing, lambda: growing.routes(options.route), "json" if options.json else "terminal"
        )
    from askless.api.captures import read

    capture = read(options.capture, values=options.values)

    if not options.each:
        check_figure(options.figure, "requests")
        routes = capture.routes(options.route)
        draw(routes, options.figure)
        show(routes, options.json)
        return 0
    if options.figure is not None:
        raise AskLessError(
            "no-figure", "--figure can't be combined with --each", "remove one of the two"
        )
    from askless.project import last_list

    document = capture.each(options.route)
    if not options.json:
        last_list.remember(options.capture, "request", [row.name for row in document.requests])
    show(document, options.json)
    return 0
