"""The other ways to ask for what one statement asks: those of a finding's advice that can be
written as SQL, to be tried.

The texts have named placeholders (`:slot0`, …), as in `askless.core.trials.replay`.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from enum import StrEnum

import msgspec

from askless.core.advice import alternative_sql
from askless.core.advice.rewriting import statements
from askless.core.advice.rewriting.grouped_join import grouped_join
from askless.core.errors import AskLessError
from askless.core.findings.remedies import (
    Decorrelate,
    Project,
    PushDown,
    Remedy,
    SeekByKey,
    SplitJoin,
)
from askless.core.patterns.base import Diagnosis
from askless.core.records.model import Request
from askless.core.sql.slots import name_of, slots_of
from askless.core.sql.structure import Structure
from askless.core.sql.structure_store import structure_of
from askless.core.sql.value_equality import meaning
from askless.core.trials.replay import BoundStatement, no_other_way, sent
from askless.core.whole_numbers import whole_number


class Promise(StrEnum):
    """What an alternative's result must be, compared with that of the original statement."""

    SAME = "the same rows"
    ONCE = "each of its rows once"
    FEWER_COLUMNS = "the same rows without some columns"
    NUMBER = "the number of its rows"


class Alternative(msgspec.Struct, frozen=True):
    """One way: its statement and what it promises. `probe` gives the values of the row before the
    page: it is not counted.
    """

    name: str
    statement: BoundStatement
    promise: Promise
    left_out: tuple[str, ...] = ()
    probe: BoundStatement | None = None


class Alternatives(msgspec.Struct, frozen=True):
    """A statement as one request sent it, and the other ways."""

    route: str
    request: str
    statement: BoundStatement
    others: tuple[Alternative, ...]


TRIED = (Decorrelate, SeekByKey, Project, PushDown, SplitJoin)


def alternatives_of(diagnosis: Diagnosis, requests: Iterable[Request]) -> Alternatives:
    """The ways of a finding about one statement, with the values of its slowest execution. Raises
    AskLessError nothing-to-replay.
    """
    finding, remedy = diagnosis.finding, diagnosis.remedy
    slowest: tuple[int, Request, int] | None = None
    for request in requests:
        if request.route != finding.route or request.warm_up:
            continue
        for i, number in enumerate(request.statements):
            is_own = (
                request.tables.statements[number].shape.digest == finding.shape
                and i not in request.errors
            )
            lasted = request.durations_ns[i]
            if is_own and (slowest is None or lasted > slowest[0]):
                slowest = lasted, request, i
    if slowest is None:
        raise AskLessError(
            "nothing-to-replay",
            "the capture contains no query of this finding",
            "is it the same capture?",
        )
    _, request, i = slowest
    first = sent(request, i)
    structure = structure_of(first.text, first.system)
    others = tuple(_others(remedy, structure, first, request, i)) if structure is not None else ()
    if not others:
        raise no_other_way(
            f"no alternative for this {finding.pattern} can be derived from the statement"
        )
    return Alternatives(request.route, request.name, first, others)


def _others(
    remedy: Remedy, structure: Structure, first: BoundStatement, request: Request, i: int
) -> Iterable[Alternative]:
    text, system = first.text, first.system
    if isinstance(remedy, Decorrelate):
        yield from _alternative(
            "grouped once and joined", grouped_join(text, system, request.values(i)), first
        )
    elif isinstance(remedy, Project):
        sql = statements.projected(text, system, remedy.wide)
        yield from _alternative(
            "without " + ", ".join(remedy.wide), sql, first, Promise.FEWER_COLUMNS, remedy.wide
        )
    elif isinstance(remedy, PushDown) and not remedy.columns:
        yield from _alternative(
            "counted in the database",
            alternative_sql.number_of(text, system),
            first,
            Promise.NUMBER,
        )
    elif isinstance(remedy, SplitJoin) and remedy.variant == "parents again":
        yield from _alternative(
            "with EXISTS", alternative_sql.by_existence(text, system), first, Promise.ONCE
        )
        yield from _alternative(
            "with DISTINCT", alternative_sql.distinct(text, system), first, Promise.ONCE
        )
    elif isinstance(remedy, SeekByKey):
        yield from _by_key(structure, first)


def _alternative(
    name: str,
    sql: str,
    first: BoundStatement,
    promise: Promise = Promise.SAME,
    left_out: Sequence[str] = (),
) -> Iterable[Alternative]:
    if sql:
        yield Alternative(name, _values_for(sql, first), promise, tuple(left_out))


def _values_for(sql: str, first: BoundStatement) -> BoundStatement:
    """A rewritten statement with those of the values that it still has a place for."""
    slots = [
        (name, value)
        for name, value in zip(first.names, first.parameters, strict=True)
        if _stands_in(name, sql)
    ]
    return BoundStatement(
        sql, tuple(value for _, value in slots), tuple(name for name, _ in slots), first.system
    )


def _stands_in(name: str, sql: str) -> bool:
    at = sql.find(f":{name}")
    while at >= 0:
        after = sql[at + len(name) + 1 : at + len(name) + 2]
        if not after.isdigit():
            return True
        at = sql.find(f":{name}", at + 1)
    return False


def _by_key(structure: Structure, first: BoundStatement) -> Iterable[Alternative]:
    """The page by key: what the row before it has in the columns of the order is asked first."""
    keys = [
        output.column.name for output in structure.outputs if output.column.name.lower() == "id"
    ]
    if not structure.of_one_table or not keys:
        return
    sql = statements.behind(first.text, first.system, structure.order_by, keys[0])
    wanted = list(dict.fromkeys([*(column.name for column, _ in structure.order_by), keys[0]]))
    probe = _one_less(
        _values_for(alternative_sql.first_row_of(first.text, first.system, wanted), first)
    )
    if sql and probe is not None:
        yield Alternative("the page by key", _values_for(sql, first), Promise.SAME, probe=probe)


def _one_less(page: BoundStatement) -> BoundStatement | None:
    """A page that begins one row earlier; None if its OFFSET can't be said."""
    structure = structure_of(page.text, page.system)
    slots = slots_of(page.text, page.system)
    if structure is None or structure.offset_slot is None or structure.offset_slot >= len(slots):
        return None
    slot = slots[structure.offset_slot]
    if not slot.placeholder:
        offset = whole_number(slot.text)
        less = str(offset - 1) if offset is not None else ""
        return (
            msgspec.structs.replace(
                page, text=page.text[: slot.start] + less + page.text[slot.end :]
            )
            if less
            else None
        )
    values = dict(zip(page.names, page.parameters, strict=True))
    skipped = meaning(values.get(name_of(slot)))
    if not isinstance(skipped, int):
        return None
    values[name_of(slot)] = skipped - 1
    return msgspec.structs.replace(page, parameters=tuple(values.values()))
