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
from askless.core.records.model import Load, Request
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

    def with_text(self, text: str) -> BoundStatement | None:
        """Another statement with the same values; None for no text."""
        return msgspec.structs.replace(self, text=text) if text else None


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
    load = remedy.load if isinstance(remedy, Batch) else None
    best: tuple[Request, list[int]] | None = None
    for request in requests:
        if request.route != finding.route or request.warm_up:
            continue
        queries = _lookups_in(request, finding.shape, load)
        if best is None or len(queries) > len(best[1]):
            best = request, queries
    if best is None or len(best[1]) < 2:
        raise AskLessError(
            "nothing-to-replay",
            "the capture contains no repetition of this finding",
            "is it the same capture?",
        )
    return _replay(remedy, *best)


def _lookups_in(request: Request, shape: str, load: Load | None) -> list[int]:
    """The queries of a shape. The same statement may be asked for other reasons: what the ORM said
    tells the lookups of a finding apart.
    """
    queries = [
        i
        for i, number in enumerate(request.statements)
        if request.tables.statements[number].shape.digest == shape and i not in request.errors
    ]
    own = [i for i in queries if request.load(i) == load] if load is not None else []
    return own if len(own) > 1 else queries


class _LookUps(msgspec.Struct, frozen=True):
    """What the statements of a replay are written from. `one_at_most` says that the ORM knows one
    row at most, so that the lookups' LIMIT is a guard.
    """

    remedy: Batch | Group
    structure: Structure
    lookup: statements.LookUp
    keys: tuple[Value, ...]
    distinct: tuple[Value, ...]
    first: BoundStatement
    variant: Variant | None
    grouped: bool
    to_many: bool
    one_at_most: bool

    @property
    def slot(self) -> str:
        """The placeholder of the key in a lookup."""
        return f"slot{self.remedy.key.slot}"


def _replay(remedy: Batch | Group, request: Request, indices: list[int]) -> Replay:
    case = _case(remedy, request, indices)
    parent, join, turned = _with_parent(case, request, indices)
    return Replay(
        request.route,
        request.name,
        tuple(sent(request, i) for i in indices),
        case.keys,
        remedy.table,
        remedy.key.column.name,
        case.grouped,
        case.to_many,
        _batch(case),
        parent,
        join,
        case.variant is Variant.EXISTS,
        _folded(case.lookup, case.first, case.slot, case.distinct)
        if isinstance(remedy, Group)
        else None,
        turned,
    )


def _case(remedy: Batch | Group, request: Request, indices: list[int]) -> _LookUps:
    statement = request.statement(indices[0])
    rows = [request.values(i) for i in indices]
    group, structure = isinstance(remedy, Group), statement.structure
    ranges = isinstance(remedy, Group) and remedy.buckets
    if structure is None or ranges or any(remedy.key.slot >= len(row) for row in rows):
        raise no_other_way("the key of these lookups can't be determined from the statement")
    keys = tuple(remedy.key.value(row) for row in rows)
    load = remedy.load if isinstance(remedy, Batch) else None
    variant = remedy.variant if isinstance(remedy, Batch) else None
    to_many = variant not in (Variant.TO_ONE, Variant.SAME_ROW)
    text = named_form(request.text(indices[0]), statement.system)
    return _LookUps(
        remedy,
        structure,
        statements.LookUp(
            text, statement.system, remedy.table, remedy.key.column.name, remedy.key.beside
        ),
        keys,
        tuple(dict.fromkeys(key for key in keys if key is not None)),
        sent(request, indices[0]),
        variant,
        group or variant in (Variant.COUNT, Variant.AGGREGATE),
        to_many,
        not to_many and load is not None and bool(load.relation),
    )


def _batch(case: _LookUps) -> BoundStatement | None:
    """One statement for all keys."""
    if any(not one.same for one in case.remedy.key.beside):
        return None  # its keys would have to be sent as pairs
    if case.grouped:
        sql = statements.counted(case.lookup)
    elif case.variant is Variant.EXISTS:
        sql = statements.existing(case.lookup)
    elif case.variant is Variant.FIRST and case.structure.extreme is None:
        sql = statements.first_of_each(case.lookup)
    elif case.variant is Variant.FEW and isinstance(case.remedy, Batch):
        sql = statements.first_of_each(case.lookup, case.remedy.limit)
    else:
        sql = statements.batched(case.lookup, drop_limit=case.one_at_most)
    return _with_keys(sql, case.first, case.slot, case.distinct) if sql else None


def _with_parent(
    case: _LookUps, request: Request, indices: list[int]
) -> tuple[BoundStatement | None, BoundStatement | None, BoundStatement | None]:
    """The parent's query, the same with the rows joined to it, the same with their number."""
    table, column, structure = case.remedy.table, case.remedy.key.column.name, case.structure
    only = origin_of(request.load(indices[0]), request.tables.models)
    source = find_source(request, indices, case.keys, table, column, only)
    if source is None:
        return None, None, None
    supplier = request.tables.statements[source.statement].shape.digest
    parents = [i for i in range(indices[-1]) if request.statement(i).shape.digest == supplier]
    if len(parents) != 1:
        return None, None, None
    parent = sent(request, parents[0], "parent")
    joined = counted = ""
    held = (source.table, source.column)
    # Conditions and joins of the lookup would not be in a join.
    if _has_more(structure, case.one_at_most):
        pass
    elif not case.grouped:
        if structure.main.lower() == table.lower():
            joined = statements.joined(
                parent.text, parent.system, held, table, column, structure.outputs, case.to_many
            )
    elif case.variant is not None and structure.counts:
        counted = statements.counted_with_parent(parent.text, parent.system, held, table, column)
    return parent, parent.with_text(joined), parent.with_text(counted)


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
        named_form(text, statement.system, prefix),
        tuple(value for _, value in named),
        tuple(name for name, _ in named),
        statement.system,
    )


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
