"""Which columns may be in an index at all: no value may be too long for it, and no update in place
may become one of all indexes.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from askless.core.indexing.needs import Need, needs_of
from askless.core.indexing.redundancy import usable
from askless.core.indexing.workload import GAIN_LEAST, Statement, Updated
from askless.core.plans.observations import SMALL_TABLE_ROWS
from askless.core.records.schema import Index, Schema, Table
from askless.core.systems import bytes_most, is_unbounded, system_of

NOT_COMPARED = re.compile("JSON$|XML", re.I)  # types that have no equality


def may_hold(table: Table, index: Index, schema: Schema, updated: Updated) -> bool:
    """Whether an index of a table may hold these columns: no value may be too long for it, and no
    update in place become one of all indexes.
    """
    known, columns = system_of(schema.system), [table.column(name) for name in index.columns]
    types = [column.type for column in columns if column is not None]
    if any(is_unbounded(type_, schema.system) for type_ in types):
        return False
    if known.entry_bytes_most and sum(bytes_most(t, schema.system) for t in types) > (
        known.entry_bytes_most
    ):
        return False
    if not known.changes_in_place:
        return True
    held = {name for other in table.indexes for name in other.lowered}
    return not (set(index.lowered) & updated(table.name)) - held


def changed_in_place(workload: Sequence[Statement], schema: Schema, updated: Updated) -> list[str]:
    """The columns ("table.column") by which statements of some weight search, and of which no index
    is advised so that updates stay in place.
    """
    if not system_of(schema.system).changes_in_place:
        return []
    total = sum(statement.weight_ms for statement in workload)
    results: dict[str, None] = {}
    for statement in workload:
        if statement.weight_ms < GAIN_LEAST * total:
            continue
        for need in needs_of(statement.structure, schema, statement.shares):
            table = need.table
            held = {name for index in usable(table) for name in index.lowered}
            columns = {*need.equal, *need.ranges} & updated(table.name)
            if (table.rows or 0) >= SMALL_TABLE_ROWS:
                results |= dict.fromkeys(f"{table.name}.{name}" for name in sorted(columns - held))
    return list(results)


def too_long(need: Need, schema: Schema) -> list[str]:
    """The columns that are set equal to a value and whose values may be too long for a tree, where
    the server has another method.
    """
    if not system_of(schema.system).equality_index:
        return []
    columns = [column for column in map(need.table.column, need.equal) if column is not None]
    return [
        one.name
        for one in columns
        if is_unbounded(one.type, schema.system) and not NOT_COMPARED.match(one.type)
    ]
