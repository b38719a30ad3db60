"""Objects that an ORM had loaded and loads again, as a whole: they have expired.

SQLAlchemy's sessions forget what they have loaded at commit(), rollback(), expire() and
expire_all(), eagerly loaded relations with it.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from askless.core.records.model import Load, Model, Request
from askless.core.sql.structure import Output


def is_whole_again(
    load: Load | None, outputs: Sequence[Output], models: Mapping[tuple[str, str], Model]
) -> bool:
    """Whether all of an object is loaded again: nothing was left out, it has expired."""
    model = models.get((load.orm, load.target)) if load is not None else None
    if load is None or load.kind != "refresh" or load.orm != "sqlalchemy" or model is None:
        return False
    columns = {output.column.name for output in outputs}
    return len(columns) > 1 and columns >= set(model.attributes) - set(model.keys)


def have_expired(request: Request, indices: Sequence[int], load: Load | None) -> bool:
    """Whether most of these lookups of a relation came after objects of its model had expired: what
    an earlier query loads with them is lost by then.
    """
    if load is None or load.kind != "lazy" or not load.relation:
        return False
    again = 0
    for i in range(indices[len(indices) // 2]):
        one = request.load(i)
        if one is None or one.kind != "refresh" or one.target != load.model:
            continue
        structure = request.statement(i).structure
        if structure is not None and is_whole_again(one, structure.outputs, request.tables.models):
            again += 1
            if again > 1:
                return True
    return False
