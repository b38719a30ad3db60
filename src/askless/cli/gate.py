"""`askless gate`: whether a capture keeps to the project's budgets, and asks no more than one from before."""

from __future__ import annotations

import argparse

from askless.cli.common import add_allow_damaged, add_capture, add_format, add_spread, file, show

EXAMPLES = """  askless gate calls                             by the [[budgets]] of askless.toml; exit code 1 if one is over
  askless gate calls --baseline before           and no more queries, rows, bytes or findings than before
  askless gate calls --propose >> askless.toml   budgets that hold what this capture asks now"""


def declare(parser: argparse.ArgumentParser) -> None:
    """Declare the options."""
    add_capture(parser)
    parser.add_argument(
        "--baseline", metavar="CAPTURE", type=file, help="a capture of the same pages from before: nothing may be worse"
    )
    parser.add_argument(
        "--allow-missing",
        action="store_true",
        help="pass although routes with a budget, or of the baseline, were not asked",
    )
    parser.add_argument(
        "--propose", action="store_true", help="print budgets for what the capture asks, as TOML; judge nothing"
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
