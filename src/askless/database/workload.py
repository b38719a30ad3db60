"""A capture's shapes as the index advisor takes them, with what the database says of how many rows
their values keep.
"""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy.engine import Connection

from askless.core.indexing.workload import Statement
from askless.core.records.schema import Schema
from askless.core.sql.slots import Value, values_of
from askless.core.sql.structure import Predicate, Structure
from askless.database.explaining import kept_share

EXECUTIONS_MOST = 4  # whose values are looked at


def statement_of(
    connection: Connection | None,
    schema: Schema,
    digest: str,
    structure: Structure,
    executions: Sequence[Sequence[Value]],
    names: Sequence[str],
    weight_ms: float,
) -> Statement:
    """A shape for the advisor: what its conditions keep is the mean over some executions' values.

    Without a connection nothing is measured.
    """
    distinct = list(dict.fromkeys(map(tuple, executions)))[:EXECUTIONS_MOST]
    known: dict[tuple[str, tuple[Predicate, ...]], float | None] = {}

    def shares(table: str, predicates: Sequence[Predicate]) -> float | None:
        key = (table, tuple(predicates))
        if key not in known:
            size = schema.table(table)
            rows = size.rows if size is not None else None
            results = [
                kept_share(connection, structure, values, names, table, predicates, rows or 0)
                for values in (distinct if connection is not None and predicates else ())
                if connection is not None
            ]
            shares_known = [share for share in results if share is not None]
            known[key] = sum(shares_known) / len(shares_known) if shares_known else None
        return known[key]

    values = values_of(structure.slots, executions[0] if executions else (), names)
    limit = values[structure.limit_slot] if structure.limit_slot is not None else None
    skipped = values[structure.offset_slot] if structure.offset_slot is not None else None
    read = limit + (skipped if isinstance(skipped, int) else 0) if isinstance(limit, int) else None
    return Statement(
        digest,
        structure,
        weight_ms,
        float(read) if read is not None else None,
        shares,
        _constants(structure),
    )


def _constants(structure: Structure) -> dict[str, str]:
    """Conditions of which the value is written into the text: `status = 'due'`. A partial index can
    are on them.
    """
    results = {}
    for predicate in structure.predicates:
        slots = [structure.slots[number] for number in predicate.slots]
        if (
            predicate.required
            and predicate.operator == "="
            and len(slots) == 1
            and not slots[0].placeholder
        ):
            results[predicate.column.name.lower()] = f"{predicate.column.name} = {slots[0].text}"
    return results
