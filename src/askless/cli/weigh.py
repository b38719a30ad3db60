"""`askless weigh`: which part of a statement costs what, by omitting one part after the other."""

from __future__ import annotations

import argparse

from askless.cli.common import (
    add_database,
    add_json,
    add_limits,
    add_subject,
    check_subject,
    limits_of,
    show,
)

TYPE_CHECKING = False
if TYPE_CHECKING:
    from askless.reports.statement_selection import Workload

EXAMPLES = """  askless weigh --db URL --sql "SELECT ... FROM port_call c JOIN vessel v ON ... WHERE ... ORDER BY ..."
  askless weigh calls --db URL --shape 3f2a                   a shape of a capture, with its values"""


def declare(parser: argparse.ArgumentParser) -> None:
    """Declare the options."""
    add_subject(parser, "SELECT")
    parser.add_argument(
        "--shape", metavar="HASH", default="", help="the shape to measure (default: the costliest)"
    )
    parser.add_argument(
        "--values",
        action="store_true",
        help="show literals of a capture's statement; they may be private",
    )
    add_database(parser, required=True)
    add_limits(parser, trial=True)
    add_json(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Weigh and print."""
    from askless.output import notices
    from askless.reports.weigh import weigh

    limits = limits_of(
        options.timeout, options.allow_large, options.allow_busy, options.trust_function
    )
    workload = _workload(options)
    notices.notes(workload.notes)
    values = options.capture is None or options.values
    document = weigh(options.db, workload.subjects[0], values, limits, notices.progress)
    show(document, options.json)
    return 0


def _workload(options: argparse.Namespace) -> Workload:
    from askless.reports import statement_selection

    check_subject(options.capture, options.sql, "what-to-weigh", "weigh")
    if options.sql is not None:
        return statement_selection.typed(options.sql, options.parameters)
    return statement_selection.of_capture(options.capture, shape=options.shape)
