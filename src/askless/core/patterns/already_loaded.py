"""already-loaded: lookups of rows that an earlier query of the same request had fetched, every
column of them.

The code builds a new query where the loaded collection or object would do. Not flagged: an earlier
result that lacks some of the columns (that is an n-plus-one of the variant same-row), a write to
the table in between, aggregates, locks, and what an ORM loads for a relation (an n-plus-one).
"""

from __future__ import annotations

from askless.core.aggregation.request_view import Group, RequestView
from askless.core.aggregation.shape_stats import ShapeStats
from askless.core.aggregation.summary import Tally
from askless.core.findings.finding import severity
from askless.core.findings.remedies import UseLoadedRows
from askless.core.formatting import number, plural
from askless.core.patterns.base import (
    ByRequests,
    Diagnosis,
    FindingDraft,
    Match,
    Rule,
    ShapeTally,
    add_counts,
    add_places,
    lines_of,
    spared,
    written_between,
)
from askless.core.patterns.repetition import reject, rejections
from askless.core.records.model import CallSite, Request
from askless.core.settings import Settings
from askless.core.sql.slots import Value
from askless.core.sql.structure import Structure

RULE = Rule(
    "already-loaded",
    "rows that were already loaded",
    "lookups of rows that an earlier query of the request had fetched with every column",
    "a write in between, an earlier result that lacks columns",
)


class RereadTotals(ShapeTally):
    """Lookups of one shape whose rows were there."""

    def __init__(self, stats: ShapeStats) -> None:
        super().__init__(stats)
        self.rows = 0
        self.earlier: dict[CallSite, int] = {}
        self.column = ""
        self.source: ShapeStats | None = None

    def merge(self, other: Tally) -> None:
        """Add another piece's tally."""
        super().merge(other)
        assert isinstance(other, RereadTotals)
        self.rows += other.rows
        add_counts(self.earlier, other.earlier)


class AlreadyLoaded(ByRequests[RereadTotals]):
    """See the module."""

    rule = RULE

    def look(self, view: RequestView, settings: Settings) -> None:
        """Find lookups whose rows an earlier result of the request holds."""
        for group in view.groups:
            claimed = group.stats.shape.digest in view.claimed
            if (
                claimed
                or len(group.indices) < settings.duplicate_least
                or self._given_up(view, group.stats, settings)
            ):
                continue
            structure = group.stats.structure
            if (
                structure is not None
                and _reads_rows(structure)
                and not _is_by_itself(view.request, group.indices)
            ):
                self._look(view, group, structure)

    def _given_up(self, view: RequestView, stats: ShapeStats, settings: Settings) -> bool:
        """Whether the first requests of a shape, which are traced in full, showed nothing."""
        return (
            rejections(view.route, self.rule).get((stats.shape.digest,), 0) >= settings.examine_most
        )

    def _look(self, view: RequestView, group: Group, structure: Structure) -> None:
        digest = group.stats.shape.digest
        request, indices = view.request, group.indices
        earlier = _earlier(view, indices, structure)
        if (
            earlier is None
            and group.stats.shape.has_list
            and _begins_with_a_batch(request, indices)
        ):
            indices = indices[1:]
            earlier = _earlier(view, indices, structure, group.indices[0])
        is_list = group.stats.shape.has_list
        if earlier is None or (is_list and not _are_all_there(request, indices, structure)):
            reject(view.route, self.rule, (digest,))
            return
        tally = self.tallies(view.route).setdefault((digest,), RereadTotals(group.stats))
        view.claimed.add(digest)
        tally.add(request, indices)
        tally.rows += sum(request.rows[i] for i in indices)
        tally.source = view.route.shapes.get(request.statement(earlier).shape.digest)
        key = next(
            (p.column.name for p in structure.predicates if p.operator in ("=", "in") and p.slots),
            "",
        )
        tally.column = key
        add_places(tally.earlier, request, [earlier])

    def diagnose(self, tally: RereadTotals, met: Match) -> Diagnosis:
        """One a shape."""
        return _diagnosis(tally, met)


def _is_by_itself(request: Request, indices: list[int]) -> bool:
    """Whether an ORM asks by itself: for a relation, which is to be loaded with its parents, or for
    an object that has expired.
    """
    load = request.load(indices[0])
    if load is None:
        return False
    return load.kind == "refresh" or (load.kind == "lazy" and bool(load.relation))


