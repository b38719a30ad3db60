"""`askless tables`: the tables of a database with their sizes, keys and indexes; saved, they stand in for the server."""

from __future__ import annotations

import argparse
import os
from pathlib import Path
from typing import Any

from askless.cli.common import add_database, add_json, add_limits, command, limits_of, print_document
from askless.core.advice.indexing.advisor import bare_foreign_keys, redundant_indexes
from askless.core.model import Schema
from askless.output import documents, terminal, terminal_tables

EXAMPLES = """  askless tables --db postgresql://harbour@127.0.0.1/harbour
  askless tables --db mariadb://harbour@127.0.0.1/harbour -o harbour.json    to be used without the server:
  askless findings calls --schema harbour.json"""


def add(commands: Any, name: str) -> None:
    """Declare the command."""
    parser = command(commands, name, "show a database's tables with sizes, keys and indexes, or save them", EXAMPLES)
    parser.add_argument("-o", "--out", metavar="FILE", type=Path, help="save them for --schema")
    add_database(parser, required=True)
    add_limits(parser)
    add_json(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Reflect, print, save."""
    from askless.database.connecting import connect, parse_url
    from askless.database.reflecting import reflect

    with connect(parse_url(options.db), limits_of(options)) as connection:
        schema = reflect(connection)
    document = documents.TablesDocument(format="askless tables", system=schema.system, tables=schema.tables)
    if options.out is not None:
        save(document, options.out)
        terminal.note(f"saved {len(schema.tables)} tables in {options.out}")
    if options.json:
        print_document(document)
    elif options.out is None:
        _print(document, schema)
    return 0


def _print(document: documents.TablesDocument, schema: Schema) -> None:
    bare = {(key.table, key.columns) for key in bare_foreign_keys(schema, [])}
    redundant = {(table, index): by for table, index, by in redundant_indexes(schema)}
    terminal_tables.tables(document, bare, redundant)


def save(document: documents.TablesDocument, path: Path) -> None:
    """Write the tables into a file that only its owner can read: names and sizes can tell a lot."""
    with open(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "w", encoding="utf-8") as file:
        file.write(documents.encode(document) + "\n")
