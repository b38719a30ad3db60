"""`askless gate`: whether a capture keeps to the project's budgets, and asks no more than one from
before.
"""

from __future__ import annotations

import argparse

from askless.cli.common import add_allow_damaged, add_capture, add_format, add_spread, file, show

EXAMPLES = """  askless gate calls                             against the [[budgets]] in askless.toml; exit code 1 if one is exceeded
  askless gate calls --baseline before           and against a baseline: no more queries, rows, bytes or findings
  askless gate calls --propose >> askless.toml   propose budgets from this capture"""


def declare(parser: argparse.ArgumentParser) -> None:
    """Declare the options."""
    add_capture(parser)
    parser.add_argument(
        "--baseline",
        metavar="CAPTURE",
        type=file,
        help="an earlier capture of the same pages; fail if anything got worse",
    )
    parser.add_argument(
        "--allow-missing",
        action="store_true",
        help="pass even if expected routes are missing",
    )
    parser.add_argument(
        "--propose",
        action="store_true",
        help="print budgets based on this capture as TOML, without checking anything",
    )
    add_allow_damaged(parser)
    add_format(parser, "gate")
    add_spread(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Judge and print; exit code 1 where something is over."""
    from askless.api.captures import read

    if options.propose:
        import sys

        from askless.reports import gate

        sys.stdout.write(gate.proposal(options.capture))
        return 0
    baseline = read(options.baseline) if options.baseline is not None else None
    document = read(options.capture).gate(baseline, options.allow_missing, options.allow_damaged)
    show(document, form=options.format)
    return 0 if document.passed else 1
