"""write-loop: INSERTs, UPDATEs or DELETEs of one shape, one by one in one request; worse where each
commits alone.

The keys of UPDATEs and DELETEs are traced to the result that they came from, as those of lookups
are.

Not flagged: an executemany (one query with many parameter sets), a statement with many rows.
"""

from __future__ import annotations

from bisect import bisect, bisect_left

from askless.core.aggregation.request_view import RequestView
from askless.core.aggregation.shape_stats import ShapeStats
from askless.core.aggregation.summary import Tally
from askless.core.findings.finding import severity
from askless.core.findings.remedies import BatchWrites
from askless.core.formatting import number, plural
from askless.core.inference.lineage import Source, find_source, is_convincing
from askless.core.patterns.base import (
    ByRequests,
    Diagnosis,
    FindingDraft,
    Match,
    Rule,
    ShapeTally,
    add_counts,
    add_places,
    by_code,
    call_path,
    spared,
    writes_of,
)
from askless.core.patterns.keys import varying
from askless.core.patterns.repetition import flow_of, most_used
from askless.core.records.model import CallSite, Request, parents_of
from askless.core.settings import Settings

RULE = Rule(
    "write-loop",
    "rows written one by one",
    "five or more INSERTs, UPDATEs or DELETEs of one shape; worse if each commits separately",
    "an executemany, a statement with many rows, INSERTs of rows in chunks, UPDATEs that found no "
    "row and inserted one",
)
_WRITES = ("insert", "update", "delete")


class WriteTotals(ShapeTally):
    """Writes of one shape from one piece of code. `alone` counts those that were committed before
    the next one, `flushed` those before which the ORM was made to write by a read, `apart` those
    that come right after a SAVEPOINT.

    `source` is the result that the keys came from, if it was seen, and `parent_places` where it was
    asked for.
    """

    def __init__(self, stats: ShapeStats) -> None:
        super().__init__(stats)
        self.alone = self.flushed = self.apart = 0
        self.source: Source | None = None
        self.parent_places: dict[CallSite, int] = {}

    def merge(self, other: Tally) -> None:
        """Add another piece's tally."""
        super().merge(other)
        assert isinstance(other, WriteTotals)
        self.alone += other.alone
        self.flushed += other.flushed
        self.apart += other.apart
        self.source = self.source or other.source
        add_counts(self.parent_places, other.parent_places)


class WriteLoop(ByRequests[WriteTotals]):
    """See the module."""

    rule = RULE

    def look(self, view: RequestView, settings: Settings) -> None:
        """Find loops of writes in one request."""
        for group in view.groups:
            if (
                len(group.indices) < settings.write_loop_least
                or group.stats.shape.digest in view.claimed
            ):
                continue
            structure = group.stats.structure
            if structure is None or structure.kind not in _WRITES:
                continue
            single = [i for i in group.indices if _is_single(view.request, i, structure.kind)]
            if structure.kind == "update":
                single = _without_attempts(view, single, structure.main.lower())
            for indices in by_code(view.request, single) if single else []:
                if len(indices) >= settings.write_loop_least:
                    self._add(view, group.stats, indices, settings)

    def _add(
        self, view: RequestView, stats: ShapeStats, indices: list[int], settings: Settings
    ) -> None:
        request = view.request
        name = (stats.shape.digest, *call_path(request, indices[0]))
        tally = self.tallies(view.route).setdefault(name, WriteTotals(stats))
        tally.add(request, indices)
        tally.alone += _alone(request, indices)
        tally.flushed += _flushed(request, indices)
        tally.apart += _in_savepoints(request, indices)
        if tally.source is None and tally.requests <= settings.examine_most:
            tally.source = _source(request, stats, indices)
            if tally.source is not None:
                add_places(tally.parent_places, request, [tally.source.first])

    def diagnose(self, tally: WriteTotals, met: Match) -> Diagnosis:
        """One a loop."""
        return _diagnosis(tally, met)


def _is_single(request: Request, i: int, kind: str) -> bool:
    """Whether a write is of one row: no executemany, and no INSERT of a chunk of rows."""
    return request.batches.get(i, 0) <= 1 and not (kind == "insert" and request.rows[i] > 1)


def _flushed(request: Request, indices: list[int]) -> int:
    """Writes that a read of SQLAlchemy's has made its session send: they come from the line of the
    read, right before it.
    """
    return sum(
        i + 1 < len(request)
        and (load := request.load(i + 1)) is not None
        and load.orm == "sqlalchemy"
        and load.kind != "write"
        and request.place(i) is not None
        and request.place(i) == request.place(i + 1)
        for i in indices
    )


