"""find-or-create: row after row is looked for and, if it is not there, inserted.

A lookup counts where it found nothing and an INSERT after it puts the key into the columns that
were looked at; so does an UPDATE that changed nothing. Not flagged: lookups that find their rows,
INSERTs of other rows than those that were looked for, and what was created once, on the first of
several visits.
"""

from __future__ import annotations

from askless.core.aggregation.request_view import Group, RequestView
from askless.core.aggregation.shape_stats import ShapeStats
from askless.core.aggregation.summary import Tally
from askless.core.findings.finding import severity
from askless.core.findings.remedies import BulkUpsert
from askless.core.formatting import number, plural
from askless.core.patterns.base import (
    ByRequests,
    Diagnosis,
    FindingDraft,
    Match,
    Rule,
    ShapeTally,
    call_path,
    met_of,
    spared,
    summed,
    writes_of,
)
from askless.core.records.model import Request
from askless.core.settings import Settings
from askless.core.sql.slots import Value
from askless.core.sql.structure import Structure
from askless.core.sql.value_equality import meaning

RULE = Rule(
    "find-or-create",
    "rows looked up and inserted one by one",
    "three times or more: a lookup or UPDATE that finds nothing, then an INSERT with the same key",
    "lookups that find their rows, INSERTs of other rows, what one of several requests created",
)
VISITS_LEAST = 3  # requests that look for such rows, of which one did not find them
_NOTHING = (0, "0", False, "f", "false")


class CreationTotals(ShapeTally):
    """Lookups of one shape and INSERTs of another; `queries` counts both.

    `looked` counts the lookups, `missing` those whose row was inserted afterwards, by `made`
    INSERTs.
    """

    def __init__(self, stats: ShapeStats, insert: ShapeStats, columns: tuple[str, ...]) -> None:
        super().__init__(stats)
        self.insert = insert
        self.columns = columns
        self.looked = self.missing = self.created = 0

    def merge(self, other: Tally) -> None:
        """Add another piece's tally."""
        super().merge(other)
        assert isinstance(other, CreationTotals)
        self.looked += other.looked
        self.missing += other.missing
        self.created += other.created


class FindOrCreate(ByRequests[CreationTotals]):
    """See the module."""

    rule = RULE

    def look(self, view: RequestView, settings: Settings) -> None:
        """Find INSERTs of what was looked for before, in one request."""
        inserts: dict[str, list[int]] = {}
        looks = [group for group in view.groups if len(group.indices) >= settings.repeat_least]
        for i, table in writes_of(view) if looks else ():
            if view.request.statement(i).shape.text.startswith("insert"):
                inserts.setdefault(table, []).append(i)
        for look in looks if inserts else ():
            structure = look.stats.structure
            by_orm = (
                structure is not None
                and structure.kind == "update"
                and view.request.loads[look.indices[0]]
            )
            # an ORM's save tries an UPDATE by itself
            if structure is not None and _is_look_up(structure) and not by_orm:
                pairs = _pairs(view.request, look, inserts.get(structure.main.lower(), []))
                if len(pairs) >= settings.repeat_least:
                    self._add(view, look, pairs)

    def _add(self, view: RequestView, look: Group, pairs: list[tuple[int, int]]) -> None:
        request = view.request
        created = sorted({i for _, i in pairs})
        digests = [request.statement(i).shape.digest for i in created]
        insert = view.route.shapes.get(max(digests, key=digests.count))
        if insert is None:
            return
        name = (look.stats.shape.digest, insert.shape.digest, *call_path(request, pairs[0][0]))
        tally = self.tallies(view.route).setdefault(
            name, CreationTotals(look.stats, insert, _keys_of(look.stats.parsed))
        )
        tally.add(request, sorted([*look.indices, *created]))
        tally.looked += len(look.indices)
        tally.missing += len(pairs)
        tally.created += len(created)
        view.claimed |= {look.stats.shape.digest, *digests}

    def diagnose(self, tally: CreationTotals, met: Match) -> Diagnosis | None:
        """One a pair of shapes at one place, unless it was done once, on a first visit."""
        seen = tally.stats.requests
        if tally.requests == 1 and seen >= VISITS_LEAST:
            return None
        return _diagnosis(tally, met)


