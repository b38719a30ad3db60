"""Asks a live database for the plan of a statement. EXPLAIN only, unless told to measure."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any

import msgspec
from sqlalchemy.engine import Connection
from sqlalchemy.exc import DBAPIError

from askless.core.errors import AskLessError
from askless.core.plans.errors import UnreadablePlan
from askless.core.plans.tree import Node, form
from askless.core.sql.slots import Value, values_of
from askless.core.sql.structure import Predicate, Structure
from askless.core.sql.structure_store import structure_of
from askless.database.connecting import refusal
from askless.database.driver_query import MARKS, DriverQuery, bound, native
from askless.database.servers import Limits, server_of
from askless.database.statement_execution import execute

TYPE_CHECKING = False
if TYPE_CHECKING:
    from askless.core.trials.replay import BoundStatement


@contextmanager
def attempt(connection: Connection, limits: Limits | None = None) -> Iterator[None]:
    """Something that may fail without ending the transaction. Raises AskLessError in the database's
    words.
    """
    try:
        with connection.begin_nested():
            yield
    except DBAPIError as error:
        raise refusal(error, "", limits) from None


def query_of(
    connection: Connection,
    text: str,
    parameters: Sequence[Value] = (),
    names: Sequence[str] = (),
    system: str = "",
) -> DriverQuery:
    """A statement, in the SQL of `system` where it was captured from another driver, ready for this
    connection.
    """
    server = server_of(connection)
    own = server.system(connection)
    return bound(text, system or own, parameters, names, server.paramstyle, own)


def query_sent(connection: Connection, sent: BoundStatement) -> DriverQuery:
    """A statement as a request sent it, ready for this connection."""
    return query_of(connection, sent.text, sent.parameters, sent.names, sent.system)


def explain(
    connection: Connection, query: DriverQuery, analyze: bool = False, limits: Limits | None = None
) -> tuple[Node, ...]:
    """The plan of a query. With `analyze` it is run (a SELECT only) in the connection's read-only
    transaction.

    Raises AskLessError: what `preflight.check` raises, and what the database says.
    """
    server = server_of(connection)
    names = _names(query)
    try:
        with attempt(connection, limits):
            return tuple(
                _named(node, names) for node in server.explain(connection, query, names, analyze)
            )
    except UnreadablePlan as error:
        raise AskLessError(
            "plan-unreadable",
            f"the server's plan has an unknown format: {error.reason}",
            "view it with the server's own EXPLAIN",
        ) from None


def generic(
    connection: Connection, query: DriverQuery, custom: tuple[Node, ...]
) -> tuple[Node, ...]:
    """The plan that does not look at the values, if it is another one; () where it is the same, or
    there is none.
    """
    try:
        with attempt(connection):
            result = tuple(
                _named(node, _names(query))
                for node in server_of(connection).generic_plan(connection, query)
            )
    except AskLessError:
        return ()  # a statement that can't be prepared is planned with its values only
    return result if form(result) != form(custom) else ()


def planning_ms(connection: Connection, query: DriverQuery) -> float | None:
    """What planning takes each time, in ms; None if the server does not tell, or can't plan the
    statement.
    """
    try:
        with attempt(connection):
            return server_of(connection).planning_ms(connection, query)
    except AskLessError:
        return None


def _names(query: DriverQuery) -> dict[str, str]:
    structure = structure_of(query.text, query.system)
    return dict(structure.names) if structure is not None else {}


def _named(node: Node, names: Mapping[str, str]) -> Node:
    """The node with the table after the name that the statement uses, if the server tells only
    that.
    """
    table = names.get(node.table, node.table) if node.table else ""
    children = tuple(_named(child, names) for child in node.children)
    return msgspec.structs.replace(node, table=table, children=children)


def _flat(values: Sequence[Any]) -> list[Any]:
    return [
        item
        for value in values
        for item in (value if isinstance(value, tuple | list) else (value,))
    ]


def _clause(column: str, operator: str, mark: str, count: int) -> str:
    """A comparison of a column with so many values; '' if it can't be written."""
    if operator in ("=", "in", "any"):
        return f"{column} IN ({', '.join([mark] * count)})"
    if operator == "between" and count == 2:
        return f"{column} BETWEEN {mark} AND {mark}"
    if operator in ("<", "<=", ">", ">=") and count == 1:
        return f"{column} {operator} {mark}"
    return ""


def kept_share(
    connection: Connection,
    structure: Structure,
    parameters: Sequence[Value],
    names: Sequence[str],
    table: str,
    predicates: Sequence[Predicate],
    rows: int,
) -> float | None:
    """The share of a table's rows that these conditions keep with these values; None if it can't be
    measured.
    """
    server = server_of(connection)
    system = server.system(connection)
    values = values_of(structure.slots, parameters, names)
    quote = connection.dialect.identifier_preparer.quote
    mark = MARKS[server.paramstyle]
    clauses: list[str] = []
    arguments: list[Any] = []
    for predicate in predicates:
        column = quote(predicate.column.name).replace("%", "%%" if mark == "%s" else "%")
        flat = _flat([native(values[slot], system) for slot in predicate.slots])
        if predicate.operator in ("is null", "is not null"):
            clauses.append(f"{column} {predicate.operator.upper()}")
            continue
        if not flat:
            return None
        clause = _clause(column, predicate.operator, mark, len(flat))
        if clause:
            clauses.append(clause)
            arguments += flat
    if not clauses or not rows:
        return None
    where = f"FROM {quote(table)} WHERE {' AND '.join(clauses)}"
    try:
        with attempt(connection):
            if server.estimates_well:
                one = "SELECT 1 " + where
                plan = server.explain(
                    connection, DriverQuery(one, tuple(arguments), one, system), {}, False
                )
                return plan[0].estimate.rows / rows if plan[0].estimate is not None else None
            count = "SELECT COUNT(*) " + where
            query = DriverQuery(count, tuple(arguments), count, system)
            return float(execute(connection, query)[1][0][0]) / rows
    except AskLessError:
        return None
