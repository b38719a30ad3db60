"""One set of indexes for all that a capture asks."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from pathlib import Path

import msgspec

from askless.core.errors import AskLessError
from askless.core.indexing import advisor, eligibility, redundancy
from askless.core.indexing.workload import Served, Statement
from askless.core.progress import Progress
from askless.core.records.schema import Schema
from askless.core.sql.masking import masker
from askless.core.sql.structure_store import structure_of
from askless.reports import documents
from askless.reports.statement_selection import Subject, Workload, of_capture
from askless.reports.tables import bare_keys, redundant

TYPE_CHECKING = False
if TYPE_CHECKING:
    from sqlalchemy.engine import Connection

    from askless.database.servers import Limits


def indexes(
    path: Path,
    database: str | None,
    schema: Schema | None,
    values: bool = False,
    limits: Limits | None = None,
    proving: Progress | None = None,
    workload: Workload | None = None,
) -> documents.IndexesDocument:
    """The advised set. Without a database, the saved schema alone is looked at: a coarser guess.

    `workload` is what the capture asks, if that is known. With `proving`, which is reported how far
    it is, the set is built on copies, and what the planner does not need goes.

    Raises AskLessError: no-database, nothing-to-explain, other-schema, nothing-to-test, and what
    the database says.
    """
    workload = workload or of_capture(path)
    if proving is not None and database is None:
        raise AskLessError("no-database", "--test needs a database", "name one with --db")
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
        document = _document(path, schema or reflect(connection), workload, values, connection)
    if proving is None or not (document.indexes or document.redundant):
        return document
    return _proven(document, database, workload, limits, proving)


def _proven(
    document: documents.IndexesDocument,
    database: str,
    workload: Workload,
    limits: Limits | None,
    progress: Progress,
) -> documents.IndexesDocument:
    """The set without what the planner does not need, and with what it does."""
    from askless.core.sql.statements import index_of
    from askless.database.connecting import parse_url
    from askless.database.index_set_trial import IndexOutcome, PlannedIndex, prove
    from askless.database.index_trial import TriedStatement

    url = parse_url(database)
    wanted = [
        PlannedIndex(index_of(one.ddl, document.system).name, one.ddl, one.table)
        for one in document.indexes
    ]
    spare = [PlannedIndex(one.index, one.ddl, one.table) for one in document.redundant]
    tried, hidden = [], {}
    for one in workload.subjects:
        tried.append(TriedStatement(one.text, one.parameters, one.names, one.system))
        hidden[one.text] = masker(one.system or document.system, False)(one.text)
    proof = prove(url, wanted, spare, tried, limits, progress)
    whys = {
        IndexOutcome.UNUSED: "no plan of the capture's statements uses it",
        IndexOutcome.SPARED: "the others are as cheap without it",
    }
    why_needed = "a statement in the capture is more expensive without it, or could not be checked"
    reason = documents.IndexReason
    remaining, excluded, harming = [], [], []
    for wish, index in zip(document.indexes, wanted, strict=True):
        fate = proof.fates[index.name]
        if fate is IndexOutcome.KEPT:
            remaining.append(wish)
        else:
            excluded.append(reason(wish.ddl, whys[fate]))
        for text in proof.harmed.get(index.name, ()):
            harming.append(reason(wish.ddl, f"with it the planner does worse for {hidden[text]}"))
    needed = [index for index in document.redundant if proof.needed[index.index]]
    gone = set(proof.fates) - {index_of(one.ddl, document.system).name for one in remaining}
    return msgspec.structs.replace(
        _only(document, remaining, [index.index for index in needed], gone),
        notes=(*document.notes, *map("removed {}, left by an earlier trial".format, proof.cleaned)),
        set_trial=documents.IndexSetTrialResult(
            where=proof.where,
            unit=proof.unit,
            statements=len(tried) - proof.skipped,
            skipped=proof.skipped,
            before=sum(cost.before for cost in proof.costs),
            after=sum(cost.after for cost in proof.costs),
            excluded=tuple(excluded),
            needed=tuple(reason(index.ddl, why_needed) for index in needed),
            harming=tuple(harming),
        ),
    )


def _only(
    document: documents.IndexesDocument,
    indexes: Sequence[documents.AdvisedIndex],
    stay: Collection[str],
    gone: Collection[str],
) -> documents.IndexesDocument:
    """The document with these indexes of the set. What must stay is not to be dropped anywhere, nor
    what an index of those that are gone would serve.
    """
    redundant = [
        index for index in document.redundant if index.index not in stay and index.by not in gone
    ]
    droppable = {index.index for index in redundant}
    return msgspec.structs.replace(
        document,
        indexes=tuple(
            msgspec.structs.replace(
                index, redundant=tuple(name for name in index.redundant if name in droppable)
            )
            for index in indexes
        ),
        redundant=tuple(redundant),
    )


def _statements(
    schema: Schema, subjects: Sequence[Subject], connection: Connection | None
) -> list[Statement]:
    """The shapes that can be parsed and ask tables of the schema, as the advisor takes them."""
    from askless.database.workload import statement_of

    results = []
    for subject in subjects:
        structure = structure_of(subject.text, subject.system or schema.system)
        if structure is not None and any(
            schema.table(name) is not None for name in structure.tables
        ):
            values = (subject.parameters, *subject.others)
            weight_ms = subject.total_ns / 1e6
            statement = statement_of(
                connection, schema, subject.shape, structure, values, subject.names, weight_ms
            )
            each_ms = weight_ms / max(subject.queries, 1)
            results.append(msgspec.structs.replace(statement, each_ms=each_ms))
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
            "check --db or --schema: is it the capture's database?",
        )
    advice = advisor.advise(
        statements, schema, workload.writes, whole=True, updated=workload.updated
    )
    tables = {name.lower() for statement in statements for name in statement.structure.tables}
    spare = redundancy.redundant_indexes(schema, advice)
    judged = [entry for entry in spare if entry[0].lower() in tables]

    def served(one: Served) -> documents.ServedRow:
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
        redundant=redundant(judged, schema.system),
        unjudged_indexes=len(spare) - len(judged),
        foreign_keys=bare_keys(redundancy.bare_foreign_keys(schema, statements, advice)),
        measured=connection is not None,
        notes=(*workload.notes, *_in_place(statements, schema, workload)),
    )


def _in_place(statements: Sequence[Statement], schema: Schema, workload: Workload) -> list[str]:
    """The columns that are searched and get no index, as the capture updates them."""
    columns = eligibility.changed_in_place(statements, schema, workload.updated)
    if not columns:
        return []
    return [
        f"no index is advised on {', '.join(columns)}: the capture updates it, and with an index "
        "on it the server could no longer change such rows in place (HOT)"
    ]