def _is_look_up(structure: Structure) -> bool:
    """Whether it looks for rows of one table by values, or changes them."""
    if structure.kind not in ("select", "update") or not structure.of_one_table:
        return False
    return bool(_keys_of(structure))


def _key_slots(structure: Structure) -> list[tuple[str, int]]:
    """The columns that a row is looked for by, and the slot of each."""
    return [
        (p.column.name, p.slots[0])
        for p in structure.predicates
        if p.operator == "=" and p.required and p.slots
    ]


def _keys_of(structure: Structure) -> tuple[str, ...]:
    return tuple(name for name, _ in _key_slots(structure))


def _pairs(request: Request, look: Group, inserts: list[int]) -> list[tuple[int, int]]:
    """Lookups that found nothing, each with the INSERT after it that holds the row which was looked
    for.
    """
    if not inserts:
        return []
    structure = look.stats.parsed
    columns, slots = zip(*_key_slots(structure), strict=True)
    wanted: dict[tuple[Value, ...], int] = {}
    for i in look.indices:
        if _found_nothing(request, i, structure):
            values = request.values(i)
            wanted.setdefault(
                tuple(meaning(values[slot]) for slot in slots if slot < len(values)), i
            )
    pairs = []
    for i in inserts:
        for key in _rows_of(request, i, columns):
            at = wanted.get(key)
            if at is not None and at < i:
                del wanted[key]
                pairs.append((at, i))
    return pairs


def _rows_of(request: Request, i: int, columns: tuple[str, ...]) -> list[tuple[Value, ...]]:
    """What an INSERT puts into these columns, row by row; nothing if its values can't be derived
    from its text.
    """
    structure = request.statement(i).structure
    written = [name.lower() for name in structure.written] if structure is not None else []
    values = request.values(i)
    if (
        not written
        or len(values) % len(written)
        or not {name.lower() for name in columns} <= set(written)
    ):
        return []
    places = [written.index(name.lower()) for name in columns]
    return [
        tuple(meaning(values[start + place]) for place in places)
        for start in range(0, len(values), len(written))
    ]


def _found_nothing(request: Request, i: int, structure: Structure) -> bool:
    if request.rows[i] <= 0:
        return True
    sample = request.samples[i]
    answers = structure.exists or structure.counts
    return bool(answers and sample and sample[0] and sample[0][0] in _NOTHING)


def _diagnosis(tally: CreationTotals, met: Match) -> Diagnosis:
    looked, missing, created = (
        count / tally.requests for count in (tally.looked, tally.missing, tally.created)
    )
    other = met_of(tally, met.route, met.context, tally.insert)
    cost = summed([met.cost(looked, looked - 1), other.cost(created, max(created - 1, 0.0))])
    table, keys = met.structure.main, ", ".join(tally.columns)
    changes = met.structure.kind == "update"
    does = "an UPDATE that finds nothing" if changes else "a lookup"
    claim = FindingDraft(
        variant="update or insert" if changes else "find or create",
        severity=severity(cost.share, cost.avoidable),
        title=f"{plural(looked + created, 'query')} where 2 would do: {does} by {keys} and an "
        f"INSERT for rows of {table}, one by one",
        summary=f"{table} by {keys}: {number(looked)} looked up one by one, {number(missing)} "
        "inserted",
        evidence="traced",
        evidence_details=(
            f"{number(missing)} of {number(looked)} found nothing, and a later INSERT has the "
            "same key",
            "another request may insert the same row between a lookup and its INSERT: one then "
            "fails, or the row exists twice",
        ),
        cost=cost,
    )
    remedy = BulkUpsert(
        stats=met.stats,
        line=met.line,
        saving=spared(cost.avoidable, cost.saving_ms),
        insert=tally.insert,
        columns=tally.columns,
        changes=changes,
    )
    return Diagnosis(met.finding(RULE, claim), remedy)


PATTERN = FindOrCreate()