def _are_all_there(request: Request, indices: list[int], structure: Structure) -> bool:
    """Whether lists of keys found a row for each: the earlier result cannot tell that there is
    none for a key that it does not hold.
    """
    others = len(structure.predicates) - 1
    return all(len(set(request.values(i))) - others <= request.rows[i] for i in indices)


def _reads_rows(structure: Structure) -> bool:
    return (
        structure.repeatable
        and not structure.clock
        and not structure.aggregates
        and not structure.exists
        and any(
            predicate.operator in ("=", "in") and predicate.slots
            for predicate in structure.predicates
        )
    )


def _begins_with_a_batch(request: Request, indices: list[int]) -> bool:
    """Whether the first of these was given more values than each other: `IN` with one value is of
    one shape with it.
    """
    first, *others = (len(request.values(i)) for i in indices)
    return bool(others) and first > max(others)


def _earlier(
    view: RequestView, indices: list[int], structure: Structure, batch: int | None = None
) -> int | None:
    """The earlier query whose result holds the rows of all these lookups, or None. `batch` is one
    of their own shape.
    """
    request = view.request
    rows = sum(request.rows[i] for i in indices)
    if not rows:
        return None
    wanted = _identities(request, indices, structure)
    if len(wanted) < 2:
        return None
    own = request.statement(indices[0]).shape.digest
    for i in range(indices[0]):
        is_own = request.statement(i).shape.digest == own and i != batch
        if request.rows[i] < len(wanted) or not request.samples[i] or is_own:
            continue
        if _holds_rows(request, i, wanted, structure) and not written_between(
            view, i, indices[-1], {structure.main.lower()}
        ):
            return i
    return None


def _holds_rows(request: Request, i: int, wanted: set[Value], structure: Structure) -> bool:
    """Whether the result of a query holds the rows, as far as they were kept."""
    above = request.statement(i).structure
    if above is None or above.kind != "select" or not _holds(above, structure):
        return False
    seen = _identities(request, [i], above, structure.main)
    whole = len(request.samples[i] or ()) >= request.rows[i]
    expected = len(wanted) if whole else min(len(wanted), len(seen))
    return expected >= 2 and len(wanted & seen) >= 0.9 * expected


def _holds(above: Structure, structure: Structure) -> bool:
    """Whether a result has every column of the lookup's table that the lookup asks for."""
    if any(output.star for output in (*above.outputs, *structure.outputs)):
        return above.main == structure.main and any(output.star for output in above.outputs)
    queries = {
        (o.column.table, o.column.name)
        for o in structure.outputs
        if o.column.table == structure.main
    }
    there = {(o.column.table, o.column.name) for o in above.outputs}
    return bool(queries) and queries <= there


def _identities(
    request: Request, indices: list[int], structure: Structure, table: str = ""
) -> set[Value]:
    """The values of the column `id` (of `table`, else the main one) in the sampled rows of some
    results.
    """
    table = table or structure.main
    results: set[Value] = set()
    for i in indices:
        statement = request.statement(i)
        for position, column in enumerate(statement.sampled):
            if column < len(structure.outputs) and not any(
                output.star for output in structure.outputs
            ):
                output = structure.outputs[column].column
                named = output.name.lower() in ("id", "pk") and output.table == table
            else:
                named = column < len(statement.columns) and statement.columns[column].lower() in (
                    "id",
                    "pk",
                )
            if named:
                results.update(
                    row[position] for row in request.samples[i] or () if position < len(row)
                )
                break
    return results - {None}


def _diagnosis(tally: RereadTotals, met: Match) -> Diagnosis:
    queries = tally.per_request
    cost = met.cost(queries, queries)
    earlier = next(iter(lines_of(tally.earlier)), None)
    claim = FindingDraft(
        severity=severity(cost.share, cost.avoidable),
        title=f"{plural(queries, 'query')} where none is needed: rows of {met.structure.main} "
        "that an earlier query had fetched",
        evidence="traced",
        evidence_details=(
            f"these rows ({number(tally.rows / tally.requests)} per request), every column, were "
            "in an earlier result",
            "no write to the table in between",
        ),
        cost=cost,
        source=earlier,
        source_role="rows",
        caveats=("only the new query sees concurrent changes",),
    )
    remedy = UseLoadedRows(
        stats=met.stats,
        line=met.line,
        saving=spared(queries, cost.saving_ms),
        source=tally.source,
        column=tally.column,
    )
    return Diagnosis(met.finding(RULE, claim), remedy)


PATTERN = AlreadyLoaded()
