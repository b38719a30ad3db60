"""Tries an index where no one else sees it: plans, interleaved times, and whether the result stays
the same.
"""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
from sqlalchemy.engine import URL

from askless.core.errors import AskLessError
from askless.core.plans.tree import Node, form, walk
from askless.core.progress import Progress, quiet
from askless.core.sql.guarantees import question_of
from askless.core.sql.slots import Value
from askless.core.sql.statements import checked_select, index_of, qualified_tables, tables_in
from askless.core.statistics import Ratio, ratio_of_turns, widened
from askless.core.systems import system_of
from askless.core.trials.result_comparison import difference
from askless.database.connecting import connect, mapped_errors, shown
from askless.database.driver_query import DriverQuery
from askless.database.explaining import attempt, explain, query_of
from askless.database.preflight import check_quiet, refuse
from askless.database.servers import ConnectionPair, Limits, server_of
from askless.database.statement_execution import execute
from askless.database.timing import bytes_of, interleaved

CONTROL_S = 0.8  # for both sessions together, a statement, before there is an index


class TriedStatement(msgspec.Struct, frozen=True):
    """A statement to try, with one execution's values. `system` is the SQL that it is written in
    ('': the database's).
    """

    text: str
    parameters: tuple[Value, ...] = ()
    names: tuple[str, ...] = ()
    system: str = ""


class TrialTiming(msgspec.Struct, frozen=True):
    """One statement before and after. Times in milliseconds, one a repetition; `work` in the
    server's own unit.

    The interval of `ratio` allows for what the two sessions differed by before there was an index.
    """

    sql: str
    before_ms: tuple[float, ...]
    after_ms: tuple[float, ...]
    ratio: Ratio
    rows: int
    bytes: int
    difference: str
    plan_before: tuple[Node, ...]
    plan_after: tuple[Node, ...]
    uses_index: bool
    work_unit: str = ""
    work_before: int = 0
    work_after: int = 0


class IndexTrial(msgspec.Struct, frozen=True):
    """A trial of an index. `where` says where it was tried, `caution` what may have kept the server
    from using it.

    For `locked_s` no one else could write to the table; `waited_s` is the longest time that someone
    waited for that.
    """

    system: str
    ddl: str
    name: str
    build_ms: float
    size_bytes: int
    where: str
    caution: str
    statements: tuple[TrialTiming, ...]
    cleaned: tuple[str, ...] = ()
    locked_s: float = 0.0
    waited_s: float = 0.0


def _tables(statements: Sequence[TriedStatement], backend: str) -> tuple[str, ...]:
    """The tables that the statements read. Raises AskLessError: not-a-select, schema-named."""
    trees = [
        checked_select(statement.text, statement.system or backend) for statement in statements
    ]
    named = [name for tree in trees for name in qualified_tables(tree)]
    if named and not system_of(backend).named_schemas:
        raise AskLessError(
            "schema-named",
            f"the statement names a schema ({named[0]}), but the trial uses copies in another "
            "place",
            "remove the schema and name it in --db",
        )
    return tuple(dict.fromkeys(name for tree in trees for name in tables_in(tree)))


def try_index(
    url: URL,
    ddl: str,
    statements: Sequence[TriedStatement],
    limits: Limits | None = None,
    progress: Progress = quiet,
) -> IndexTrial:
    """Try an index for some statements.

    Raises AskLessError: not-an-index, not-a-select, index-refused, server-busy, too-large, and what
    the database says.
    """
    limits = limits or Limits()
    server = server_of(url)
    backend = url.get_backend_name()
    index = index_of(ddl, backend)
    tables = _tables(statements, backend)
    with connect(url, limits) as connection:
        system = server.system(connection)
        refuse(server.index_routines(connection, ddl, limits.trusted), "building the index")
        # what can't be explained can't be tried: say so before anything is built
        for statement in statements:
            explain(
                connection,
                query_of(
                    connection,
                    statement.text,
                    statement.parameters,
                    statement.names,
                    statement.system,
                ),
                limits=limits,
            )
        progress("checking for other sessions")
        if not (limits.on_copies and server.builds_in_place):
            check_quiet(connection, tables, limits, locks=server.builds_in_place)
    progress("preparing a private copy")
    with (
        mapped_errors(shown(url), limits),
        server.twins(url, limits, ddl, tables, index.table) as twins,
    ):
        queries = [
            query_of(
                twins.plain, statement.text, statement.parameters, statement.names, statement.system
            )
            for statement in statements
        ]
        controls = []
        for query in queries:
            progress("measuring without the index")
            controls.append(_control(twins, query, limits))
        progress("building the index")
        built = twins.build()
        measured = []
        for query, control in zip(queries, controls, strict=True):
            progress("measuring with the index")
            measured.append(_measure(twins, query, index.name, control, limits))
        return IndexTrial(
            system,
            ddl,
            index.name,
            built.build_ms,
            built.size_bytes,
            twins.where,
            built.caution,
            tuple(measured),
            twins.cleaned,
            *twins.locked(),
        )


class _Control(msgspec.Struct, frozen=True):
    """Both sessions before there is an index: they differ by accident only, and the interval must
    allow for it.
    """

    plan: tuple[Node, ...]
    work: tuple[str, int] | None
    plain_ms: tuple[float, ...]
    indexed_ms: tuple[float, ...]


def _control(twins: ConnectionPair, query: DriverQuery, limits: Limits) -> _Control:
    with attempt(twins.indexed, limits), twins.reading():
        work = server_of(twins.indexed).work(twins.indexed, query)
        plain, indexed = interleaved(
            [lambda: execute(twins.plain, query), lambda: execute(twins.indexed, query)], CONTROL_S
        )
    return _Control(explain(twins.indexed, query, limits=limits), work, plain, indexed)


def _measure(
    twins: ConnectionPair, query: DriverQuery, name: str, control: _Control, limits: Limits
) -> TrialTiming:
    plan = explain(twins.indexed, query, limits=limits)
    with attempt(twins.plain, limits), attempt(twins.indexed, limits):
        names, before = execute(twins.plain, query)
        _, after = execute(twins.indexed, query)
        work = server_of(twins.indexed).work(twins.indexed, query)
    result = difference(before, after, question_of(query.text, query.text, query.system, names))
    plain, indexed = interleaved(
        [lambda: execute(twins.plain, query), lambda: execute(twins.indexed, query)]
    )
    used = (
        any(name in node.index.split(", ") for node in walk(plan))
        if name
        else form(control.plan) != form(plan)
    )
    return TrialTiming(
        sql=query.text,
        before_ms=plain,
        after_ms=indexed,
        ratio=widened(ratio_of_turns(plain, indexed), control.plain_ms, control.indexed_ms),
        rows=len(before),
        bytes=bytes_of(before),
        difference="" if result is None else result.text,
        plan_before=control.plan,
        plan_after=plan,
        uses_index=used,
        work_unit=work[0] if work is not None else "",
        work_before=control.work[1] if control.work is not None else 0,
        work_after=work[1] if work is not None else 0,
    )
