"""already-loaded: look-ups of rows that an earlier query of the same request had fetched, every column of them.

The code builds a new query where the loaded collection or object would do. Not flagged: an earlier result that lacks
some of the columns (that is an n-plus-one of the variant same-row), a write to the table in between, aggregates, locks.
"""

from __future__ import annotations

from collections.abc import Iterable

from askless.core.advice import reuse
from askless.core.findings import Finding, severity
from askless.core.lineage import structure as structure_of
from askless.core.model import Place, Request
from askless.core.patterns.base import Context, add_counts, add_places, cost_of, finding_of, lines_of, writes_of
from askless.core.patterns.repetition import Rejected
from askless.core.settings import Settings
from askless.core.shape_stats import ShapeStats
from askless.core.sql.slots import Value
from askless.core.sql.structure import Structure
from askless.core.summary import Group, RequestView, RouteStats, Tally
from askless.core.words import number, plural

NAME = "already-loaded"
REJECTED = "not already loaded"


class Rereads:
    """Look-ups of one shape whose rows were there."""

    def __init__(self, stats: ShapeStats) -> None:
        self.stats = stats
        self.requests = self.queries = self.rows = 0
        self.places: dict[Place, int] = {}
        self.earlier: dict[Place, int] = {}
        self.column = ""
        self.source: ShapeStats | None = None

    def merge(self, other: Tally) -> None:
        """Add another piece's tally."""
        assert isinstance(other, Rereads)
        self.requests += other.requests
        self.queries += other.queries
        self.rows += other.rows
        add_counts(self.places, other.places)
        add_counts(self.earlier, other.earlier)


class AlreadyLoaded:
    """See the module."""

    name = NAME

    def look(self, view: RequestView, settings: Settings) -> None:
        """Find look-ups whose rows an earlier result of the request holds."""
        for group in view.groups:
            structure = group.stats.structure
            if len(group.indices) < settings.duplicate_least or structure is None or not _reads_rows(structure):
                continue
            self._look(view, group, structure, settings)

    def _look(self, view: RequestView, group: Group, structure: Structure, settings: Settings) -> None:
        """Trace the first requests of a shape in full; then go by what they showed."""
        tallies, digest = view.route.tallies, group.stats.shape.digest
        rejected = tallies.get((REJECTED, digest))
        if isinstance(rejected, Rejected) and rejected.times >= settings.examine_most:
            return
        earlier = _earlier(view, group.indices, structure)
        if earlier is not None:
            self._add(view, group.stats, group.indices, earlier, structure)
            return
        if not isinstance(rejected, Rejected):
            rejected = tallies[REJECTED, digest] = Rejected()
        rejected.times += 1

    def _add(
        self, view: RequestView, stats: ShapeStats, indices: list[int], earlier: int, structure: Structure
    ) -> None:
        request = view.request
        tally = view.route.tallies.get((NAME, stats.shape.digest))
        if not isinstance(tally, Rereads):
            tally = view.route.tallies[NAME, stats.shape.digest] = Rereads(stats)
        view.claimed.add(stats.shape.digest)
        tally.requests += 1
        tally.queries += len(indices)
        tally.rows += sum(request.rows[i] for i in indices)
        tally.source = view.route.shapes.get(request.statement(earlier).shape.digest)
        key = next((p.column.name for p in structure.predicates if p.operator in ("=", "in") and p.slots), "")
        tally.column = key
        add_places(tally.places, request, indices)
        add_places(tally.earlier, request, [earlier])

    def judge(self, route: RouteStats, context: Context, found: list[Finding]) -> Iterable[Finding]:
        """One finding a shape."""
        for tally in list(route.tallies.values()):
            if isinstance(tally, Rereads):
                yield _finding(route, tally, context)


def _reads_rows(structure: Structure) -> bool:
    return (
        structure.kind == "select"
        and not structure.aggregates
        and not structure.exists
        and not structure.locks
        and not structure.volatile
        and any(predicate.operator in ("=", "in") and predicate.slots for predicate in structure.predicates)
    )


def _earlier(view: RequestView, indices: list[int], structure: Structure) -> int | None:
    """The earlier query whose result holds the rows of all these look-ups, or None."""
    request = view.request
    rows = sum(request.rows[i] for i in indices)
    if not rows:
        return None
    wanted = _identities(request, indices, structure)
    if len(wanted) < 2:
        return None
    own = request.statement(indices[0]).shape.digest
    for i in range(indices[0]):
        statement = request.statement(i)
        if request.rows[i] < len(wanted) or not request.samples[i] or statement.shape.digest == own:
            continue
        above = structure_of(statement)
        if above is None or above.kind != "select" or not _holds(above, structure):
            continue
        seen = _identities(request, [i], above, structure.main)
        expected = len(wanted) if len(request.samples[i] or ()) >= request.rows[i] else min(len(wanted), len(seen))
        if (
            expected >= 2
            and len(wanted & seen) >= 0.9 * expected
            and not _written(view, i, indices[-1], structure.main)
        ):
            return i
    return None


def _written(view: RequestView, first: int, last: int, table: str) -> bool:
    return any(first < i < last and written == table.lower() for i, written in writes_of(view))


def _holds(above: Structure, structure: Structure) -> bool:
    """Whether a result has every column of the look-up's table that the look-up asks for."""
    if any(output.star for output in (*above.outputs, *structure.outputs)):
        return above.main == structure.main and any(output.star for output in above.outputs)
    asked = {(o.column.table, o.column.name) for o in structure.outputs if o.column.table == structure.main}
    there = {(o.column.table, o.column.name) for o in above.outputs}
    return bool(asked) and asked <= there


def _identities(request: Request, indices: list[int], structure: Structure, table: str = "") -> set[Value]:
    """The values of the column `id` (of `table`, else the main one) in the sampled rows of some results."""
    table = table or structure.main
    found: set[Value] = set()
    for i in indices:
        statement = request.statement(i)
        for position, column in enumerate(statement.sampled):
            if column < len(structure.outputs) and not any(output.star for output in structure.outputs):
                output = structure.outputs[column].column
                named = output.name.lower() in ("id", "pk") and output.table == table
            else:
                named = column < len(statement.columns) and statement.columns[column].lower() in ("id", "pk")
            if named:
                found.update(row[position] for row in request.samples[i] or () if position < len(row))
                break
    return found - {None}


def _finding(route: RouteStats, tally: Rereads, context: Context) -> Finding:
    stats = tally.stats
    structure = stats.structure
    assert structure is not None
    queries = tally.queries / tally.requests
    cost = cost_of(route, stats, queries, queries, tally.requests)
    lines, earlier = lines_of(tally.places), lines_of(tally.earlier)
    where = f" at {earlier[0].file}:{earlier[0].line}" if earlier else ""
    return finding_of(
        NAME, route, stats, context, tally.places, tally.requests,
        variant="",
        severity=severity(cost.share, cost.avoidable),
        title=f"{plural(queries, 'query')} where none is needed: rows of {structure.main} that an earlier query had fetched",
        evidence="traced",
        because=(
            f"these rows ({number(tally.rows / tally.requests)} a request), every column, were in an earlier result{where}",
            "no write to the table in between",
        ),
        cost=cost,
        source=earlier[0] if earlier else None,
        advice=reuse.of_loaded(stats, tally.source, tally.column, lines[0] if lines else None,
                               f"about {plural(queries, 'query')} and {cost.saving_ms:.2f} ms a request", context.models),
        unsure=("what somebody else wrote meanwhile is seen by the new query only",),
    )  # fmt: skip


PATTERN = AlreadyLoaded()
