"""n-plus-one: one shape run again and again in a request, each time with another key, the rest the same.

Not flagged: batches of an eager load (IN with several values), pages by OFFSET or by key, locks, a repetition whose
keys are constants rather than values that flowed (that is sibling-filters), failed queries and their retries.
"""

from __future__ import annotations

from collections.abc import Iterable

import msgspec

from askless.core.context import Context
from askless.core.findings import severity
from askless.core.lineage import Source, find_source, is_convincing, origin_of
from askless.core.model import Load, Request
from askless.core.paths import from_query
from askless.core.patterns.base import (
    ByRequests,
    Claim,
    Diagnosis,
    Met,
    Rule,
    by_code,
    call_path,
    lines_of,
    met_of,
    spared,
    written_between,
)
from askless.core.patterns.repetition import (
    Repetition,
    add_queries,
    add_source,
    chain_of,
    main_source,
    parent_line_of,
    reject,
    rejections,
)
from askless.core.recipes import Batch, Key, Variant
from askless.core.settings import Settings
from askless.core.shape_stats import ShapeStats
from askless.core.sql.meaning import meaning, single
from askless.core.sql.slots import Value
from askless.core.sql.structure import Predicate, Structure
from askless.core.summary import RouteStats
from askless.core.view import Group, RequestView
from askless.core.words import number, plural

RULE = Rule(
    "n-plus-one",
    "one query for each row",
    "one shape three times or more, each time with another key: to-one, to-many, nested, through a link table, counts, exists, "
    "the first of each group",
    "batches of an eager load, pages, locks, constants in aggregates, retries",
    "urgent",
)


# Functions around a column that leave a key a key. What an index on the bare column makes of it is another matter.
_SAME_KEY = ("", "cast", "collate", "jsonextract", "jsonextractscalar", "jsonbextract", "jsonbextractscalar")


def varying(rows: list[tuple[Value, ...]]) -> list[int] | None:
    """Positions whose values differ between the queries; None where the queries have different numbers of values."""
    if len(set(map(len, rows))) != 1:
        return None
    return [position for position, column in enumerate(zip(*rows, strict=True)) if len(set(column)) > 1]


def lookup(structure: Structure, slot: int) -> Predicate | None:
    """The key look-up that a slot is part of: an equality, or an IN of this one value."""
    for predicate in structure.predicates:
        if slot in predicate.slots:
            alone = predicate.operator == "in" and len(predicate.slots) == 1
            return predicate if predicate.operator in ("=", "any") or alone else None
    return None


class NPlusOne(ByRequests[Repetition]):
    """See the module."""

    rule = RULE

    def look(self, view: RequestView, settings: Settings) -> None:
        """Find repetitions by key in one request."""
        for group in view.groups:
            if len(group.indices) < settings.repeat_least or group.stats.shape.digest in view.claimed:
                continue
            parts = [
                part for indices in by_code(view.request, group.indices) for part in _by_load(view.request, indices)
            ]
            for indices in parts:
                if len(indices) >= settings.repeat_least:
                    self._one(view, group, indices, settings)
            if len(parts) > 1 and max(map(len, parts)) < settings.repeat_least:
                # Several lines of one loop's body may take turns: then only values that flowed make it a loop.
                self._one(view, group, group.indices, settings, only_traced=True)

    def _one(
        self, view: RequestView, group: Group, indices: list[int], settings: Settings, only_traced: bool = False
    ) -> None:
        request, stats = view.request, group.stats
        load = request.load(indices[0])
        asked_for = f"{load.model}.{load.relation}" if load is not None and load.relation else ""
        name = (stats.shape.digest, asked_for, *call_path(request, indices[0]))
        tally = self.tallies(view.route).get(name)
        distinct = len(set(request.given(indices)))
        if load is not None and load.kind == "eager":
            view.claimed.add(stats.shape.digest)  # it comes with look-ups that are a repetition themselves
            return
        # An ORM caches what it loaded for an object: the same row again and again is for as many objects.
        shared = load is not None and load.kind == "lazy" and bool(load.relation) and not load.many
        objects = len(indices) if shared else distinct
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
            tally = self.tallies(view.route)[name] = Repetition(stats, key, _load_of(request, indices, key))
        tally.examined += 1
        tally.first_only = tally.first_only and _first_only(request, stats.parsed, indices)
        first, last = indices[0], indices[-1]
        tally.span_ns += request.starts_ns[last] + request.durations_ns[last] - request.starts_ns[first]
        add_queries(tally, request, indices, distinct)
        view.claimed.add(stats.shape.digest)
        if source is not None:
            add_source(tally, request, source)

    def judge(self, route: RouteStats, context: Context, found: list[Diagnosis]) -> Iterable[Diagnosis]:
        """Turn what was met in a route into findings, parents before their children."""
        tallies = list(self.tallies(route).values())
        for tally in tallies:
            yield _diagnosis(tally, tallies, met_of(tally, route, context))


