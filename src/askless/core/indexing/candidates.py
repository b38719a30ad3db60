"""Indexes that are worth a thought for one statement: equality first, then one range or the order,
then what covers.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import permutations

import msgspec

from askless.core.indexing.cost import width_of
from askless.core.indexing.needs import Need
from askless.core.records.schema import Table

COLUMNS_MOST = 4
COVERING_BYTES = 64  # a wider entry is no longer much smaller than the row
EQUAL_MOST = 3
LINK_COLUMNS = 3  # a table of so many holds two keys, and its own


class Candidates(msgspec.Struct, frozen=True):
    """Columns of indexes to think of for one table of a statement. `covering` ones hold every column
    that it wants.
    """

    table: Table
    plain: list[tuple[str, ...]]
    covering: list[tuple[str, ...]]


def candidates(needs: Sequence[Need]) -> list[Candidates]:
    """Those of each table that a statement asks."""
    return [_candidates(need) for need in needs]


def _candidates(need: Need) -> Candidates:
    plain = [columns for columns in _of(need) if len(columns) <= COLUMNS_MOST]
    covering = [
        columns
        for columns in dict.fromkeys(_covering(need, plain))
        if 0 < len(columns) <= COLUMNS_MOST
        and columns not in plain
        and not _is_copy(need.table, columns)
    ]
    return Candidates(need.table, plain, covering)


def _is_copy(table: Table, columns: Sequence[str]) -> bool:
    """Whether an index would hold the whole of a table that is more than a link between two."""
    held = {*columns, *(column.lower() for column in table.primary_key)}
    return len(table.columns) > LINK_COLUMNS and len(held) >= len(table.columns)


def _bases(equal: list[str], links: list[str]) -> list[tuple[str, ...]]:
    """Columns that are compared by =, in every order, with those of joins before or behind them."""
    bases: list[tuple[str, ...]] = [()]
    for size in range(1, len(equal) + 1):
        bases += permutations(equal, size)
    for link in links:
        others = [_without(base, [link]) for base in bases]
        before = [(link, *base) for base in others]
        bases += before + [(*base, link) for base, old in zip(others, bases, strict=True) if old]
    return bases


def _of(need: Need) -> list[tuple[str, ...]]:
    equal = [*need.equal][:EQUAL_MOST]
    links = list(dict.fromkeys(link.column for link in need.links))
    order = _without([column for column, _ in need.order], equal)
    same_way = len({down for _, down in need.order}) <= 1
    products: list[tuple[str, ...]] = []
    for base in _bases(equal, links):
        products.append(base)
        products += [(*base, column) for column in need.ranges if column not in base]
        if order and same_way:
            products.append((*base, *_without(order, base)))
            if len(order) > 1:
                products.append((*base, order[0]))
        if need.group:
            products.append((*base, *_without(need.group, base)))
    return list(dict.fromkeys(columns for columns in products if columns))


def _covering(need: Need, candidates: Sequence[tuple[str, ...]]) -> list[tuple[str, ...]]:
    """Forms that hold every column the statement wants, where those are few and narrow."""
    if (
        need.used is None
        or not need.used
        or len(need.used) > COLUMNS_MOST
        or width_of(sorted(need.used), need) > COVERING_BYTES
    ):
        return []
    key = {column.lower() for column in need.table.primary_key}
    return [
        (*columns, *sorted(need.used - set(columns) - key)) for columns in [*candidates, ()]
    ] + [(*columns, *sorted(need.used - set(columns))) for columns in [*candidates, ()]]


def _without(columns: Sequence[str], taken: Sequence[str]) -> list[str]:
    return [column for column in columns if column not in taken]
