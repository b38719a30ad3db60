"""One set of indexes for all that a capture asks."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from askless.core.advice.indexing import advisor, ddl
from askless.core.errors import AskLessError
from askless.core.model import Schema
from askless.core.sql.masking import masker
from askless.core.sql.structure import structure_of
from askless.reports import documents
from askless.reports.subjects import Subject, Workload, of_capture

TYPE_CHECKING = False
if TYPE_CHECKING:
    from sqlalchemy.engine import Connection

    from askless.database.servers import Limits


def indexes(
    path: Path, database: str | None, schema: Schema | None, values: bool = False, limits: Limits | None = None
) -> documents.IndexesDocument:
    """The advised set. Without a database, the saved schema alone is looked at: a coarser guess.

    Raises AskLessError: no-database, nothing-to-explain, other-schema, and what the database says.
    """
    workload = of_capture(path)
    if database is None:
        if schema is None:
            raise AskLessError(
                "no-database",
                "indexes need a database or a saved schema",
                "name a database with --db, or a file with --schema",
            )
        return _document(path, schema, workload, values, None)
    from askless.database.connecting import connect, parse_url
    from askless.database.reflecting import reflect

    with connect(parse_url(database), limits) as connection:
        return _document(path, schema or reflect(connection), workload, values, connection)


def _statements(schema: Schema, subjects: Sequence[Subject], connection: Connection | None) -> list[advisor.Statement]:
    """The shapes that can be parsed and ask tables of the schema, as the advisor takes them."""
    from askless.database.workload import statement_of

    results = []
    for subject in subjects:
        structure = structure_of(subject.text, subject.system or schema.system)
        if structure is not None and any(schema.table(name) is not None for name in structure.tables):
            values = (subject.parameters, *subject.others)
            weight_ms = subject.total_ns / 1e6
            results.append(statement_of(connection, schema, subject.shape, structure, values, subject.names, weight_ms))
    return results


def _document(
    path: Path, schema: Schema, workload: Workload, show: bool, connection: Connection | None
) -> documents.IndexesDocument:
    by_shape = {subject.shape: subject for subject in workload.subjects}
    statements = _statements(schema, workload.subjects, connection)
    if not statements:
        raise AskLessError(
            "other-schema",
            "none of the capture's tables is in this database",
            "check --db or --schema: does the capture belong to it?",
        )
    advice = advisor.advise(statements, schema, workload.writes)
    asked = {name.lower() for statement in statements for name in statement.structure.tables}
    spare = advisor.redundant_indexes(schema, advice)
    judged = [entry for entry in spare if entry[0].lower() in asked]

    def served(one: advisor.Served) -> documents.ServedRow:
        subject = by_shape[one.digest]
        return documents.ServedRow(
            shape=subject.shape,
            sql=masker(subject.system or schema.system, show)(subject.text),
            routes=subject.routes,
            queries=subject.queries,
            total_ms=subject.total_ns / 1e6,
            rows_before=one.rows_before,
            rows_after=one.rows_after,
        )

    return documents.IndexesDocument(
        format="askless indexes",
        capture=str(path),
        system=schema.system,
        shapes=len(statements),
        unread=len(workload.subjects) - len(statements),
        indexes=tuple(
            documents.AdvisedIndex(
                ddl=advised.ddl,
                table=advised.table,
                columns=advised.columns,
                why=advised.why,
                size_bytes=advised.size_bytes,
                writes=advised.writes,
                redundant=advised.redundant,
                partial=advised.partial if show else "",
                guessed=advised.guessed,
                serves=tuple(map(served, advised.serves)),
            )
            for advised in advice
        ),
        redundant=tuple(
            documents.RedundantIndex(table, index, by, ddl.drop_index(index, table, schema.system))
            for table, index, by in judged
        ),
        unasked=len(spare) - len(judged),
        foreign_keys=tuple(
            documents.BareForeignKey(key.table, key.columns, key.target, key.rows, key.ddl, key.asked)
            for key in advisor.bare_foreign_keys(schema, statements, advice)
        ),
        measured=connection is not None,
        notes=workload.notes,
    )
