"""Columns that a projection must not lose."""

from __future__ import annotations

from askless.core.records.schema import Schema
from askless.core.sql.structure import Structure

ROW_IDS = ("id", "pk")  # names of a primary key, where no schema says it


def keys_to_keep(structure: Structure, schema: Schema | None) -> set[str]:
    """Columns that a projection must not lose: keys, columns that join, sort or group."""
    remaining = {column.name for join in structure.joins for column in (join.left, join.right)}
    remaining |= {column.name for column, _ in structure.order_by} | {
        column.name for column in structure.group_by
    }
    remaining |= {
        output.column.name for output in structure.outputs if output.column.name.lower() in ROW_IDS
    }
    remaining |= {
        output.column.name
        for output in structure.outputs
        if output.column.name.lower().endswith("_id")
    }
    table = schema.table(structure.main) if schema is not None else None
    if table is not None:
        remaining |= set(table.primary_key)
        remaining |= {name for key in table.foreign_keys for name in key.columns}
    return remaining
