"""A capture's shapes as the index advisor takes them, with what the database says of how many rows their values keep."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy.engine import Connection

from askless.core.advice.indexing.advisor import Statement
from askless.core.model import Schema
from askless.core.sql.slots import Value, values_of
from askless.core.sql.structure import Predicate, Structure
from askless.database.explaining import kept_share


def statement_of(
    connection: Connection | None, schema: Schema, digest: str, structure: Structure, parameters: Sequence[Value],
    names: Sequence[str], weight_ms: float,
) -> Statement:  # fmt: skip
    """A shape for the advisor. Without a connection nothing is measured."""
    known: dict[tuple[str, tuple[Predicate, ...]], float | None] = {}

    def shares(table: str, predicates: Sequence[Predicate]) -> float | None:
        key = (table, tuple(predicates))
        if key not in known:
            size = schema.table(table)
            rows = size.rows if size is not None else None
            known[key] = (
                kept_share(connection, structure, parameters, names, table, predicates, rows or 0)
                if connection is not None and predicates
                else None
            )
        return known[key]

    values = values_of(structure.slots, parameters, names)
    limit = values[structure.limit_slot] if structure.limit_slot is not None else None
    return Statement(
        digest, structure, weight_ms, float(limit) if isinstance(limit, int) else None, shares, _constants(structure)
    )


def _constants(structure: Structure) -> dict[str, str]:
    """Conditions of which the value is written into the text: `status = 'due'`. A partial index can stand on them."""
    found = {}
    for predicate in structure.predicates:
        slots = [structure.slots[number] for number in predicate.slots]
        if predicate.required and predicate.operator == "=" and len(slots) == 1 and not slots[0].placeholder:
            found[predicate.column.name.lower()] = f"{predicate.column.name} = {slots[0].text}"
    return found
