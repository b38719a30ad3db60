"""What the columns of a result are called: an ORM may give them names of its own (`t0_r4`), which
no one can find in the code.
"""

from __future__ import annotations

from collections.abc import Sequence

from askless.core.sql.structure import Structure


def readable_names(columns: Sequence[str], structure: Structure) -> dict[str, str]:
    """By the name in the result, the column's own name, with its table where that has others'
    columns beside it.
    """
    if len(structure.outputs) != len(columns):
        return {name: name for name in columns}
    names = {}
    for name, output in zip(columns, structure.outputs, strict=True):
        column = output.column
        own = column.name if column.name not in ("", "*") else name
        aliased = own.lower() != name.lower()
        names[name] = f"{column.table}.{own}" if aliased and column.table else own
    return names
