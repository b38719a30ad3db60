"""What varies between the executions of one shape, and whether that is the key of a lookup."""

from __future__ import annotations

import msgspec

from askless.core.findings.remedies import Key
from askless.core.sql.slots import Value
from askless.core.sql.structure import Predicate, Structure
from askless.core.sql.value_equality import single

# Functions around a column that leave a key a key. What an index on the bare column makes of it is
# another matter.
_SAME_KEY = (
    "",
    "cast",
    "collate",
    "jsonextract",
    "jsonextractscalar",
    "jsonbextract",
    "jsonbextractscalar",
)


def varying(rows: list[tuple[Value, ...]]) -> list[int] | None:
    """Positions whose values differ between the queries; None if the queries have different numbers
    of values.
    """
    if len(set(map(len, rows))) != 1:
        return None
    return [
        position for position, column in enumerate(zip(*rows, strict=True)) if len(set(column)) > 1
    ]


def lookup(structure: Structure, slot: int) -> Predicate | None:
    """The key lookup that a slot is part of: an equality, or an IN of this one value."""
    for predicate in structure.predicates:
        if slot in predicate.slots:
            alone = predicate.operator == "in" and len(predicate.slots) == 1
            return predicate if predicate.operator in ("=", "any") or alone else None
    return None


def key_of(structure: Structure, rows: list[tuple[Value, ...]]) -> Key | None:
    """The key that varies; None where something else varies too, or what varies is not a key."""
    positions = varying(rows)
    if positions == [] and len(rows) > 1:
        positions = _keys_of_one_row(structure)
    if not positions:
        return None
    keys = []
    for position in positions:
        predicate = lookup(structure, position)
        if predicate is None or not (predicate.alike or predicate.inside in _SAME_KEY):
            return None
        listed = predicate.operator == "any"
        if listed and not all(single(row[position])[0] for row in rows):
            return None  # a batch
        keys.append(Key(position, predicate.column, listed))
    # A composite key varies as a whole; the column with the most values names it.
    named = max(keys, key=lambda key: len({row[key.slot] for row in rows}))
    beside = [
        msgspec.structs.replace(key, same=all(key.value(row) == named.value(row) for row in rows))
        for key in keys
        if key is not named
    ]
    return msgspec.structs.replace(named, beside=tuple(beside))


def _keys_of_one_row(structure: Structure) -> list[int]:
    """The slot of the only key of a lookup whose values are all the same."""
    slots = [
        p.slots[0]
        for p in structure.predicates
        if p.operator == "=" and p.required and len(p.slots) == 1
    ]
    return slots if len(slots) == 1 else []