def _finds_before_it_makes(view: RequestView, stats: ShapeStats, indices: list[int]) -> bool:
    """Whether these look-ups found nothing and what they looked for was then written: no batch is read in their place."""
    structure = stats.structure
    if structure is None or any(view.request.rows[i] for i in indices):
        return False
    return written_between(view, indices[0], indices[-1] + 2, {structure.main.lower()})


def _by_load(request: Request, indices: list[int]) -> list[list[int]]:
    """Look-ups by what the ORM said of them: one helper may load several relations that lead to one table."""
    groups: dict[int, list[int]] = {}
    for i in indices:
        groups.setdefault(request.loads[i], []).append(i)
    return list(groups.values())


def _load_of(request: Request, indices: list[int], key: Key) -> Load | None:
    """What the ORM said of all these look-ups; None where the relation that it names has another key than what varies."""
    if len({request.loads[i] for i in indices}) > 1:
        return None
    load = request.load(indices[0])
    model = request.tables.models.get((load.orm, load.model)) if load is not None else None
    relation = model.relations.get(load.relation) if model is not None and load is not None else None
    if relation is not None and relation.remote and key.column.name.lower() not in map(str.lower, relation.remote):
        return None
    return load


def _examine(
    request: Request, stats: ShapeStats, indices: list[int], objects: int, settings: Settings
) -> tuple[Key, Source | None] | None:
    """The key of a repetition and the source of its keys where they were seen to flow; None if it is none.

    `objects` are those for which it was asked: as many as different keys, unless the ORM knows better.
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
    source = find_source(request, indices, keys, result.column.table or structure.main, result.column.name, only)
    if source is not None and is_convincing(source):
        return result, source
    # Aggregates by a constant are sibling filters; two keys may be two look-ups.
    if objects < settings.repeat_least or structure.aggregates:
        return None
    return result, None


def key_of(structure: Structure, rows: list[tuple[Value, ...]]) -> Key | None:
    """The key that varies; None where something else varies too, or what varies is no key."""
    positions = varying(rows)
    if positions == [] and len(rows) > 1:
        positions = _keys_of_one_row(structure)
    if not positions:
        return None
    keys = []
    for position in positions:
        predicate = lookup(structure, position)
        if predicate is None or not (predicate.alike or predicate.inside in _SAME_KEY):
            return None
        listed = predicate.operator == "any"
        if listed and not all(single(row[position])[0] for row in rows):
            return None  # a batch
        keys.append(Key(position, predicate.column, listed))
    # A composite key varies as a whole; the column with the most values names it.
    return max(keys, key=lambda key: len({row[key.slot] for row in rows}))


def _keys_of_one_row(structure: Structure) -> list[int]:
    """The slot of the only key of a look-up whose values are all the same."""
    slots = [p.slots[0] for p in structure.predicates if p.operator == "=" and p.required and len(p.slots) == 1]
    return slots if len(slots) == 1 else []


def _first_only(request: Request, structure: Structure, indices: list[int]) -> bool:
    """Whether each look-up has a LIMIT of one row."""
    limit, offset = structure.limit_slot, structure.offset_slot
    if limit is None:
        return False
    for i in indices[:8]:
        row = request.values(i)
        if limit >= len(row) or meaning(row[limit]) != 1:
            return False
        if offset is not None and (offset >= len(row) or meaning(row[offset]) != 0):
            return False
    return True


def variant_of(tally: Repetition, context: Context, above: Structure | None = None) -> Variant:
    """What the look-ups ask for. `above` is the statement that supplied the keys, where it is known."""
    structure = tally.stats.parsed
    if structure.exists:
        return Variant.EXISTS
    if structure.aggregates:
        return Variant.COUNT if structure.counts else Variant.AGGREGATE
    load = tally.load
    if tally.first_only and not tally.rows_more and not (load is not None and load.relation and not load.many):
        unique = context.schema is not None and context.schema.is_unique(structure.main, tally.key.column.name)
        if structure.order_by and not unique:
            return Variant.FIRST
    if load is not None and load.kind == "lazy" and load.relation:
        model = context.models.get((load.orm, load.model))
        relation = model.relations.get(load.relation) if model is not None else None
        if relation is not None and relation.link:
            return Variant.LINK_TABLE
        return Variant.TO_MANY if load.many else Variant.TO_ONE
    seen = Variant.TO_MANY if tally.rows_more else Variant.TO_ONE
    column, source = tally.key.column, tally.source
    table = column.table or structure.main
    own = source is not None and source.table == table and source.column == column.name
    if table != structure.main and structure.joins:
        # The key stands on a joined table: a link table, or a needless join to the parent itself.
        return seen if own else Variant.LINK_TABLE
    if own:
        return Variant.SAME_ROW if _asks_more(structure, above) else seen
    if context.schema is not None and context.schema.table(table) is not None:
        return Variant.TO_ONE if context.schema.is_unique(table, column.name) else Variant.TO_MANY
    return seen


def _asks_more(structure: Structure, above: Structure | None) -> bool:
    """Whether a look-up asks for a column of its table that the statement before it did not have."""
    if above is None or any(output.star for output in structure.outputs):
        return not any(output.star for output in above.outputs) if above is not None else True
    if any(output.star for output in above.outputs):
        return False
    there = {output.column for output in above.outputs}
    return any(output.column not in there for output in structure.outputs if output.column.table == structure.main)


_VERBS = {Variant.FIRST: "reads the first row of", Variant.COUNT: "counts rows of", Variant.EXISTS: "asks whether there are rows in", Variant.AGGREGATE: "aggregates rows of"}  # fmt: skip
_BRIEFS = {
    Variant.FIRST: "first row of ",
    Variant.COUNT: "count of ",
    Variant.EXISTS: "existence of ",
    Variant.AGGREGATE: "aggregate of ",
}
_NESTED = (Variant.TO_ONE, Variant.TO_MANY, Variant.LINK_TABLE)


def _diagnosis(tally: Repetition, tallies: list[Repetition], met: Met) -> Diagnosis:
    requests, structure = tally.requests, met.structure
    queries = tally.queries / requests
    cost = met.cost(queries, queries - 1, tally.span_ns / tally.examined / 1e6)
    supplier = met.route.shapes.get(main_source(tally))
    variant = variant_of(tally, met.context, supplier.structure if supplier is not None else None)
    chain = chain_of(tally, tallies)
    column = tally.key.column
    table = column.table or structure.main
    counted = "1 + " + " + ".join(number(one.queries / one.requests) for one in chain)
    nested = len(chain) > 1 and variant in _NESTED
    source = tally.source
    parent = f" for each row of {source.table or 'an earlier result'}" if source else ""
    verb = _VERBS.get(variant, "reads")
    title = f"{plural(queries, 'query')} where 1 would do: {verb} {structure.main or table} by {column.name}{parent} ({counted})"
    evidence, because = _evidence(tally, table, met.context)
    if len(chain) > 1:
        because.append("the whole path, outermost first: " + " → ".join(_path_names(chain)))
    if tally.repeats:
        because.append(f"{tally.repeats} of the {tally.queries} look-ups repeat a key that was read already")
    claim = Claim(
        variant=f"nested {variant}" if nested else str(variant),
        severity=severity(cost.share, cost.avoidable),
        title=title,
        brief=f"{_BRIEFS.get(variant, '')}{structure.main or table} by {column.name} ({counted})",
        evidence=evidence,
        because=tuple(because),
        cost=cost,
        unsure=_doubts(tally, evidence),
        source=parent_line_of(tally),
    )
    load = tally.load
    relation = f"{load.model}.{load.relation}" if load is not None and load.relation else ""
    finding = msgspec.structs.replace(met.finding(RULE, claim), relation=relation)
    return Diagnosis(finding, _recipe(tally, chain, variant, table, met))


def _path_names(chain: list[Repetition]) -> list[str]:
    first = chain[0].source
    names = [first.table or "the first query"] if first else []
    for one in chain:
        structure = one.stats.structure
        load = one.load
        names.append(
            f"{load.model}.{load.relation}" if load and load.relation else structure.main if structure else "?"
        )
    return names


def _evidence(tally: Repetition, table: str, context: Context) -> tuple[str, list[str]]:
    load = tally.load
    because = []
    if load is not None and load.kind == "lazy" and load.relation:
        because.append(f"the ORM loads {load.model}.{load.relation} lazily, object by object")
    if _only_counted(tally):
        because.append("none of the objects loaded was looked at: only their number can have mattered")
    source = tally.source
    if source is not None:
        where = f"{source.table}.{source.column}" if source.table else f"column {source.column}"
        because.insert(
            0,
            f"{source.matched} of {source.keys} keys were seen in {where} of an earlier result ({plural(source.rows, 'row')})"
            + (", in the same order" if source.in_order else "")
            + (
                "; the rows beyond the first 32 are not kept"
                if source.matched < source.keys and source.rows > 32
                else ""
            ),
        )
        return "traced", because
    schema = context.schema
    if schema is not None and schema.table(table) is not None:
        name = tally.key.column.name
        key = schema.foreign_key(table, name)
        if key is not None:
            return "keyed", [*because, f"{table}.{name} is a foreign key to {key.table}"]
        if schema.is_unique(table, name):
            return "keyed", [*because, f"{table}.{name} is a key of {table}"]
    return "repeated", [
        *because,
        f"the same statement ran with {number(tally.queries / tally.requests)} keys in one request",
    ]


def _doubts(tally: Repetition, evidence: str) -> tuple[str, ...]:
    doubts = []
    if evidence == "repeated":
        doubts.append("no earlier result was seen to supply the keys: they may come from outside the database")
    if tally.requests == 1:
        doubts.append("seen in one request only; record more to know how it grows")
    return tuple(doubts)


def _recipe(tally: Repetition, chain: list[Repetition], variant: Variant, table: str, met: Met) -> Batch:
    top = chain[0]
    queries = tally.queries / tally.requests
    own = {tally.key.column.name, *_columns_of(tally.load, met.context)}
    others = [p for p in met.structure.predicates if p.column.name not in own]
    above = _eager_above(top, met.route)
    path = (*above, *(one.load for one in chain if one.load is not None))
    root = _root(top, path, met)
    rooted = above or not top.source
    hanging = next(iter(lines_of(root.places)), None) if rooted and root is not None else None
    return Batch(
        stats=met.stats,
        line=met.line,
        saving=spared(queries - 1, met.cost(queries, queries - 1).saving_ms),
        key=tally.key,
        table=table,
        variant=variant,
        loop=top.stats.shape.digest,
        depth=len(chain),
        queries=queries,
        load=tally.load,
        source=tally.source,
        root=root,
        path=path if len(path) == len(above) + len(chain) else (),
        parent=met.route.shapes.get(main_source(tally)),
        parent_key=chain[-2].key.column if len(chain) > 1 else None,
        parent_line=hanging or parent_line_of(top) or parent_line_of(tally),
        only_counted=_only_counted(tally),
        conditions=bool(others),
    )


def _only_counted(tally: Repetition) -> bool:
    """Whether it was tracked what became of the rows, and nothing did."""
    totals = tally.stats.used.get(tally.load.target) if tally.load is not None else None
    return totals is not None and totals.objects >= 2 and not totals.touched


def _columns_of(load: Load | None, context: Context) -> tuple[str, ...]:
    """The columns by which a relation finds its rows: a generic one has a type beside its key."""
    model = context.models.get((load.orm, load.model)) if load is not None else None
    relation = model.relations.get(load.relation) if model is not None and load is not None else None
    return relation.remote if relation is not None else ()


def _root(top: Repetition, path: tuple[Load, ...], met: Met) -> ShapeStats | None:
    """The ORM's query that the path hangs on: the one that supplied the keys, else the only one of the route that can be."""
    source = met.route.shapes.get(main_source(top))
    if source is not None and (source.load is None or source.load.kind == "query"):
        return source if source.load is not None else None
    results = [
        stats
        for stats in met.route.own_shapes()
        if (load := stats.load) is not None
        and load.kind == "query"
        and (structure := stats.structure) is not None
        and not structure.aggregates
        and from_query(path, load, structure, met.context.models) is not None
    ]
    return results[0] if len(results) == 1 else None


def _eager_above(top: Repetition, route: RouteStats) -> list[Load]:
    """The relations that are loaded eagerly above a repetition: advice must name the path from the first query on."""
    source = route.shapes.get(main_source(top))
    results: list[Load] = []
    load = source.load if source is not None else None
    while load is not None and load.kind == "eager" and load.relation and load not in results:
        results.insert(0, load)
        load = next(
            (
                above
                for stats in route.own_shapes()
                if (above := stats.load) and above.kind == "eager" and above.target == load.model
            ),
            None,
        )
    return results


PATTERN = NPlusOne()
