"""Whether a call walks: the path of its relations, from the query that it depends on, over the
models that were recorded.
"""

from __future__ import annotations

from collections.abc import Sequence

from askless.core.inference.context import Models
from askless.core.records.model import Load, Model, Relation
from askless.core.sql.structure import Structure

# ORMs that name the class of the object itself: one of another class was made by other means,
# though of the same row.
_BY_CLASS = ("django",)
_JOINS_MOST = 3  # relations deep that a parent may have been joined in


def walked(path: Sequence[Load], start: Model, models: Models) -> bool:
    """Whether each relation of the path is on the model that the one before it leads to, and leads
    where it should.
    """
    model: Model | None = start
    for load in path:
        relation = model.relations.get(load.relation) if model is not None else None
        target = models.get((load.orm, load.target))
        if model is None or relation is None or not _stands(load, model, relation, models):
            return False
        if relation.target != load.target and not _same_table(
            relation.target, target, load, models
        ):
            return False
        model = models.get((load.orm, relation.target))
        if model is None and load is not path[-1]:
            return False
    return True


def _stands(load: Load, model: Model, relation: Relation, models: Models) -> bool:
    """Whether objects of a model are those whose relation was loaded."""
    if model.name == load.model:
        return True
    known = models.get((load.orm, load.model))
    return (
        load.orm not in _BY_CLASS
        and known is not None
        and known.relations.get(load.relation) == relation
    )


def _same_table(name: str, target: Model | None, load: Load, models: Models) -> bool:
    """Whether a model that goes by another name is the same table's: a proxy, or a subclass in one
    table.
    """
    other = models.get((load.orm, name))
    return (
        target is not None
        and other is not None
        and bool(other.table)
        and other.table == target.table
    )


def from_query(
    path: Sequence[Load], query: Load, structure: Structure, models: Models
) -> tuple[Load, ...] | None:
    """The path from the model of a query; what the query joins is walked through where the path
    begins after it.

    None if it does not walk, or where it might in several ways.
    """
    start = models.get((query.orm, query.target))
    if start is None or not path or any(load.orm != query.orm for load in path):
        return None
    if walked(path, start, models):
        return tuple(path)
    ways = [
        (*way, *path)
        for way in _joined(start, query.orm, structure, models)
        if walked((*way, *path), start, models)
    ]
    return ways[0] if len(ways) == 1 else None


def _joined(start: Model, orm: str, structure: Structure, models: Models) -> list[tuple[Load, ...]]:
    """The paths of to-one relations whose tables a query joins and gives out."""
    given = {output.column.table.lower() for output in structure.outputs}
    results: list[tuple[Load, ...]] = []
    waiting: list[tuple[Model, tuple[Load, ...]]] = [(start, ())]
    while waiting:
        model, way = waiting.pop(0)
        for relation in model.relations.values():
            target = models.get((orm, relation.target))
            if (
                relation.many
                or target is None
                or target.table.lower() not in given
                or target.name == start.name
                or not _is_joined(model, relation, target, structure)
            ):
                continue
            longer = (*way, step(orm, model, relation))
            results.append(longer)
            if len(longer) < _JOINS_MOST:
                waiting.append((target, longer))
    return results


def _is_joined(model: Model, relation: Relation, target: Model, structure: Structure) -> bool:
    """Whether a query joins the two tables by a relation's own columns: another relation may lead
    to the same table.
    """
    if not relation.local or not relation.remote:
        return True
    wanted = {
        (model.table.lower(), relation.local[0].lower()),
        (target.table.lower(), relation.remote[0].lower()),
    }
    return any(
        {(side.table.lower(), side.name.lower()) for side in (join.left, join.right)} == wanted
        for join in structure.joins
    )


def joined_already(query: Load, structure: Structure, models: Models) -> list[tuple[Load, ...]]:
    """What a query joins and gives out, as paths from its model; the longest one of each branch."""
    start = models.get((query.orm, query.target))
    if start is None:
        return []
    ways = _joined(start, query.orm, structure, models)
    return [
        way for way in ways if not any(other[: len(way)] == way and other != way for other in ways)
    ]


def step(orm: str, model: Model, relation: Relation) -> Load:
    """One relation as a step of a path."""
    return Load(orm, "eager", model.name, relation.name, relation.target, relation.many)
