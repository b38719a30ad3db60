"""What a join does to the rows of its main table, derived from the first rows of its results.

Only key columns are looked at: of the main table, and of each table whose rows are joined to it.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import combinations

import msgspec

from askless.core.aggregation.shape_stats import ShapeStats
from askless.core.inference.context import Context
from askless.core.records.model import SAMPLED_MOST
from askless.core.sql.slots import Value
from askless.core.sql.structure import Structure

Rows = Sequence[tuple[Value, ...]]


class JoinTotals(msgspec.Struct, frozen=True):
    """A join's rows, counted over the main rows that were seen whole: `rows` of `parents`. Where
    not even the first one was, as many as it must have at least.

    `children` counts, by table, the different rows that are joined to each parent, added up.
    `product` names two tables whose rows all come with each other; () where there are none.
    `only_main`: the result has no column of any other table.
    """

    rows: int
    parents: int
    children: dict[str, int]
    product: tuple[str, ...]
    only_main: bool

    @property
    def times(self) -> float:
        """How often each main row comes."""
        return self.rows / self.parents

    @property
    def separate(self) -> int:
        """The rows that separate queries would bring: each row once."""
        return self.parents + sum(self.children.values())


_Sample = Sequence[tuple[Value, ...]]
_Place = tuple[int, ...]  # of a table's key in a sampled row: a column, or several


_Key = Value | tuple[Value, ...]


def _at(row: tuple[Value, ...], place: _Place) -> _Key:
    """The key in a row; None where the join found no row."""
    if len(place) == 1:
        return row[place[0]]
    values = tuple(row[i] for i in place)
    return None if None in values else values


def _is_key(
    samples: Sequence[_Sample], place: _Place, stats: ShapeStats, structure: Structure
) -> bool:
    """Whether rows with one value of a key have the same values of all columns of the main
    table.
    """
    own = [
        i
        for i, column in enumerate(stats.statement.sampled)
        if structure.outputs[column].column.table == structure.main
    ]
    return all(
        len({_at(row, place) for row in sample})
        == len({tuple(row[i] for i in own) for row in sample})
        for sample in samples
    )


def _distinct(groups: Sequence[_Sample], place: _Place) -> int:
    """Values of a key that are not NULL, counted in each group by itself."""
    return sum(len({_at(row, place) for row in group} - {None}) for group in groups)


def joined_rows(stats: ShapeStats, structure: Structure, context: Context) -> JoinTotals | None:
    """What the kept results of a shape show; None where their keys can't be said."""
    if not structure.joins or not structure.main or structure.distinct or structure.group_by:
        return None
    places = _key_places(stats, structure, context)
    parent = places.pop(structure.main, None)
    if parent is None:
        return None
    samples = [example.sample for example in stats.examples if example.sample]
    if not _is_key(samples, parent, stats, structure):
        return None
    groups = [group for sample in samples for group in _groups(sample, parent)]
    if not groups:
        return _cut_short(samples, parent, places, structure)
    children = {table: _distinct(groups, place) for table, place in places.items()}
    tables = {output.column.table for output in structure.outputs}
    return JoinTotals(
        rows=sum(map(len, groups)),
        parents=len(groups),
        children=children,
        product=_product(groups, places, structure),
        only_main=tables == {structure.main},
    )


def _key_places(stats: ShapeStats, structure: Structure, context: Context) -> dict[str, _Place]:
    """Where in a sampled row each table's key is, for tables whose whole key was sampled."""
    statement = stats.statement
    outputs = structure.outputs
    if any(output.star for output in outputs) or len(outputs) != len(statement.columns):
        return {}
    sampled = {column: place for place, column in enumerate(statement.sampled)}
    columns: dict[str, dict[str, int]] = {}
    for i, output in enumerate(outputs):
        column = output.column
        if column.table and i in sampled:
            columns.setdefault(column.table, {}).setdefault(column.name.lower(), sampled[i])
    results: dict[str, _Place] = {}
    for table, given in columns.items():
        keys = keys_of(table, context)
        if keys and all(key in given for key in keys):
            results[table] = tuple(given[key] for key in keys)
    return results


