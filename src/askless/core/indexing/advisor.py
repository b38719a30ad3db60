"""One set of indexes for a workload: chosen greedily by what each still saves, then thinned out.

Not advised: indexes on tiny tables, and on small ones that are not asked a great deal; what saves
less than a hundredth of the workload and no quarter of any statement that takes as much, or is
slow; what an existing index's first columns already serve; what writes would cost more than reads
gain; columns whose values may be too long for an entry; columns that the capture updates, where the
server would no longer change such rows in place.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import takewhile

import msgspec

from askless.core.formatting import plural
from askless.core.indexing.candidates import candidates
from askless.core.indexing.cost import LIMIT_DEFAULT, Outcome, cost_of
from askless.core.indexing.eligibility import may_hold, too_long
from askless.core.indexing.needs import Need, needs_of
from askless.core.indexing.redundancy import begins_one, begins_with_key, leads, serves, usable
from askless.core.indexing.sizes import size_bytes
from askless.core.indexing.workload import (
    GAIN_LEAST,
    IndexAdvice,
    Served,
    Statement,
    Updated,
    Writes,
    no_writes,
    none_updated,
)
from askless.core.plans.observations import SMALL_TABLE_ROWS, TINY_TABLE_ROWS
from askless.core.records import index_ddl
from askless.core.records.schema import Index, Schema, Table
from askless.core.sql.slots import literal_value
from askless.core.sql.structure import Structure
from askless.core.systems import system_of

GAIN_ALONE = 0.25  # of one statement's cost
# of the workload's time, for an index on a small table: it is asked a great deal then
SMALL_GAIN_LEAST = 0.02
SLOW_MS = 50.0  # what is seldom asked counts alone if it takes so long
COST_ALONE = 5.0  # and at least so many pages read in sequence
COVERING_GAIN = 0.25  # of a statement's cost, that an index must save by holding all it wants
NEARLY = 0.05  # candidates this close are judged by their size
ROWS_SPARED = 0.9  # an index must leave at most this share of the rows that are touched without it
COST_FELT = 30.0  # unless so many pages, read in sequence, are spared otherwise
SLACK, PREFIX_SLACK = 1.05, 1.25  # what leaving an index out may cost any statement
WRITE_MS = 0.02  # a rule of thumb for keeping one index up in one write
INDEXES_MOST = 20
PARTIAL_SHARE = 0.1  # a constant that keeps less than this is worth a partial index


class _Item:
    """A statement with its needs, and what it costs with each set of indexes that was tried."""

    def __init__(self, statement: Statement, schema: Schema) -> None:
        self.statement = statement
        self.schema = schema
        self.needs = needs_of(statement.structure, schema, statement.shares)
        self.tables = {need.table.name.lower() for need in self.needs}
        self._known: dict[frozenset[tuple[str, tuple[str, ...], str]], Outcome] = {}

    def outcome(self, indexes: dict[str, list[Index]]) -> Outcome:
        key = frozenset(
            (table, index.columns, index.kind)
            for table in self.tables
            for index in indexes.get(table, ())
        )
        known = self._known.get(key)
        if known is None:
            known = cost_of(
                self.statement.structure, self.needs, indexes, self.schema, _limit(self.statement)
            )
            self._known[key] = known
        return known


def _limit(statement: Statement) -> float | None:
    """The rows that a statement reads in its order at most, those that it skips among them; None if
    it sets no limit.
    """
    structure = statement.structure
    if statement.limit is not None or not structure.has_limit:
        return statement.limit
    limit = _written(structure, structure.limit_slot)
    return (LIMIT_DEFAULT if limit is None else limit) + (
        _written(structure, structure.offset_slot) or 0.0
    )


def _written(structure: Structure, number: int | None) -> float | None:
    """The number in a slot, if it is written into the text."""
    slot = structure.slots[number] if number is not None else None
    value = literal_value(slot.text) if slot is not None and not slot.placeholder else None
    return float(value) if isinstance(value, int | float) else None


def advise(
    workload: Sequence[Statement],
    schema: Schema,
    writes: Writes = no_writes,
    whole: bool = False,
    updated: Updated = none_updated,
) -> list[IndexAdvice]:
    """The indexes for a workload, those that save most first. `writes` counts a capture's writes
    that touch columns, `updated` names those that its UPDATEs set.

    `whole`: the workload is all that a capture asks, so that a small table may be seen to be asked
    a great deal.
    """
    items = [item for item in (_Item(statement, schema) for statement in workload) if item.needs]
    existing = {table.name.lower(): usable(table) for table in schema.tables}
    rows_least = TINY_TABLE_ROWS if whole else SMALL_TABLE_ROWS
    bundles = _candidates(items, existing, schema, rows_least, updated)
    chosen = _choose(items, existing, bundles, writes)
    chosen = _thin_out(items, existing, chosen)
    while idle := [entry for entry in chosen if not _is_felt(entry, items, existing, chosen)]:
        chosen = [entry for entry in chosen if entry is not idle[-1]]
    taken = {index.name for table in schema.tables for index in table.indexes}
    results = []
    for table, index in chosen:
        name = index_ddl.name_for(table.name, index.columns, taken)
        taken.add(name)
        count = writes(table.name, index.columns)
        results.append(_advice((table, index), _Plan(items, existing, chosen, schema), name, count))
    return results


_Chosen = list[tuple[Table, Index]]


def _with(existing: dict[str, list[Index]], more: _Chosen) -> dict[str, list[Index]]:
    merged = dict(existing)
    for table, index in more:
        name = table.name.lower()
        merged[name] = [*merged.get(name, ()), index]
    return merged


def _choose(
    items: list[_Item], existing: dict[str, list[Index]], open_: list[_Chosen], writes: Writes
) -> _Chosen:
    """Greedy: the candidate that saves most, then the one that saves most next to it, and so on."""
    first = {id(item): max(item.outcome(existing).cost, 1e-9) for item in items}
    total = sum(item.statement.weight_ms for item in items)
    chosen: _Chosen = []
    while open_ and len(chosen) < INDEXES_MOST:
        now = _with(existing, chosen)
        scored: list[_Score] = []
        for bundle in open_:
            table = bundle[0][0]
            concerned = [item for item in items if table.name.lower() in item.tables]
            then = _with(now, bundle)
            gain, best_alone = _gain(concerned, now, then, first, GAIN_LEAST * total)
            gain -= WRITE_MS * sum(writes(table.name, index.columns) for table, index in bundle)
            if _is_worth(gain, best_alone, total, table.rows or 0):
                sorts = sum(item.outcome(then).sorts for item in concerned)
                scored.append((gain, sorts, bundle))
        if not scored:
            return chosen
        best = _best(scored)
        chosen += [entry for entry in best if entry not in chosen]
        open_.remove(best)
    return chosen


_Score = tuple[float, int, _Chosen]  # milliseconds saved, statements that still sort, the indexes


def _best(scored: list[_Score]) -> _Chosen:
    """The bundle that saves most. Of near equals, the one that leaves nothing to sort lasts longest
    as the table grows; then the smallest.
    """
    most = max(gain for gain, _, _ in scored)
    near = [score for score in scored if score[0] >= most * (1 - NEARLY)]
    return min(near, key=lambda score: (score[1], _columns_in(score[2])))[2]


def _columns_in(bundle: _Chosen) -> int:
    return sum(len(index.columns) for _, index in bundle)


def _gain(
    items: list[_Item],
    now: dict[str, list[Index]],
    then: dict[str, list[Index]],
    first: dict[int, float],
    least_ms: float,
) -> tuple[float, float]:
    """(milliseconds of the workload that the statements save, the largest share that one of them
    saves of its own cost, if it takes so much time or is slow). `first` has the cost of each
    without any advice.
    """
    gain = best_alone = 0.0
    for item in items:
        before, after = item.outcome(now).cost, item.outcome(then).cost
        saved = max(before - after, 0.0)
        gain += item.statement.weight_ms * saved / first[id(item)]
        statement = item.statement
        weighs = statement.weight_ms >= least_ms or statement.each_ms >= SLOW_MS
        if saved >= COST_ALONE and weighs:
            best_alone = max(best_alone, saved / max(before, 1e-9))
    return gain, best_alone


def _is_worth(gain: float, best_alone: float, total: float, rows: int) -> bool:
    """Whether an index saves enough of the workload's time, or of one statement's."""
    if gain <= 0 or best_alone < GAIN_ALONE / 2:
        return False
    if rows < SMALL_TABLE_ROWS and gain < SMALL_GAIN_LEAST * total:
        return False
    return gain >= GAIN_LEAST * total or best_alone >= GAIN_ALONE


def _candidates(
    items: list[_Item],
    existing: dict[str, list[Index]],
    schema: Schema,
    rows_least: int,
    updated: Updated,
) -> list[_Chosen]:
    """Indexes to think of, each by itself, and those of the sides of an OR together: one of them
    alone finds nothing.
    """
    results: list[_Chosen] = []

    def add(table: Table, indexes: Sequence[Sequence[str]], kind: str = "") -> _Chosen:
        bundle = _bundle(table, indexes, kind) if (table.rows or 0) >= rows_least else []
        if not all(kind or may_hold(table, index, schema, updated) for _, index in bundle):
            return []
        if bundle and bundle not in results:
            results.append(bundle)
        return bundle

    for item in items:
        for candidate in candidates(item.needs):
            table = candidate.table
            plain = [add(table, [columns]) for columns in candidate.plain]
            costs = [item.outcome(_with(existing, bundle)).cost for bundle in plain]
            least = min([item.outcome(existing).cost, *costs])
            for columns in candidate.covering:
                bundle = _bundle(table, [columns])
                spared = least - item.outcome(_with(existing, bundle)).cost
                if spared >= max(COST_FELT, COVERING_GAIN * least):
                    add(table, [columns])
        for need in item.needs:
            for sides in need.either:
                add(need.table, [(column,) for column, _ in sides])
            for column in too_long(need, schema):
                add(need.table, [(column,)], system_of(schema.system).equality_index)
    return results


def _bundle(table: Table, listed: Sequence[Sequence[str]], kind: str = "") -> _Chosen:
    """These indexes of a table, but those that there are."""
    spelled = [
        tuple(column.name for column in map(table.column, columns) if column is not None)
        for columns in listed
    ]
    return [
        (table, Index("", columns, kind=kind))
        for columns in dict.fromkeys(spelled)
        if not begins_one(table, columns) and not begins_with_key(table, columns)
    ]


def _thin_out(items: list[_Item], existing: dict[str, list[Index]], chosen: _Chosen) -> _Chosen:
    """Leave out what the others, chosen later, have made superfluous; sooner, if a longer one
    begins with it.
    """
    best = _with(existing, chosen)
    for entry in list(chosen):
        rest = [other for other in chosen if other is not entry]
        without = _with(existing, rest)
        table, index = entry
        begun = any(
            other is table and leads(index.columns, longer.columns) for other, longer in rest
        )
        slack = PREFIX_SLACK if begun else SLACK
        if all(item.outcome(without).cost <= slack * item.outcome(best).cost for item in items):
            chosen = rest
    return chosen


def _serving(
    index: Index, items: list[_Item], existing: dict[str, list[Index]], chosen: _Chosen
) -> list[_Item]:
    """The statements that use an index of the set, and would be dearer without it."""
    with_all = _with(existing, chosen)
    without = _with(existing, [entry for entry in chosen if entry[1] is not index])
    return [
        item
        for item in items
        if index in item.outcome(with_all).used
        and SLACK * item.outcome(with_all).cost < item.outcome(without).cost
    ]


def _is_felt(
    entry: tuple[Table, Index],
    items: list[_Item],
    existing: dict[str, list[Index]],
    chosen: _Chosen,
) -> bool:
    """Whether a statement touches fewer rows of the table with the index, or saves that much
    otherwise that it is felt.

    Where a handful of rows is touched all the same, the model's small differences are not believed.
    """
    table, index = entry
    with_all = _with(existing, chosen)
    without = _with(existing, [other for other in chosen if other[1] is not index])
    for item in _serving(index, items, existing, chosen):
        before, after = item.outcome(without), item.outcome(with_all)
        rows_before, rows_after = (
            before.touched.get(table.name, 0.0),
            after.touched.get(table.name, 0.0),
        )
        if rows_after < ROWS_SPARED * rows_before or before.cost - after.cost >= COST_FELT:
            return True
    return False


class _Plan(msgspec.Struct, frozen=True):
    """The statements, the indexes that there are, and those that were chosen next to them."""

    items: list[_Item]
    existing: dict[str, list[Index]]
    chosen: _Chosen
    schema: Schema


def _advice(entry: tuple[Table, Index], plan: _Plan, name: str, writes: int) -> IndexAdvice:
    """A chosen index with all that a person wants to know of it."""
    (table, index), schema = entry, plan.schema
    with_all = _with(plan.existing, plan.chosen)
    without = _with(plan.existing, [other for other in plan.chosen if other[1] is not index])
    serving = _serving(index, plan.items, plan.existing, plan.chosen)
    served = tuple(
        Served(
            item.statement.digest,
            item.outcome(without).touched.get(table.name, 0.0),
            item.outcome(with_all).touched.get(table.name, 0.0),
        )
        for item in sorted(serving, key=lambda item: -item.statement.weight_ms)
    )
    best = max(serving, key=lambda item: item.statement.weight_ms)
    need = next(need for need in best.needs if need.table is table)
    lowered = tuple(column.lower() for column in index.columns)
    return IndexAdvice(
        table=table.name,
        columns=index.columns,
        name=name,
        ddl=index_ddl.create_index(
            name, table.name, index.columns, schema.system, types=table.types, kind=index.kind
        ),
        why=_why(best.statement, need, lowered, table) + _method(index),
        size_bytes=size_bytes(table, index.columns, schema, index.kind),
        redundant=tuple(
            other.name
            for other in table.indexes
            if not index.kind and not other.unique and other.is_plain and serves(index, other)
        ),
        check=("test it before adding it: askless trial measures it privately",),
        serves=served,
        writes=writes,
        partial=_partial(best.statement, need, table, lowered, name, schema),
        guessed=_measured(best.statement, need, lowered) is None,
        kind=index.kind,
    )


def _measured(statement: Statement, need: Need, columns: Sequence[str]) -> float | None:
    """The share of the table that the conditions on these columns keep, where someone measured it;
    1 for no condition.
    """
    predicates = [
        p for column in columns for p in (*need.equal.get(column, ()), *need.ranges.get(column, ()))
    ]
    return statement.shares(need.table.name, predicates) if predicates else 1.0


def _why(statement: Statement, need: Need, columns: tuple[str, ...], table: Table) -> str:
    texts = []
    keys = {*need.equal, *(link.column for link in need.links)}
    finds = list(takewhile(keys.__contains__, columns))
    rest = columns[len(finds) :]
    if finds:
        texts.append("finds the rows by " + ", ".join(finds))
    else:
        side = _one_side(need, columns[0])
        texts += side
        rest = rest[len(side) :]
    texts += _by_the_rest(need, finds, rest)
    if need.used is not None and need.used <= {*columns, *(c.lower() for c in table.primary_key)}:
        texts.append("answers without reading the table")
    share = _measured(statement, need, columns)
    if share is not None and share < 1:
        texts.append(f"the condition keeps {100 * share:.2g} % of {plural(table.rows or 0, 'row')}")
    return "; ".join(texts)


def _method(index: Index) -> str:
    """Why an index is of another kind."""
    if not index.kind:
        return ""
    return (
        f"; by {index.kind}, as a value of {index.columns[0]} may be too long for an ordered index: "
        "it finds equal values and nothing else"
    )


def _partial(
    statement: Statement,
    need: Need,
    table: Table,
    columns: tuple[str, ...],
    name: str,
    schema: Schema,
) -> str:
    """The same index for the rows of a constant condition only, if that is a small part."""
    if not system_of(schema.system).partial_indexes:
        return ""
    fixed = [column for column in columns if column in need.equal and column in statement.constants]
    rest = [column for column in columns if column not in fixed]
    if len(fixed) != 1 or need.share((fixed[0],)) > PARTIAL_SHARE:
        return ""
    spelled = tuple(known.name for known in map(table.column, rest or fixed) if known is not None)
    return index_ddl.create_index(
        name, table.name, spelled, schema.system, statement.constants[fixed[0]], table.types
    )


def _one_side(need: Need, column: str) -> list[str]:
    """What a column does as one side of an OR; nothing if it is none."""
    sides = [side for group in need.either for side, _ in group]
    if column not in sides or column in need.ranges:
        return []
    others = ", ".join(dict.fromkeys(side for side in sides if side != column))
    beside = f", in addition to an index on {others}" if others else ""
    return [f"finds the rows of one side of an OR by {column}{beside}"]


def _by_the_rest(need: Need, finds: list[str], rest: tuple[str, ...]) -> list[str]:
    """What the columns do that follow those by which rows are found."""
    order = [column for column, _ in need.order if column not in finds]
    if order and rest[: len(order)] == tuple(order):
        return [f"returns them in order of {', '.join(order)}, so no sort is needed"]
    if rest and rest[0] in need.ranges:
        return [f"{'and ' if finds else 'finds '}the range of {rest[0]}"]
    if need.group and rest[: len(need.group)] == need.group:
        return [f"returns the groups of {', '.join(need.group)} in order"]
    return []
