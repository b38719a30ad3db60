"""n-plus-one: one shape run again and again in a request, each time with another key, the rest the
same.

Not flagged: batches of an eager load (IN with several values), pages by OFFSET or by key, locks, a
repetition whose keys are constants rather than values that flowed (that is sibling-filters), failed
queries and their retries.
"""

from __future__ import annotations

from collections.abc import Iterable
from decimal import Decimal

from askless.core.aggregation.request_view import Group, RequestView
from askless.core.aggregation.shape_stats import ShapeStats
from askless.core.aggregation.summary import RouteStats
from askless.core.findings.remedies import BulkUpsert, Key
from askless.core.findings.unavailable_fields import rows_hidden, values_hidden
from askless.core.inference.context import Context
from askless.core.inference.expiry import have_expired
from askless.core.inference.lineage import Source, find_source, is_convincing, origin_of, recursion
from askless.core.patterns import polymorphic
from askless.core.patterns.base import (
    ByRequests,
    Diagnosis,
    Rule,
    by_code,
    call_path,
    met_of,
    with_sample,
    written_between,
)
from askless.core.patterns.keys import key_of
from askless.core.patterns.loops import diagnosis_of
from askless.core.patterns.repetition import (
    Repetition,
    add_queries,
    add_source,
    by_shape,
    reject,
    rejections,
)
from askless.core.records.model import Load, Request, leads_back, relation_of
from askless.core.settings import Settings
from askless.core.sql.structure import Structure
from askless.core.sql.value_equality import meaning

RULE = Rule(
    "n-plus-one",
    "one query for each row",
    "one shape three or more times, each with another key: to-one, to-many, nested, through a "
    "link table, counts, exists, the first of each group",
    "batches of an eager load, pages, locks, constants in aggregates, retries",
    "urgent",
)


class NPlusOne(ByRequests[Repetition]):
    """See the module."""

    rule = RULE

    def look(self, view: RequestView, settings: Settings) -> None:
        """Find repetitions by key in one request; those by kind first, which are of several
        shapes.
        """
        polymorphic.look(view, settings)
        for group in view.groups:
            if (
                len(group.indices) < settings.repeat_least
                or group.stats.shape.digest in view.claimed
            ):
                continue
            parts = [
                _of_one_length(view.request, group.stats, part)
                for indices in by_code(view.request, group.indices)
                for part in _by_load(view.request, indices)
            ]
            for indices in parts:
                if len(indices) >= settings.repeat_least:
                    self._one(view, group, indices, settings)
            if len(parts) > 1 and max(map(len, parts)) < settings.repeat_least:
                # Several lines of one loop's body may take turns: then only values that flowed make
                # it a loop.
                self._one(view, group, group.indices, settings, only_traced=True)

    def _one(
        self,
        view: RequestView,
        group: Group,
        indices: list[int],
        settings: Settings,
        only_traced: bool = False,
    ) -> None:
        request, stats = view.request, group.stats
        load = request.load(indices[0])
        if _comes_with_lookups(view, load, indices):
            view.claimed.add(stats.shape.digest)
            return
        name = (stats.shape.digest, _relation(load), *call_path(request, indices[0]))
        tally = self.tallies(view.route).get(name)
        hidden = request.hides_values(indices)
        distinct = len(indices) if hidden else len(set(request.given(indices)))
        objects = len(indices) if _is_for_each_object(load) else distinct
        if objects < 2:
            return
        if tally is not None and tally.examined >= settings.examine_most:
            add_queries(tally, request, indices, distinct)
            view.claimed.add(stats.shape.digest)
            return
        if rejections(view.route, self.rule).get(name, 0) >= settings.examine_most:
            return
        examined = None
        if not _finds_before_it_makes(view, stats, indices):
            examined = _examine(request, stats, indices, objects, settings)
        if examined is None or (only_traced and examined[1] is None):
            reject(view.route, self.rule, name)
            return
        key, source = examined
        if tally is None:
            tally = Repetition(stats, key, _load_of(request, indices, key))
            self.tallies(view.route)[name] = tally
        _note(tally, request, indices, hidden)
        tally.loaded_before += _were_loaded(request, indices, key, tally.load)
        tally.expired += have_expired(request, indices, tally.load)
        add_queries(tally, request, indices, distinct)
        view.claimed.add(stats.shape.digest)
        if source is not None:
            add_source(tally, request, source)

    def judge(
        self, route: RouteStats, context: Context, diagnoses: list[Diagnosis]
    ) -> Iterable[Diagnosis]:
        """Turn what was met in a route into findings, parents before their children."""
        tallies = list(self.tallies(route).values())
        above = by_shape(tallies)
        yield from polymorphic.judge(route, RULE, context)
        kinds = {shape for tally in polymorphic.tallies_of(route) for shape in tally.shapes}
        covered = kinds | {
            one.finding.shape for one in diagnoses if isinstance(one.remedy, BulkUpsert)
        }
        for tally in tallies:
            # in other requests of the route all rows may have been there
            if tally.stats.shape.digest not in covered:
                met = met_of(tally, route, context)
                yield with_sample(diagnosis_of(RULE, tally, above, met), tally)


