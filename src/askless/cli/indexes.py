"""`askless indexes`: one set of indexes for all that a capture asks, as DDL that can be pasted."""

from __future__ import annotations

import argparse

from askless.cli.common import (
    add_capture,
    add_database,
    add_json,
    add_limits,
    add_schema,
    limits_of,
    saved_schema,
    show,
)

EXAMPLES = """  askless indexes calls --db postgresql://harbour@127.0.0.1/harbour
  askless indexes calls --db sqlite:///harbour.db --ddl > indexes.sql      only the statements
  askless indexes calls --db URL --test                                  test the set against the planner
  askless indexes calls --schema harbour.json                             without the server: a rougher estimate"""


def declare(parser: argparse.ArgumentParser) -> None:
    """Declare the options."""
    add_capture(parser)
    parser.add_argument("--ddl", action="store_true", help="print only CREATE INDEX statements")
    parser.add_argument(
        "--values", action="store_true", help="show literals in statements; they may be private"
    )
    parser.add_argument(
        "--test",
        action="store_true",
        help="test the set on private copies of the tables: drop indexes the planner does not need",
    )
    add_database(parser)
    add_schema(parser)
    add_limits(parser, trial=True)
    add_json(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Advise and print."""
    from askless.api.captures import read
    from askless.output import notices

    limits = limits_of(
        options.timeout, options.allow_large, options.allow_busy, options.trust_function
    )
    proving = notices.progress if options.test else None
    document = read(options.capture, values=options.values).indexes(
        options.db, schema=saved_schema(options.schema), limits=limits, proving=proving
    )
    show(document, options.json, form="sql" if options.ddl else "terminal")
    return 0
