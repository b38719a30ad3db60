"""`askless plan`: the costliest statements' plans, explained, and the indexes that would help."""

from __future__ import annotations

import argparse

from askless.cli.common import (
    add_figure,
    add_json,
    add_server,
    add_subject,
    check_figure,
    check_subject,
    draw,
    file,
    limits_of,
    saved_schema,
    show,
)
from askless.core.errors import AskLessError

TYPE_CHECKING = False
if TYPE_CHECKING:
    from askless.reports.documents import PlanDocument
    from askless.reports.statement_selection import Workload

EXAMPLES = """  askless plan calls --db sqlite:///harbour.db               the costliest shapes of a capture
  askless plan calls --db sqlite:///harbour.db --route /calls/due    those of a route
  askless plan calls --db postgresql://harbour@127.0.0.1/harbour --request kdq12 --query 3 --analyze
  askless plan --db sqlite:///harbour.db --sql "SELECT * FROM vessel WHERE call_sign = 'H00042'\"
  askless plan calls                                         plans recorded from a server's log (auto_explain)
  askless plan --file plan.txt --figure plan.svg              a plan that was pasted, and a picture of it"""


def declare(parser: argparse.ArgumentParser) -> None:
    """Declare the options."""
    add_subject(parser, "statement")
    parser.add_argument(
        "--top",
        metavar="N",
        type=int,
        default=5,
        help="how many shapes of the capture (default: 5)",
    )
    parser.add_argument(
        "--shape", metavar="HASH", default="", help="only this shape (a prefix is enough)"
    )
    parser.add_argument(
        "--route", metavar="TEXT", default="", help="only routes that contain this text"
    )
    parser.add_argument(
        "--request",
        metavar="REQUEST",
        help="the queries of this request: its name, or its number in the list just shown "
        "(requests --each)",
    )
    parser.add_argument(
        "--query",
        metavar="K",
        type=int,
        help="with --request: only its query K, not counting noise",
    )
    parser.add_argument(
        "--analyze",
        action="store_true",
        help="run the statements to measure each step (SELECT only, in a read-only transaction "
        "with a time limit)",
    )
    parser.add_argument(
        "--values", action="store_true", help="show literals in statements; they may be private"
    )
    parser.add_argument(
        "--tree", action="store_true", help="show rows and time in columns next to the tree"
    )
    add_figure(parser, "the first plan")
    parser.add_argument(
        "--file",
        metavar="PLAN",
        help="a saved plan: PostgreSQL's text or JSON, MariaDB's or MySQL's JSON, table or tree; "
        "- reads standard input",
    )
    add_server(parser)
    add_json(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Explain, observe, advise, print."""
    check_figure(options.figure, "plan")
    document = _saved(options) if options.file is not None else _live(options)
    draw(document, options.figure)
    show(document, options.json, "tree" if options.tree and not options.json else "")
    return 0


def _live(options: argparse.Namespace) -> PlanDocument:
    from askless.reports import plan

    if options.db is None and (options.capture is None or options.sql is not None):
        raise AskLessError(
            "no-database",
            "a plan comes from a database or from a file",
            "name a database with --db, or a saved plan with --file",
        )
    check_subject(options.capture, options.sql, "what-to-explain", "plan")
    if options.db is None:
        return _recorded(options)
    limits = limits_of(options.timeout, trusted=options.trust_function)
    if options.sql is None and options.request is None:
        from askless.api.captures import read

        return (
            read(options.capture, values=options.values)
            .plans(
                options.db,
                top=options.top,
                shape=options.shape,
                route=options.route,
                analyze=options.analyze,
                limits=limits,
                schema=saved_schema(options.schema),
            )
            .document
        )
    wish = plan.PlanOptions(
        options.analyze, options.values or options.sql is not None, saved_schema(options.schema)
    )
    return plan.live(options.db, _workload(options), wish, limits)


def _recorded(options: argparse.Namespace) -> PlanDocument:
    """The plans that the capture holds; no database is asked."""
    from askless.reports import name_lookup, plan, recorded_plans

    wish = plan.PlanOptions(values=options.values, schema=saved_schema(options.schema))
    if options.request is None:
        return recorded_plans.of_capture(
            options.capture, wish, options.top, options.shape, options.route
        )
    name = name_lookup.request_name(options.capture, options.request)
    return recorded_plans.of_request(options.capture, name, options.query, wish)


def _workload(options: argparse.Namespace) -> Workload:
    from askless.reports import name_lookup, statement_selection

    if options.sql is not None:
        return statement_selection.typed(options.sql, options.parameters)
    return statement_selection.of_request(
        options.capture, name_lookup.request_name(options.capture, options.request), options.query
    )


def _saved(options: argparse.Namespace) -> PlanDocument:
    """Read a saved plan; no database is asked."""
    import sys

    from askless.reports import plan

    if options.capture is not None or options.sql is not None or options.db is not None:
        raise AskLessError(
            "what-to-explain",
            "--file can't be combined with a capture, --sql or --db",
            "see: askless plan --help",
        )
    schema = saved_schema(options.schema)
    if options.file == "-":
        return plan.saved(plan.read_stream(sys.stdin.buffer), "standard input", schema)
    return plan.saved(plan.read_saved(file(options.file)), options.file, schema)
