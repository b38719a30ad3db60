"""What an n-plus-one adds up to over the requests of a route, and how repetitions are related."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from askless.core.aggregation.shape_stats import ShapeStats
from askless.core.aggregation.summary import RouteStats, Tally
from askless.core.findings.finding import SourceLine
from askless.core.findings.remedies import Key
from askless.core.formatting import plural
from askless.core.inference.lineage import Source
from askless.core.patterns.base import Rule, ShapeTally, add_counts, add_places, lines_of
from askless.core.records.model import SAMPLED_MOST, CallSite, Load, Request


class Repetition(ShapeTally):
    """What one repetition added up to. `sources` counts the statements that supplied the keys.

    `load` is what the ORM said of these very lookups: others of the same shape may be for another
    relation.
    """

    def __init__(self, stats: ShapeStats, key: Key, load: Load | None) -> None:
        super().__init__(stats)
        self.key = key
        self.load = load
        self.repeats = 0
        self.examined = 0
        # examined requests in which an eager load had brought the same relation of most objects
        self.loaded_before = 0
        self.expired = 0
        # from the first query's start to the last one's end, summed over the examined requests
        self.span_ns = 0
        self.rows_more = False
        # the LIMIT that each lookup so far had; 0 if there was none, not always the same or an offset
        self.limit: int | None = None
        self.sources: dict[tuple[str, str, str], int] = {}
        self.parent_places: dict[CallSite, int] = {}
        self.source: Source | None = None
        self.levels = 0  # of a tree that the lookups walk, at most
        self.hidden = ""  # the doubt where the values were not seen,
        self.rows_hidden = ""  # and where the rows were not

    def merge(self, other: Tally) -> None:
        """Add another piece's tally of the same repetition."""
        super().merge(other)
        assert isinstance(other, Repetition)
        self.repeats += other.repeats
        self.examined += other.examined
        self.loaded_before += other.loaded_before
        self.expired += other.expired
        self.span_ns += other.span_ns
        self.rows_more = self.rows_more or other.rows_more
        self.limit_rows(other.limit)
        add_counts(self.parent_places, other.parent_places)
        for key, count in other.sources.items():
            self.sources[key] = self.sources.get(key, 0) + count
        self.source = self.source or other.source
        self.levels = max(self.levels, other.levels)
        self.hidden = self.hidden or other.hidden
        self.rows_hidden = self.rows_hidden or other.rows_hidden

    def limit_rows(self, most: int | None) -> None:
        """Note the LIMIT of more lookups."""
        if most is not None:
            self.limit = most if self.limit in (None, most) else 0


class Rejections(dict[tuple[str, ...], int]):
    """How often something was looked at and found to be none of a pattern; after some times it is
    not looked at again.
    """

    def merge(self, other: Tally) -> None:
        """Add another piece's counts."""
        assert isinstance(other, Rejections)
        for key, times in other.items():
            self[key] = self.get(key, 0) + times


def rejections(route: RouteStats, rule: Rule) -> Rejections:
    """What a pattern has rejected in a route so far."""
    result = route.tallies.setdefault("not " + rule.id, {}).setdefault((), Rejections())
    assert isinstance(result, Rejections)
    return result


def reject(route: RouteStats, rule: Rule, key: tuple[str, ...]) -> None:
    """Count one more rejection."""
    known = rejections(route, rule)
    known[key] = known.get(key, 0) + 1


def add_queries(tally: Repetition, request: Request, indices: list[int], distinct: int) -> None:
    """Add one request's lookups; of their places a sample, once there are many requests."""
    count = len(indices)
    tally.requests += 1
    tally.queries += count
    tally.repeats += count - distinct
    tally.time(request, indices)
    if tally.requests <= 64 or tally.requests % 16 == 0:
        add_places(tally.places, request, indices)
    tally.rows_more = tally.rows_more or max(request.rows[i] for i in indices) > 1


def add_source(tally: Repetition, request: Request, source: Source) -> None:
    """Add what supplied the keys in one request."""
    statement = request.tables.statements[source.statement]
    key = (statement.shape.digest, source.table, source.column)
    tally.sources[key] = tally.sources.get(key, 0) + 1
    tally.source = source
    tally.levels = max(tally.levels, source.levels)
    add_places(tally.parent_places, request, [source.first])


ByShape = Mapping[str, Sequence[Repetition]]


def by_shape(tallies: Iterable[Repetition]) -> ByShape:
    """Repetitions of a route by the digests of their shapes."""
    results: dict[str, list[Repetition]] = {}
    for tally in tallies:
        results.setdefault(tally.stats.shape.digest, []).append(tally)
    return results


def chain_of(tally: Repetition, tallies: ByShape) -> list[Repetition]:
    """The repetition and the repetitions above it, outermost first. `tallies` are those of the
    route. One that loads expired objects again is none: it gives no rows but those above.
    """
    chain = [tally]
    while True:
        digest = main_source(chain[0])
        above = next(
            (one for one in tallies.get(digest, ()) if one not in chain and not _is_again(one)),
            None,
        )
        if above is None:
            return chain
        chain.insert(0, above)


def _is_again(tally: Repetition) -> bool:
    return tally.load is not None and tally.load.kind == "refresh"


def main_source(tally: Repetition) -> str:
    """The digest of the shape that most often supplied the keys; '' where none was seen."""
    return max(tally.sources, key=lambda key: tally.sources[key])[0] if tally.sources else ""


def parent_line_of(tally: Repetition) -> SourceLine | None:
    """The line that most often supplied the keys."""
    return most_used(tally.parent_places)


def most_used(places: dict[CallSite, int]) -> SourceLine | None:
    """The line of most of the places; None of none."""
    return lines_of({max(places, key=lambda place: places[place]): 1})[0] if places else None


def flow_of(source: Source) -> str:
    """Where the keys were seen, as evidence."""
    where = f"{source.table}.{source.column}" if source.table else f"column {source.column}"
    is_cut = source.matched < source.keys and source.rows > SAMPLED_MOST
    caveat = f"; only the first {SAMPLED_MOST} rows are recorded" if is_cut else ""
    order = ", in the same order" if source.in_order else ""
    return (
        f"{source.matched} of {source.keys} keys are in {where} of an earlier result "
        f"({plural(source.rows, 'row')}){order}{caveat}"
    )
