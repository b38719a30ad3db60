"""`askless patterns`: what it looks for, and what each of them is."""

from __future__ import annotations

import argparse

from askless.cli.common import add_json, show

EXAMPLES = """  askless patterns                      all of them, one line each
  askless patterns row-multiplication   how to recognise it, how to fix it, when to leave it alone"""


def declare(parser: argparse.ArgumentParser) -> None:
    """Declare the options."""
    parser.add_argument("name", metavar="NAME", nargs="?", help="explain one pattern in full")
    add_json(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Print the list, or one page."""
    from askless.reports import patterns

    show(patterns.one(options.name) if options.name else patterns.every(), options.json)
    return 0
