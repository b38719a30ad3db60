"""`askless trial`: prove advice on the database. An index, a rewritten statement, or a finding's
lookups in one query.
"""

from __future__ import annotations

import argparse

from askless.cli.common import (
    add_database,
    add_json,
    add_limits,
    add_lock_budget,
    file,
    limits_of,
    milliseconds_of,
    show,
)
from askless.core.errors import AskLessError

EXAMPLES = """  an index, invisible to other sessions:
    askless trial --db sqlite:///harbour.db --index "CREATE INDEX vessel_call_sign ON vessel (call_sign)" \\
        --sql "SELECT * FROM vessel WHERE call_sign = 'H00042'"
    askless trial calls --db URL --index "CREATE INDEX ..."     for the capture's queries on that table
  a rewritten statement, with the capture's values:
    askless trial calls --db URL --before old.sql --after new.sql
  a finding: its lookups one by one, against one batched query:
    askless trial calls --db URL --finding 1 --network-latency 0.5ms"""


def declare(parser: argparse.ArgumentParser) -> None:
    """Declare the options."""
    parser.add_argument(
        "capture",
        metavar="CAPTURE",
        type=file,
        nargs="?",
        help="a capture, for statements and values",
    )
    parser.add_argument("--index", metavar="DDL", help="one CREATE INDEX statement")
    parser.add_argument(
        "--sql",
        metavar="STATEMENT",
        action="append",
        default=[],
        help="a SELECT to measure; may be repeated",
    )
    parser.add_argument("--before", metavar="FILE", type=file, help="the original statement")
    parser.add_argument("--after", metavar="FILE", type=file, help="the rewritten statement")
    parser.add_argument(
        "--synthetic-rows",
        action="store_true",
        help="with --before and --after: also compare on private copies with synthetic rows (no "
        "children, NULL, ties, empty tables)",
    )
    parser.add_argument(
        "--use-copies",
        action="store_true",
        help="with --index on PostgreSQL: use temporary copies of the tables, which locks nothing "
        "(other databases always do)",
    )
    parser.add_argument(
        "--finding",
        metavar="FINDING",
        help="the finding to replay (n-plus-one or sibling-filters), by name or list number",
    )
    parser.add_argument(
        "--parameters",
        metavar="JSON",
        action="append",
        default=[],
        help="placeholder values: for each --sql in turn, or one set for --before and --after",
    )
    parser.add_argument(
        "--network-latency",
        metavar="TIME",
        default="",
        help="with --finding: network latency to add per query, e.g. 0.5ms",
    )
    parser.add_argument(
        "--top",
        metavar="N",
        type=int,
        default=5,
        help="with --index and a capture: number of shapes to measure (default: 5)",
    )
    parser.add_argument(
        "--values",
        action="store_true",
        help="show literals and rows from the capture; they may be private",
    )
    add_database(parser, required=True)
    add_limits(parser, trial=True)
    add_lock_budget(parser)
    add_json(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Try and print; exit code 1 where a result changed."""
    ways = {
        _index: options.index is not None,
        _rewrite: options.before is not None or options.after is not None,
        _finding: options.finding is not None,
    }
    wanted = [way for way, named in ways.items() if named]
    if len(wanted) != 1:
        raise AskLessError(
            "what-to-try",
            "name one thing to test: --index, --before with --after, or --finding",
            "see: askless trial --help",
        )
    if options.synthetic_rows and wanted[0] is not _rewrite:
        raise AskLessError(
            "what-to-try",
            "--synthetic-rows compares two statements",
            "give both: --before old.sql --after new.sql",
        )
    return 0 if wanted[0](options) else 1


def _index(options: argparse.Namespace) -> bool:
    from askless.output import notices
    from askless.reports import index_trial

    limits = limits_of(
        options.timeout,
        options.allow_large,
        options.allow_busy,
        options.trust_function,
        options.lock_budget,
        on_copies=options.use_copies,
    )
    if options.sql:
        statements = index_trial.typed(options.sql, options.parameters)
    elif options.capture is not None:
        statements, notes = index_trial.captured(
            options.capture, options.index, options.db, options.top
        )
        notices.notes(notes)
    else:
        raise AskLessError(
            "what-to-try",
            "--index needs statements to measure",
            "name a SELECT with --sql, or a capture",
        )
    values = options.values or options.capture is None
    document = index_trial.index_trial(
        options.db, options.index, statements, values, limits, notices.progress
    )
    show(document, options.json)
    return all(row.same_result for row in document.statements)


def _rewrite(options: argparse.Namespace) -> bool:
    from askless.output import notices
    from askless.reports import rewrite_trial

    if options.before is None or options.after is None:
        raise AskLessError(
            "what-to-try",
            "a rewrite needs two statements",
            "give both: --before old.sql --after new.sql",
        )
    limits = limits_of(
        options.timeout,
        options.allow_large,
        options.allow_busy,
        options.trust_function,
        harder=options.synthetic_rows,
    )
    before, after = (
        rewrite_trial.statement_in(options.before),
        rewrite_trial.statement_in(options.after),
    )
    values = rewrite_trial.given_values(options.parameters)
    if not values and options.capture is not None:
        values = rewrite_trial.captured_values(options.capture, before, after, options.db)
    rows_shown = options.capture is None or options.values
    document = rewrite_trial.rewrite_trial(
        options.db, before, after, values, rows_shown, limits, notices.progress
    )
    show(document, options.json)
    return document.same_result


def _finding(options: argparse.Namespace) -> bool:
    from askless.output import notices
    from askless.reports import name_lookup
    from askless.reports.finding_trial import finding_trial

    if options.capture is None:
        raise AskLessError(
            "what-to-try",
            "--finding needs a capture",
            "name it: askless trial CAPTURE --finding 1 --db URL",
        )
    network_latency_ms = milliseconds_of(options.network_latency)
    limits = limits_of(
        options.timeout, options.allow_large, options.allow_busy, options.trust_function
    )
    key = name_lookup.finding_name(options.capture, options.finding)
    document = finding_trial(
        options.db,
        options.capture,
        key,
        network_latency_ms,
        options.values,
        limits,
        notices.progress,
    )
    show(document, options.json)
    return all(alternative.same_result for alternative in document.alternatives)
