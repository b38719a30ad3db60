"""A finding's lookups as they was in one request of the capture, and what they become when advice
is taken.

The texts have named placeholders (`:slot0`, …); `:keys` stands for all keys.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence

import msgspec

from askless.core.advice.rewriting import statements
from askless.core.errors import AskLessError
from askless.core.findings.remedies import Batch, Group, Variant
from askless.core.inference.lineage import find_source, origin_of
from askless.core.patterns.base import Diagnosis
from askless.core.records.model import Request
from askless.core.sql.clauses import named_form
from askless.core.sql.slots import Value, slots_of, values_of
from askless.core.sql.structure import Structure
from askless.core.sql.structure_store import structure_of

KEYS = "keys"


class BoundStatement(msgspec.Struct, frozen=True):
    """A statement with its values. `names` are those of its placeholders."""

    text: str
    parameters: tuple[Value, ...]
    names: tuple[str, ...]
    system: str


class Replay(msgspec.Struct, frozen=True):
    """The lookups of one request. `keys[i]` is the key of lookup i, `column` of `table` what it is
    compared with.

    `batch` answers all keys at once; `grouped` says that it gives a number for each key instead of
    rows, `whether` that it gives the keys that have rows. `join` is the parent's query with the
    rows joined to it, `turned` the same with a number of them, grouped; `folded` gives the numbers
    of all keys in one row. None stands for what can't be written from the statements.
    """

    route: str
    request: str
    lookups: tuple[BoundStatement, ...]
    keys: tuple[Value, ...]
    table: str
    column: str
    grouped: bool
    to_many: bool
    batch: BoundStatement | None
    parent: BoundStatement | None
    join: BoundStatement | None
    whether: bool = False
    folded: BoundStatement | None = None
    turned: BoundStatement | None = None


FOLDED_MOST = 40  # keys in one row of conditional aggregates


def place_of_key(replay: Replay, names: Sequence[str]) -> int | None:
    """Where the batch's result, whose columns have these names, shows the key; None if that can't
    be said.
    """
    structure = (
        structure_of(replay.batch.text, replay.batch.system) if replay.batch is not None else None
    )
    if (
        structure is None
        or len(structure.outputs) != len(names)
        or any(output.star for output in structure.outputs)
    ):
        # The batch adds the key at the end, if it is not among the columns.
        places = [i for i, name in enumerate(names) if name.lower() == replay.column.lower()]
        return places[-1] if places else None
    key = (replay.table.lower(), replay.column.lower())
    columns = [
        (output.column.table.lower(), output.column.name.lower()) for output in structure.outputs
    ]
    shown = [
        i
        for i, (column, output) in enumerate(zip(columns, structure.outputs, strict=True))
        if column == key and not output.aggregate
    ]
    return shown[-1] if shown else None


def no_other_way(why: str) -> AskLessError:
    """There is no statement to try next to what the capture holds."""
    return AskLessError(
        "nothing-to-replay",
        why,
        "write it by hand and test it: askless trial --before one.sql --after other.sql",
    )


def replay_of(diagnosis: Diagnosis, requests: Iterable[Request]) -> Replay:
    """The lookups of the request that asked most. Raises AskLessError nothing-to-replay."""
    finding, remedy = diagnosis.finding, diagnosis.remedy
    if not isinstance(remedy, Batch | Group):
        raise no_other_way(
            f"finding {finding.key} is {finding.pattern}: no other statement can be tested for it"
        )
    best: tuple[Request, list[int]] | None = None
    for request in requests:
        if request.route != finding.route or request.warm_up:
            continue
        queries = [
            i
            for i in range(len(request))
            if request.statement(i).shape.digest == finding.shape and i not in request.errors
        ]
        # The same statement may be asked for other reasons: what the ORM said tells the lookups of
        # this finding apart.
        load = remedy.load if isinstance(remedy, Batch) else None
        own = [i for i in queries if request.load(i) == load] if load is not None else []
        queries = own if len(own) > 1 else queries
        if best is None or len(queries) > len(best[1]):
            best = request, queries
    if best is None or len(best[1]) < 2:
        raise AskLessError(
            "nothing-to-replay",
            "the capture contains no repetition of this finding",
            "is it the same capture?",
        )
    return _replay(remedy, *best)


def _replay(remedy: Batch | Group, request: Request, indices: list[int]) -> Replay:
    statement = request.statement(indices[0])
    structure = statement.structure
    rows = [request.values(i) for i in indices]
    slot, column, table = remedy.key.slot, remedy.key.column.name, remedy.table
    ranges = isinstance(remedy, Group) and remedy.buckets
    if structure is None or ranges or any(slot >= len(row) for row in rows):
        raise no_other_way("the key of these lookups can't be determined from the statement")
    keys = tuple(remedy.key.value(row) for row in rows)
    grouped = isinstance(remedy, Group) or remedy.variant in (Variant.COUNT, Variant.AGGREGATE)
    to_many = isinstance(remedy, Group) or remedy.variant not in (Variant.TO_ONE, Variant.SAME_ROW)
    load = remedy.load if isinstance(remedy, Batch) else None
    guard = (
        not to_many and load is not None and bool(load.relation)
    )  # the ORM knows one row at most: its LIMIT is a guard
    lookups = tuple(sent(request, i) for i in indices)
    distinct = tuple(dict.fromkeys(key for key in keys if key is not None))
    text = named_form(request.text(indices[0]), statement.system)
    variant = remedy.variant if isinstance(remedy, Batch) else None
    lookup = statements.LookUp(text, statement.system, table, column, remedy.key.beside)
    if any(not one.same for one in remedy.key.beside):
        sql = ""  # its keys would have to be sent as pairs
    elif grouped:
        sql = statements.counted(lookup)
    elif variant is Variant.EXISTS:
        sql = statements.existing(lookup)
    elif variant is Variant.FIRST and structure.extreme is None:
        sql = statements.first_of_each(lookup)
    else:
        sql = statements.batched(lookup, drop_limit=guard)
    batch = _with_keys(sql, lookups[0], f"slot{slot}", distinct) if sql else None
    parent = join = turned = None
    only = origin_of(request.load(indices[0]), request.tables.models)
    source = find_source(request, indices, keys, table, column, only)
    if source is not None:
        supplier = request.tables.statements[source.statement].shape.digest
        parents = [i for i in range(indices[-1]) if request.statement(i).shape.digest == supplier]
        if len(parents) == 1:
            parent = sent(request, parents[0], "parent")
            if (
                grouped
                and not isinstance(remedy, Group)
                and structure.counts
                and not _has_more(structure, guard)
            ):
                held = (source.table, source.column)
                text = statements.counted_with_parent(
                    parent.text, parent.system, held, table, column
                )
                turned = (
                    BoundStatement(text, parent.parameters, parent.names, parent.system)
                    if text
                    else None
                )
            # Conditions and joins of the lookup would not be in the join.
            if (
                not grouped
                and structure.main.lower() == table.lower()
                and not _has_more(structure, guard)
            ):
                joined = statements.joined(
                    parent.text,
                    parent.system,
                    (source.table, source.column),
                    table,
                    column,
                    structure.outputs,
                    to_many,
                )
                join = (
                    BoundStatement(joined, parent.parameters, parent.names, parent.system)
                    if joined
                    else None
                )
    whether = variant is Variant.EXISTS
    return Replay(
        request.route, request.name, lookups, keys, table, column, grouped, to_many, batch, parent, join, whether,
        _folded(lookup, lookups[0], f"slot{slot}", distinct) if isinstance(remedy, Group) else None, turned,
    )  # fmt: skip


def _folded(
    lookup: statements.LookUp, first: BoundStatement, key: str, keys: Sequence[Value]
) -> BoundStatement | None:
    """The numbers of all keys in one row, by conditional aggregates."""
    if not 1 < len(keys) <= FOLDED_MOST:
        return None
    named = [f"key{n}" for n in range(len(keys))]
    sql = statements.folded(lookup, named)
    rest = [
        (name, value)
        for name, value in zip(first.names, first.parameters, strict=True)
        if name != key
    ]
    values = (*(value for _, value in rest), *keys)
    return (
        BoundStatement(sql, values, (*(name for name, _ in rest), *named), first.system)
        if sql
        else None
    )


def _has_more(structure: Structure, guard: bool) -> bool:
    """Whether a lookup asks for more than its key: other conditions, joins, a limit that is more
    than a guard.
    """
    limited = structure.has_limit and not guard
    return len(structure.predicates) > 1 or bool(structure.joins or structure.group_by or limited)


def sent(request: Request, i: int, prefix: str = "slot") -> BoundStatement:
    """A query with a name for each of its placeholders."""
    statement = request.statement(i)
    text = request.text(i)
    slots = slots_of(text, statement.system)
    values = values_of(slots, request.parameters[i], statement.names)
    named = [
        (f"{prefix}{n}", value)
        for n, (slot, value) in enumerate(zip(slots, values, strict=True))
        if slot.placeholder
    ]
    return BoundStatement(
        named_form(text, statement.system, prefix), tuple(value for _, value in named), tuple(name for name, _ in named),
        statement.system,
    )  # fmt: skip


def _with_keys(sql: str, first: BoundStatement, key: str, keys: Sequence[Value]) -> BoundStatement:
    """The batch with its values: those that were constant, and the keys."""
    remaining = [
        (name, value)
        for name, value in zip(first.names, first.parameters, strict=True)
        if name != key and f":{name}" in sql
    ]
    return BoundStatement(
        sql,
        (*(value for _, value in remaining), ("tuple", json.dumps(list(keys)))),
        (*(name for name, _ in remaining), KEYS),
        first.system,
    )
