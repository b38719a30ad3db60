"""What the columns of a result are called: an ORM may give them names of its own (`t0_r4`), which
no one can find in the code.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from askless.core.sql.structure import Structure

NAMED_MOST = 4  # columns in a sentence


def readable(names: Iterable[str], columns: Sequence[str], structure: Structure) -> list[str]:
    """Columns of a result by their own names, with the table's in front where the ORM made one
    up.
    """
    if len(structure.outputs) != len(columns):
        return list(names)
    own = {}
    for name, output in zip(columns, structure.outputs, strict=True):
        column = output.column
        aliased = column.name not in ("", "*") and column.name.lower() != name.lower()
        own[name] = f"{column.table}.{column.name}" if aliased and column.table else name
    return [own.get(name, name) for name in names]


def some(names: Sequence[str]) -> str:
    """Columns in a sentence: of many, the first."""
    if len(names) <= NAMED_MOST:
        return ", ".join(names)
    first = names[: NAMED_MOST - 1]
    return ", ".join(first) + f" and {len(names) - len(first)} more columns"