def _comes_with_lookups(view: RequestView, load: Load | None, indices: list[int]) -> bool:
    """Whether these are eager loads that come with lookups that are a repetition themselves, or are
    batches; else they were called for object by object.
    """
    if load is None or load.kind != "eager":
        return False
    request = view.request
    keys = [len(request.values(i)) for i in indices[:8]]
    if max(keys, default=0) > 1:
        return True
    return any(
        (parent := request.load(group.indices[0])) is not None
        and parent.target == load.model
        and len(group.indices) * 2 >= len(indices)
        for group in view.groups
    )


def _note(tally: Repetition, request: Request, indices: list[int], hidden: bool) -> None:
    """What is known of lookups only once they were examined."""
    tally.examined += 1
    if hidden:
        tally.hidden = values_hidden(request.tables)
    tally.rows_hidden = tally.rows_hidden or rows_hidden(request.tables)
    if tally.limit != 0:
        tally.limit_rows(_limit_of(request, tally.stats.parsed, indices))
    ended_ns = request.starts_ns[indices[-1]] + request.durations_ns[indices[-1]]
    tally.span_ns += ended_ns - request.starts_ns[indices[0]]


def _were_loaded(request: Request, indices: list[int], key: Key, load: Load | None) -> bool:
    """Whether an earlier eager load of the same relation was for most of the objects that are
    looked up: another list of the same page may be loaded without it.
    """
    if load is None or load.kind != "lazy" or not load.relation:
        return False
    eager = {
        number
        for number, one in request.tables.loads.items()
        if (one.kind, one.model, one.relation) == ("eager", load.model, load.relation)
    }
    if not eager:
        return False
    loaded = {
        meaning(value)
        for i in range(indices[0])
        if request.loads[i] in eager
        for given in request.values(i)
        for value in (given if isinstance(given, (list, tuple)) else (given,))
    }
    keys = {meaning(key.value(request.values(i))) for i in indices}
    return 2 * len(keys & loaded) > len(keys)


def _finds_before_it_makes(view: RequestView, stats: ShapeStats, indices: list[int]) -> bool:
    """Whether these lookups found nothing and what they looked for was then written: no batch is
    read in their place.
    """
    structure = stats.structure
    if structure is None or any(view.request.rows[i] for i in indices):
        return False
    return written_between(view, indices[0], indices[-1] + 2, {structure.main.lower()})


def _by_load(request: Request, indices: list[int]) -> list[list[int]]:
    """Lookups by what the ORM said of them: one helper may load several relations that lead to one
    table.
    """
    groups: dict[int, list[int]] = {}
    for i in indices:
        groups.setdefault(request.loads[i], []).append(i)
    return list(groups.values())


def _of_one_length(request: Request, stats: ShapeStats, indices: list[int]) -> list[int]:
    """Lookups without the batches that share their shape, a list of one being a list; all where
    most are batches.
    """
    if not stats.shape.has_list:
        return indices
    lengths = [len(request.values(i)) for i in indices]
    shortest = min(lengths)
    least = [i for i, length in zip(indices, lengths, strict=True) if length == shortest]
    return least if len(least) * 2 > len(indices) else indices


def _load_of(request: Request, indices: list[int], key: Key) -> Load | None:
    """What the ORM said of all these lookups; None if the relation that it names has another key
    than what varies.
    """
    if len({request.loads[i] for i in indices}) > 1:
        return None
    load = request.load(indices[0])
    relation = relation_of(load, request.tables.models)
    if (
        relation is not None
        and relation.remote
        and key.column.name.lower() not in map(str.lower, relation.remote)
    ):
        return None
    return load


def _examine(
    request: Request, stats: ShapeStats, indices: list[int], objects: int, settings: Settings
) -> tuple[Key, Source | None] | None:
    """The key of a repetition and the source of its keys where they were seen to flow; None if it
    is none.

    `objects` are those for which it was asked: as many as different keys, unless the ORM knows
    better.
    """
    structure = stats.structure
    if structure is None or not structure.repeatable:
        return None
    rows = [request.values(i) for i in indices]
    result = key_of(structure, rows)
    if result is None:
        return None
    keys = [result.value(row) for row in rows]
    only = origin_of(_load_of(request, indices, result), request.tables.models)
    source = find_source(
        request, indices, keys, result.column.table or structure.main, result.column.name, only
    )
    if only is not None and leads_back(request.load(indices[0])):
        source = recursion(request, indices, keys, only) or source
    if source is not None and is_convincing(source):
        return result, source
    # Aggregates by a constant are sibling filters; two keys may be two lookups.
    if objects < settings.repeat_least or structure.aggregates:
        return None
    return result, None


def _limit_of(request: Request, structure: Structure, indices: list[int]) -> int:
    """The LIMIT that each lookup has; 0 if there is none, not always the same or an offset."""
    limit, offset = structure.limit_slot, structure.offset_slot
    if limit is None:
        return 0
    limits = set()
    for i in indices[:8]:
        row = request.values(i)
        if offset is not None and (offset >= len(row) or meaning(row[offset]) != 0):
            return 0
        limits.add(meaning(row[limit]) if limit < len(row) else None)
    most = limits.pop()
    return int(most) if not limits and isinstance(most, int | Decimal) and most == int(most) else 0


def _relation(load: Load | None) -> str:
    return f"{load.model}.{load.relation}" if load is not None and load.relation else ""


def _is_for_each_object(load: Load | None) -> bool:
    """Whether each lookup is for another object, even with equal keys: an ORM caches the to-one
    relation that it loaded for an object.
    """
    return load is not None and load.kind == "lazy" and bool(load.relation) and not load.many


PATTERN = NPlusOne()
