"""The plans of statements, in words, and the indexes that would help each of them alone."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import BinaryIO

import msgspec

from askless.core import plans
from askless.core.errors import AskLessError
from askless.core.indexing import advisor
from askless.core.indexing.workload import IndexAdvice
from askless.core.plans.errors import UnreadablePlan
from askless.core.plans.observations import asks_one_row, merged, observe
from askless.core.plans.runtime_observations import observe_measured
from askless.core.plans.tree import Node, without_values
from askless.core.records.schema import Schema
from askless.core.sql.masking import masker
from askless.core.sql.slots import values_of
from askless.core.sql.structure import Structure
from askless.core.sql.structure_store import structure_of
from askless.reports import documents
from askless.reports.loading import decoded, text_of
from askless.reports.plan_nodes import nodes_of
from askless.reports.statement_selection import Subject, Workload

TYPE_CHECKING = False
if TYPE_CHECKING:
    from sqlalchemy.engine import Connection

    from askless.database.driver_query import DriverQuery
    from askless.database.servers import Limits


class PlanOptions(msgspec.Struct, frozen=True):
    """How to explain. `analyze` runs the statements, `values` shows their literals; `schema` is in
    for the database's.
    """

    analyze: bool = False
    values: bool = False
    schema: Schema | None = None


def live(
    database: str, workload: Workload, wish: PlanOptions, limits: Limits | None = None
) -> documents.PlanDocument:
    """The plans of some statements on a database. Raises AskLessError: cant-explain, and what the
    database says.
    """
    from askless.database.connecting import connect, parse_url
    from askless.database.reflecting import reflect
    from askless.database.servers import Limits

    limits = limits or Limits()
    problems: list[AskLessError] = []
    with connect(parse_url(database), limits) as connection:
        schema = wish.schema or reflect(connection)
        rows = tuple(
            _explained(connection, schema, subject, workload, wish, limits, problems)
            for subject in workload.subjects
        )
    if len(problems) == len(rows):
        what = "the statement" if len(rows) == 1 else "no statement of the capture"
        raise AskLessError(
            "cant-explain", f"{what} can't be explained: {problems[0].message}", problems[0].remedy
        )
    return documents.PlanDocument(
        format="askless plan",
        system=schema.system,
        statements=rows,
        shapes=workload.shapes,
        time_share=workload.share,
        notes=workload.notes,
    )


def saved(text: str, name: str, schema: Schema | None = None) -> documents.PlanDocument:
    """A plan that someone saved; no database is asked. `name` says where it was found.

    Raises AskLessError plan-unreadable.
    """
    try:
        system, plan = plans.read_saved(text)
    except UnreadablePlan as error:
        raise AskLessError(
            "plan-unreadable",
            f"{name}, line {error.line}: {error.reason}",
            "paste the complete output of EXPLAIN; EXPLAIN (ANALYZE, BUFFERS) shows most",
        ) from None
    known = schema or Schema(system)
    observations = merged(
        observe(plan, None, known) if schema is not None else [], observe_measured(plan, system)
    )
    row = documents.PlanRow(
        sql=name,
        shape="",
        routes=(),
        queries=0,
        total_ms=0.0,
        plan=nodes_of(plan, known, observations),
        indexes=(),
    )
    return documents.PlanDocument(
        format="askless plan", system=system, statements=(row,), schema_known=False
    )


def read_saved(path: Path) -> str:
    """The text of a saved plan. Raises AskLessError plan-unreadable."""
    return text_of(path, "plan-unreadable", "check the path")


def read_stream(stream: BinaryIO) -> str:
    """The text of a plan that is piped in. Raises AskLessError plan-unreadable."""
    try:
        return decoded(stream.read())
    except UnicodeDecodeError:
        raise AskLessError(
            "plan-unreadable", "standard input is not text", "pipe the output of EXPLAIN"
        ) from None


def _explained(
    connection: Connection,
    schema: Schema,
    subject: Subject,
    workload: Workload,
    wish: PlanOptions,
    limits: Limits,
    problems: list[AskLessError],
) -> documents.PlanRow:
    from askless.database import explaining

    structure = structure_of(subject.text, subject.system or schema.system)
    plan: tuple[Node, ...] = ()
    generic: tuple[Node, ...] = ()
    error = remark = ""
    planning_ms: float | None = None
    try:
        query = explaining.query_of(
            connection, subject.text, subject.parameters, subject.names, subject.system
        )
        plan, remark = _plan(connection, query, wish.analyze, limits)
        generic = explaining.generic(connection, query, plan) if not wish.analyze else ()
        planning_ms = explaining.planning_ms(connection, query)
    except AskLessError as problem:
        error = problem.message
        problems.append(problem)
    mask = masker(subject.system or schema.system, wish.values)
    plan, generic = without_values(plan, mask), without_values(generic, mask)
    values = (
        values_of(structure.slots, subject.parameters, subject.names)
        if structure is not None
        else []
    )
    measured = observe_measured(plan, schema.system, asks_one_row(structure, schema))
    observations = merged(observe(plan, structure, schema, subject.rows, values), measured)
    indexes: Sequence[documents.IndexRow] = ()
    if structure is not None and plan:
        indexes = _advised(connection, schema, subject, structure, workload, wish.values)
    return documents.PlanRow(
        sql=mask(subject.text),
        shape=subject.shape,
        routes=subject.routes,
        queries=subject.queries,
        total_ms=subject.total_ns / 1e6,
        plan=nodes_of(plan, schema, observations),
        indexes=tuple(indexes),
        error=error,
        generic_plan=nodes_of(generic, schema, observe(generic, structure, schema)),
        remark=remark,
        planning_ms=planning_ms,
    )


def _plan(
    connection: Connection, query: DriverQuery, analyze: bool, limits: Limits
) -> tuple[tuple[Node, ...], str]:
    """The plan; without measurements, and with a word on that, if the statement ran into its
    limit.
    """
    from askless.database import explaining

    try:
        return explaining.explain(connection, query, analyze, limits), ""
    except AskLessError as problem:
        if not analyze or problem.slug != "timed-out":
            raise
        text = (
            f"{problem.message}: these are the planner's estimates; raise the limit with --timeout"
        )
        return explaining.explain(connection, query, False, limits), text


def _advised(
    connection: Connection,
    schema: Schema,
    subject: Subject,
    structure: Structure,
    workload: Workload,
    show: bool,
) -> list[documents.IndexRow]:
    """The indexes that would help this statement alone."""
    from askless.database.workload import statement_of

    statement = statement_of(
        connection,
        schema,
        subject.shape,
        structure,
        (subject.parameters, *subject.others),
        subject.names,
        subject.total_ns / 1e6 or 1.0,
    )
    advice = advisor.advise([statement], schema, workload.writes, updated=workload.updated)
    return [_index(advised, show) for advised in advice]


def _index(advised: IndexAdvice, show: bool) -> documents.IndexRow:
    served = advised.serves[0] if advised.serves else None
    return documents.IndexRow(
        ddl=advised.ddl,
        table=advised.table,
        columns=advised.columns,
        why=advised.why,
        size_bytes=advised.size_bytes,
        writes=advised.writes,
        redundant=advised.redundant,
        verify=advised.check,
        partial=advised.partial if show else "",
        rows_before=served.rows_before if served is not None else None,
        rows_after=served.rows_after if served is not None else None,
        guessed=advised.guessed,
    )
