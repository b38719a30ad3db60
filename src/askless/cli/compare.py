"""`askless compare`: two captures of the same pages, before and after a change."""

from __future__ import annotations

import argparse

from askless.cli.common import (
    add_allow_damaged,
    add_figure,
    add_format,
    add_spread,
    check_figure,
    draw,
    file,
    show,
)

EXAMPLES = """  askless compare before after
  askless compare before after --fail-on-new        exit code 1 if there are new findings"""


def declare(parser: argparse.ArgumentParser) -> None:
    """Declare the options."""
    parser.add_argument("before", metavar="BEFORE", type=file, help="the capture before the change")
    parser.add_argument("after", metavar="AFTER", type=file, help="the capture after it")
    parser.add_argument(
        "--fail-on-new",
        action="store_true",
        help="exit with 1 if there are new findings that the project does not accept, on routes "
        "that cost more than before",
    )
    add_allow_damaged(parser)
    add_figure(parser, "queries and times before against after")
    add_format(parser, "compare")
    add_spread(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Compare and print."""
    from askless.api.captures import read
    from askless.reports.loading import refuse_damage

    check_figure(options.figure, "compare")
    document = read(options.before).compare(read(options.after))
    if options.fail_on_new and not options.allow_damaged:
        refuse_damage(document.damage)
    draw(document, options.figure)
    show(document, form=options.format)
    return int(options.fail_on_new and bool(document.regressions))