def keys_of(table: str, context: Context) -> tuple[str, ...]:
    """The columns of a table's key, in lower case, by the schema, by the ORM's models, else by
    their usual name.
    """
    known = context.schema.table(table) if context.schema is not None else None
    keys = known.primary_key if known is not None else None
    if keys is None:
        keys = next(
            (
                model.keys
                for model in context.models.values()
                if model.table == table and model.keys
            ),
            ("id",),
        )
    return tuple(key.lower() for key in keys)


def key_of(table: str, context: Context) -> str:
    """A table's key, in lower case; '' for one of several columns."""
    keys = keys_of(table, context)
    return keys[0] if len(keys) == 1 else ""


def joins_one_each(structure: Structure, context: Context) -> bool:
    """Whether no join brings more than one row to a row of the main table: each finds its rows by
    their key.
    """
    reached = {structure.main}
    joins = list(structure.joins)
    while joins:
        relation = next(
            (
                (join, far.table)
                for join in joins
                for near, far in ((join.left, join.right), (join.right, join.left))
                if near.table in reached
                and far.table not in reached
                and far.name.lower() == key_of(far.table, context)
            ),
            None,
        )
        if relation is None:
            return all({join.left.table, join.right.table} <= reached for join in joins)
        joins.remove(relation[0])
        reached.add(relation[1])
    return True


def _groups(sample: Rows, parent: _Place) -> list[Rows]:
    """Rows by parent, those of the last one omitted where the sample may be cut: it keeps the first
    rows of a result.
    """
    by_parent: dict[_Key, list[tuple[Value, ...]]] = {}
    for row in sample:
        key = _at(row, parent)
        if key is not None:
            by_parent.setdefault(key, []).append(row)
    groups: list[Rows] = list(by_parent.values())
    return groups[:-1] if len(sample) >= SAMPLED_MOST else groups


def _cut_short(
    samples: Sequence[Rows], parent: _Place, places: dict[str, _Place], structure: Structure
) -> JoinTotals | None:
    """What results show that end before their first parent does: a product whose rows go on, one
    side within the other.
    """
    for sample in samples:
        for one, other in _unlinked(places, structure):
            for outer, inner in ((one, other), (other, one)):
                sides: dict[_Key, list[_Key]] = {}
                for row in sample:
                    sides.setdefault(_at(row, places[outer]), []).append(_at(row, places[inner]))
                *whole, rest = sides.values()
                whole_sides = {tuple(side) for side in whole}
                if (
                    len(whole) < 2
                    or len(whole_sides) > 1
                    or None in sides
                    or len({_at(row, parent) for row in sample}) > 1
                ):
                    continue
                inside = set(whole[0])
                if len(inside) > 1 and len(inside) == len(whole[0]) and inside >= set(rest):
                    children = {outer: len(sides), inner: len(inside)}
                    return JoinTotals(
                        len(sides) * len(inside), 1, children, (one, other), only_main=False
                    )
    return None


def _unlinked(places: dict[str, _Place], structure: Structure) -> list[tuple[str, str]]:
    """Pairs of tables that are not joined to each other."""
    linked = {frozenset((join.left.table, join.right.table)) for join in structure.joins}
    return [
        (one, other)
        for one, other in combinations(places, 2)
        if frozenset((one, other)) not in linked
    ]


def _product(
    groups: Sequence[Rows], places: dict[str, _Place], structure: Structure
) -> tuple[str, ...]:
    """Two tables that are joined to the same parent and not to each other, all of whose rows come
    with each other.
    """
    for one, other in _unlinked(places, structure):
        several = whole = 0
        for group in groups:
            pairs = {(_at(row, places[one]), _at(row, places[other])) for row in group}
            ones, others = ({pair[side] for pair in pairs} for side in (0, 1))
            if len(ones) > 1 and len(others) > 1:
                several += 1
                whole += len(pairs) == len(ones) * len(others)
        if several and several == whole:
            return one, other
    return ()
