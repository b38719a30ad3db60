"""`askless indexes`: one set of indexes for all that a capture asks, as DDL that can be pasted."""

from __future__ import annotations

import argparse
from typing import Any

from askless.cli.common import (
    add_capture,
    add_database,
    add_json,
    add_limits,
    add_schema,
    command,
    limits_of,
    load,
    print_document,
    schema_file,
)
from askless.cli.subjects import Subject, costliest, writes_of
from askless.core.advice.indexing import advisor, ddl
from askless.core.errors import AskLessError
from askless.core.model import Schema
from askless.core.sql.masking import masker
from askless.core.sql.structure import structure_of
from askless.database.workload import statement_of
from askless.output import documents, terminal_indexes

EXAMPLES = """  askless indexes calls --db postgresql://harbour@127.0.0.1/harbour
  askless indexes calls --db sqlite:///harbour.db --ddl > indexes.sql      the statements alone
  askless indexes calls --schema harbour.json                             without the server: a coarser guess"""


def add(commands: Any, name: str) -> None:
    """Declare the command."""
    parser = command(commands, name, "recommend one set of indexes for all that a capture asks", EXAMPLES)
    add_capture(parser)
    parser.add_argument("--ddl", action="store_true", help="print nothing but CREATE INDEX statements")
    parser.add_argument("--values", action="store_true", help="show literals of statements; they may be private")
    add_database(parser)
    add_schema(parser)
    add_limits(parser)
    add_json(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Advise and print."""
    if options.db is None and options.schema is None:
        raise AskLessError(
            "no-database", "indexes stand in a database: which?", "name it with --db, or a saved one with --schema"
        )
    summary, _ = load(options.capture)
    subjects = costliest(summary)
    if not subjects:
        raise AskLessError(
            "nothing-to-advise",
            f"{options.capture} holds no SELECT, UPDATE or DELETE",
            "record more of the application",
        )
    writes = writes_of(summary)
    saved = schema_file(options.schema)
    if options.db is None:
        assert saved is not None
        document = _document(options, saved, subjects, writes, None)
    else:
        from askless.database.connecting import connect, parse_url
        from askless.database.reflecting import reflect

        with connect(parse_url(options.db), limits_of(options)) as connection:
            document = _document(options, saved or reflect(connection), subjects, writes, connection)
    if options.json:
        print_document(document)
    elif options.ddl:
        for index in document.indexes:
            print(index.ddl + ";")
    else:
        terminal_indexes.indexes(document)
    return 0


def _document(
    options: argparse.Namespace, schema: Schema, subjects: list[Subject], writes: advisor.Writes, connection: Any
) -> documents.IndexesDocument:
    by_shape = {subject.shape: subject for subject in subjects}
    workload = []
    for subject in subjects:
        structure = structure_of(subject.text, subject.system or schema.system)
        if structure is not None and any(schema.table(name) is not None for name in structure.tables):
            workload.append(
                statement_of(
                    connection,
                    schema,
                    subject.shape,
                    structure,
                    (subject.parameters, *subject.others),
                    subject.names,
                    subject.total_ns / 1e6,
                )
            )
    if not workload:
        raise AskLessError(
            "other-schema",
            "none of the capture's tables is in this database",
            "does the capture belong to it? check --db or --schema",
        )
    advice = advisor.advise(workload, schema, writes)

    def served(one: advisor.Served) -> documents.ServedRow:
        subject = by_shape[one.digest]
        sql = masker(subject.system or schema.system, options.values)(subject.text)
        return documents.ServedRow(
            subject.shape, sql, subject.routes, subject.queries, subject.total_ns / 1e6, one.rows_before, one.rows_after
        )

    return documents.IndexesDocument(
        format="askless indexes",
        capture=str(options.capture),
        system=schema.system,
        shapes=len(workload),
        unread=len(subjects) - len(workload),
        indexes=tuple(
            documents.AdvisedIndex(
                a.ddl, a.table, a.columns, a.why, a.size_bytes, a.writes, a.redundant, a.partial if options.values else "",
                a.guessed, tuple(map(served, a.serves)),
            )
            for a in advice
        ),
        redundant=tuple(
            documents.RedundantIndex(table, index, by, ddl.drop_index(index, table, schema.system))
            for table, index, by in advisor.redundant_indexes(schema, advice)
        ),
        foreign_keys=tuple(
            documents.BareForeignKey(key.table, key.columns, key.target, key.rows, key.ddl, key.asked)
            for key in advisor.bare_foreign_keys(schema, workload, advice)
        ),
        measured=connection is not None,
    )  # fmt: skip
