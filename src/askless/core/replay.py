"""A finding's look-ups as they stood in one request of the capture, and what they become when advice is taken.

The texts have named placeholders (`:slot0`, …); `:keys` stands for all keys.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import msgspec

from askless.core.advice import rewriting
from askless.core.errors import AskLessError
from askless.core.findings import Finding
from askless.core.lineage import find_source
from askless.core.lineage import structure as structure_of_statement
from askless.core.model import Request
from askless.core.patterns.n_plus_one import key_of
from askless.core.sql.parts import named_form
from askless.core.sql.slots import Value, slots_of, values_of
from askless.core.sql.structure import Structure

KEYS = "keys"


class Sent(msgspec.Struct, frozen=True):
    """A statement with its values. `names` are those of its placeholders."""

    text: str
    parameters: tuple[Value, ...]
    names: tuple[str, ...]
    system: str


class Replay(msgspec.Struct, frozen=True):
    """The look-ups of one request. `keys[i]` is the key of look-up i, `column` what it is compared with.

    `batch` answers all keys at once; `grouped` tells that it gives a number for each key instead of rows. `join` is the
    parent's query with the rows joined to it. None stands for what can't be written from the statements.
    """

    route: str
    request: int
    lookups: tuple[Sent, ...]
    keys: tuple[Value, ...]
    column: str
    grouped: bool
    to_many: bool
    batch: Sent | None
    parent: Sent | None
    join: Sent | None


def replay_of(finding: Finding, requests: Iterable[Request]) -> Replay:
    """The look-ups of the request that asked most. Raises AskLessError nothing-to-replay."""
    best: tuple[Request, list[int]] | None = None
    for request in requests:
        if request.route != finding.route or request.warm_up:
            continue
        asked = [
            i
            for i in range(len(request))
            if request.statement(i).shape.digest == finding.shape and i not in request.errors
        ]
        if best is None or len(asked) > len(best[1]):
            best = request, asked
    if best is None or len(best[1]) < 2:
        raise AskLessError(
            "nothing-to-replay", "the capture holds no repetition of this finding", "is it the same capture?"
        )
    return _replay(finding, *best)


def _replay(finding: Finding, request: Request, indices: list[int]) -> Replay:
    statement = request.statement(indices[0])
    structure = structure_of_statement(statement)
    rows = [request.statement(i).values(request.parameters[i], request.literals[i]) for i in indices]
    found = key_of(structure, rows) if structure is not None else None
    if structure is None or found is None:
        raise AskLessError(
            "nothing-to-replay",
            "the key of these look-ups can't be told from the statement",
            "try a rewriting by hand: --before, --after",
        )
    column = found.column
    table = column.table or structure.main
    keys = tuple(row[found.position] for row in rows)
    grouped = finding.pattern == "sibling-filters" or finding.variant.removeprefix("nested ") in ("count", "aggregate")
    to_many = finding.variant.removeprefix("nested ") not in ("to-one", "same-row")
    guard = not to_many and bool(finding.relation)  # the ORM knows one row at most: its LIMIT is a guard only
    lookups = tuple(_sent(request, i) for i in indices)
    distinct = tuple(dict.fromkeys(key for key in keys if key is not None))
    text = named_form(request.text(indices[0]), statement.system)
    sql = (
        rewriting.counted(text, statement.system, table, column.name)
        if grouped
        else rewriting.batched(text, statement.system, table, column.name, drop_limit=guard)
    )
    batch = _with_keys(sql, lookups[0], f"slot{found.position}", distinct) if sql else None
    parent = join = None
    source = find_source(request, indices, keys, table, column.name)
    if source is not None:
        parents = [i for i in range(indices[-1]) if request.statements[i] == source.statement]
        if len(parents) == 1:
            parent = _sent(request, parents[0], "parent")
            outputs = tuple(output.name for output in structure.outputs)
            if not grouped:
                joined = rewriting.joined(
                    parent.text, parent.system, source.column, table, column.name, outputs, to_many
                )
                join = Sent(joined, parent.parameters, parent.names, parent.system) if joined else None
                if structure.main.lower() != table.lower() or _has_more(structure, guard):
                    join = None  # conditions and joins of the look-up are not in that join
    return Replay(finding.route, request.number, lookups, keys, column.name, grouped, to_many, batch, parent, join)


def _has_more(structure: Structure, guard: bool) -> bool:
    """Whether a look-up asks for more than its key: other conditions, joins, a limit that is more than a guard."""
    limited = structure.has_limit and not guard
    return len(structure.predicates) > 1 or bool(structure.joins or structure.group_by or limited)


def _sent(request: Request, i: int, prefix: str = "slot") -> Sent:
    """A query with a name for each of its placeholders."""
    statement = request.statement(i)
    text = request.text(i)
    slots = slots_of(text, statement.system)
    values = values_of(slots, request.parameters[i], statement.names)
    named = [
        (f"{prefix}{n}", value) for n, (slot, value) in enumerate(zip(slots, values, strict=True)) if slot.placeholder
    ]
    return Sent(
        named_form(text, statement.system, prefix), tuple(value for _, value in named), tuple(name for name, _ in named),
        statement.system,
    )  # fmt: skip


def _with_keys(sql: str, first: Sent, key: str, keys: Sequence[Value]) -> Sent:
    """The batch with its values: those that were constant, and the keys."""
    import json

    kept = [
        (name, value)
        for name, value in zip(first.names, first.parameters, strict=True)
        if name != key and f":{name}" in sql
    ]
    return Sent(
        sql,
        (*(value for _, value in kept), ("tuple", json.dumps(list(keys)))),
        (*(name for name, _ in kept), KEYS),
        first.system,
    )
