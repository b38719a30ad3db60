"""Asks a live database for the plan of a statement. EXPLAIN only: the statement itself is not run."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy.engine import Connection
from sqlalchemy.exc import DBAPIError

from askless.core import plans
from askless.core.errors import AskLessError
from askless.core.plans.tree import Node
from askless.core.sql.slots import Value, slots_of, values_of
from askless.core.sql.structure import Predicate, Structure, structure_of

Arguments = tuple[Any, ...] | Mapping[str, Any]


def native(value: Value) -> Any:
    """A captured value as the driver takes it. What was cut in the capture stays cut."""
    if isinstance(value, tuple):
        kind, text = (*value, "")[:2]
        return bytes.fromhex(text) if kind == "bytes" else text
    return value


def arguments_of(parameters: Sequence[Value], names: Sequence[str]) -> Arguments:
    """Captured parameters as the driver takes them: by name where they had names."""
    values = tuple(map(native, parameters))
    return dict(zip(names, values, strict=False)) if names else values


def missing_parameters(text: str, system: str, arguments: Arguments) -> int:
    """How many placeholders of a statement have no value."""
    wanted = [slot for slot in slots_of(text, system) if slot.placeholder]
    names = {slot.text for slot in wanted}
    plain = sum(slot.text == "?" for slot in wanted)
    return max(plain + len(names - {"?"}) - len(arguments), 0)


def explain(connection: Connection, text: str, arguments: Arguments) -> tuple[Node, ...]:
    """The plan tree of a statement. Raises AskLessError cant-explain."""
    system = connection.dialect.name
    lacking = missing_parameters(text, system, arguments)
    if lacking:
        raise AskLessError(
            "cant-explain",
            f"the statement has {lacking} placeholders without a value",
            "write values into it, or give them: --parameters '[1, \"due\"]'",
        )
    try:
        rows = connection.exec_driver_sql("EXPLAIN QUERY PLAN " + text.strip().rstrip(";"), arguments).all()
    except DBAPIError as error:
        raise AskLessError(
            "cant-explain", f"the statement can't be explained: {error.orig}", "check that it runs on this database"
        ) from None
    structure = structure_of(text, system)
    names = dict(structure.names) if structure is not None else {}
    return tuple(plans.reader(system).read([tuple(row) for row in rows], names))


def kept_share(
    connection: Connection, structure: Structure, parameters: Sequence[Value], names: Sequence[str], table: str,
    predicates: Sequence[Predicate], rows: int,
) -> float | None:  # fmt: skip
    """The share of a table's rows that equalities with these values keep; None where it can't be measured."""
    values = values_of(structure.slots, parameters, names)
    quote = connection.dialect.identifier_preparer.quote
    clauses, arguments = [], []
    for predicate in predicates:
        marks = ", ".join("?" for _ in predicate.slots)
        clauses.append(f"{quote(predicate.column.name)} IN ({marks})")
        arguments += [native(values[slot]) for slot in predicate.slots]
    if not clauses or not rows:
        return None
    sql = f"SELECT COUNT(*) FROM {quote(table)} WHERE {' AND '.join(clauses)}"  # noqa: S608
    try:
        return float(connection.exec_driver_sql(sql, tuple(arguments)).scalar_one()) / rows
    except DBAPIError:
        return None
