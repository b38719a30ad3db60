"""`askless tables`: the tables of a database with their sizes, keys and indexes; saved, they stand
in for the server.
"""

from __future__ import annotations

import argparse

from askless.cli.common import add_database, add_json, add_limits, file, limits_of, show

EXAMPLES = """  askless tables --db postgresql://harbour@127.0.0.1/harbour
  askless tables --db mariadb://harbour@127.0.0.1/harbour -o harbour.json    for use without the server:
  askless findings calls --schema harbour.json"""


def declare(parser: argparse.ArgumentParser) -> None:
    """Declare the options."""
    parser.add_argument(
        "-o", "--out", metavar="FILE", type=file, help="save them as JSON (FILE.json) for --schema"
    )
    add_database(parser, required=True)
    add_limits(parser)
    add_json(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Reflect, print, save."""
    from askless.output import delivery, notices
    from askless.reports.loading import schema_of
    from askless.reports.tables import tables

    if options.out is not None:
        delivery.check_target(options.out, "tables")
    schema = schema_of(options.db, None, limits_of(options.timeout))
    assert schema is not None
    document = tables(schema)
    if options.out is not None:
        delivery.to_file(document, options.out)
        notices.note(f"saved {len(schema.tables)} tables in {options.out}")
    if options.json or options.out is None:
        show(document, options.json)
    return 0