def _in_savepoints(request: Request, indices: list[int]) -> int:
    return sum(
        i > 0 and request.statement(i - 1).shape.text.startswith("savepoint ") for i in indices
    )


def _source(request: Request, stats: ShapeStats, indices: list[int]) -> Source | None:
    """The earlier result that the keys of these UPDATEs or DELETEs were seen in; None if they have
    not one key.
    """
    structure = stats.structure
    rows = [request.values(i) for i in indices]
    slots = set(varying(rows) or ())
    keys = (
        [p for p in structure.predicates if p.operator == "=" and set(p.slots) & slots]
        if structure
        else []
    )
    if structure is None or len(keys) != 1 or len(keys[0].slots) != 1:
        return None
    key = keys[0]
    given = [row[key.slots[0]] for row in rows]
    source = find_source(
        request, indices, given, key.column.table or structure.main, key.column.name
    )
    return source if source is not None and is_convincing(source) else None


def _without_attempts(view: RequestView, indices: list[int], table: str) -> list[int]:
    """UPDATEs but those that changed nothing and were followed by an INSERT of the row: one that
    may be there or not.
    """
    request = view.request
    inserts = [
        i
        for i, written in writes_of(view)
        if written == table and request.statement(i).shape.text.startswith("insert")
    ]
    following = [*indices[1:], len(request)]
    return [
        i
        for i, after in zip(indices, following, strict=True)
        if request.rows[i] or bisect(inserts, i) == bisect_left(inserts, after)  # none in between
    ]


def _alone(request: Request, indices: list[int]) -> int:
    """How many of the writes commit by themselves: outside of a transaction, or with a COMMIT
    before the next one.
    """
    inside = request.in_transaction
    commits = {
        number
        for number in set(request.statements)
        if request.tables.statements[number].shape.text == "commit"
    }
    following = [*indices[1:], len(request)]
    return sum(
        not inside[i] or any(number in commits for number in request.statements[i + 1 : after])
        for i, after in zip(indices, following, strict=True)
    )


def _diagnosis(tally: WriteTotals, met: Match) -> Diagnosis:
    structure = met.structure
    queries = tally.per_request
    alone = tally.alone > tally.queries / 2
    cost = met.cost(queries, queries - 1)
    verb = {"insert": "inserted into", "update": "changed in", "delete": "deleted from"}[
        structure.kind
    ]
    because = [f"{number(queries)} statements of one shape per request, each with different values"]
    if tally.source is not None:
        because.insert(0, flow_of(tally.source))
    if alone:
        because.append(
            f"{tally.alone:,} of {tally.queries:,} were committed before the next one: each waits "
            "for the disk"
        )
    flushed = tally.flushed > tally.queries / 2
    if flushed:
        because.append(
            f"{tally.flushed:,} of {tally.queries:,} were followed by a SELECT: it flushes the "
            "session, so that rows are written one by one (autoflush)"
        )
    caveats = [
        "it is unknown whether a later row needs a value generated for an earlier one (such as its "
        "key)"
    ]
    if tally.apart > tally.queries / 2:
        caveats.append(
            "each is in a savepoint of its own: a row that fails leaves the others, one statement "
            "for all does not"
        )
    claim = FindingDraft(
        variant=structure.kind + (", each commits alone" if alone else ""),
        severity=severity(cost.share, cost.avoidable),
        title=f"{plural(queries, 'query')} where 1 would do: rows {verb} {structure.main} one by "
        "one" + (", each in its own transaction" if alone else ""),
        evidence="traced" if tally.source is not None else "repeated",
        evidence_details=tuple(because),
        cost=cost,
        source=most_used(tally.parent_places),
        caveats=tuple(caveats),
    )
    remedy = BatchWrites(
        stats=met.stats,
        line=met.line,
        saving=spared(queries - 1, cost.saving_ms),
        alone=alone,
        flushed=flushed,
        parted=structure.kind == "insert" and _is_parted(met),
    )
    return Diagnosis(met.finding(RULE, claim), remedy)


def _is_parted(met: Match) -> bool:
    """Whether the table holds a part of each object: of a model with a parent, or of a parent whose
    children are inserted too.
    """
    models, table = met.context.models, met.structure.main.lower()
    shapes = [
        structure for stats in met.route.own_shapes() if (structure := stats.structure) is not None
    ]
    inserted = {structure.main.lower() for structure in shapes if structure.kind == "insert"}
    for (orm, _), model in models.items():
        parents = parents_of(orm, model, models)
        family = {one.table.lower() for one in (model, *parents)}
        if parents and model.table.lower() in inserted and table in family:
            return True
    return False


PATTERN = WriteLoop()
