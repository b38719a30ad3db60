"""Tries an index where nobody else sees it: plans, interleaved times, and whether the result stays the same."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import msgspec
from sqlalchemy.engine import URL

from askless.core.errors import AskLessError
from askless.core.plans.tree import Node, walk
from askless.core.results import difference
from askless.core.sql.slots import Value
from askless.core.sql.statements import checked_select, index_of, qualified_tables, tables_in
from askless.core.statistics import Ratio, ratio_of_medians
from askless.database.connecting import connect, mapped_errors, shown
from askless.database.explaining import attempt, explain, query_of
from askless.database.guarding import check_quiet
from askless.database.questions import question_of
from askless.database.sending import Query
from askless.database.servers import Limits, Twins, server_of
from askless.database.timing import bytes_of, fetch, fetch_named, interleaved


class Asked(msgspec.Struct, frozen=True):
    """A statement to try, with one execution's values. `system` is the SQL that it is written in ('': the database's)."""

    text: str
    parameters: tuple[Value, ...] = ()
    names: tuple[str, ...] = ()
    system: str = ""


class Measured(msgspec.Struct, frozen=True):
    """One statement before and after. Times in milliseconds, one a repetition; `work` in the server's own unit."""

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
    """A trial of an index. `where` tells where it was tried, `caution` what may have kept the server from using it."""

    system: str
    ddl: str
    name: str
    build_ms: float
    size_bytes: int
    where: str
    caution: str
    statements: tuple[Measured, ...]


def try_index(
    url: URL,
    ddl: str,
    statements: Sequence[Asked],
    limits: Limits | None = None,
    progress: Callable[[str], None] = lambda text: None,
) -> IndexTrial:
    """Try an index for some statements.

    Raises AskLessError: not-an-index, not-a-select, index-refused, server-busy, too-large, and what the database says.
    """
    limits = limits or Limits()
    server = server_of(url)
    backend = url.get_backend_name()
    index = index_of(ddl, backend)
    trees = [checked_select(asked.text, asked.system or backend) for asked in statements]
    tables = tuple(dict.fromkeys(name for tree in trees for name in tables_in(tree)))
    named = [name for tree in trees for name in qualified_tables(tree)]
    if named and backend in ("mysql", "mariadb"):
        raise AskLessError(
            "schema-named", f"the statement names a schema ({named[0]}), but the trial works on copies elsewhere",
            "leave the schema out, and name it in --db",
        )  # fmt: skip
    with connect(url, limits) as connection:
        system = server.system(connection)
        for asked in statements:  # what can't be explained can't be tried: say so before anything is built
            explain(connection, query_of(connection, asked.text, asked.parameters, asked.names, asked.system))
        progress("looking who else is at work")
        check_quiet(connection, tables, limits)
    progress("building the index where nobody sees it")
    with mapped_errors(shown(url), limits), server.twins(url, limits, ddl, tables, index.table) as twins:
        measured = []
        for asked in statements:
            progress("measuring")
            query = query_of(twins.plain, asked.text, asked.parameters, asked.names, asked.system)
            measured.append(_measure(twins, query, index.name, limits))
        return IndexTrial(
            system, ddl, index.name, twins.build_ms, twins.size_bytes, twins.where, twins.caution, tuple(measured)
        )


def _measure(twins: Twins, query: Query, name: str, limits: Limits) -> Measured:
    plan_before, plan_after = (explain(connection, query) for connection in (twins.plain, twins.indexed))
    with attempt(twins.plain, limits), attempt(twins.indexed, limits):
        names, before = fetch_named(twins.plain, query)
        _, after = fetch_named(twins.indexed, query)
        server = server_of(twins.plain)
        work = server.work(twins.plain, query), server.work(twins.indexed, query)
    found = difference(before, after, question_of(query.text, query.text, query.system, names))
    times = interleaved([lambda: fetch(twins.plain, query), lambda: fetch(twins.indexed, query)])
    return Measured(
        sql=query.text,
        before_ms=times[0],
        after_ms=times[1],
        ratio=ratio_of_medians(times[0], times[1]),
        rows=len(before),
        bytes=bytes_of(before),
        difference="" if found is None else found.text,
        plan_before=plan_before,
        plan_after=plan_after,
        uses_index=any(name in node.index.split(", ") for node in walk(plan_after))
        if name
        else plan_before != plan_after,
        work_unit=work[0][0] if work[0] else "",
        work_before=work[0][1] if work[0] else 0,
        work_after=work[1][1] if work[1] else 0,
    )
