"""What a repetition comes to: which variant it is, the evidence, the doubts, and the remedy that
fixes it.
"""

from __future__ import annotations

import msgspec

from askless.core.advice.orm import words_of
from askless.core.aggregation.shape_stats import ShapeStats
from askless.core.findings.finding import Cost, SourceLine, severity
from askless.core.findings.remedies import Batch, Variant
from askless.core.formatting import number, plural
from askless.core.inference.context import Context
from askless.core.inference.relation_paths import from_query
from askless.core.inference.required_columns import ROW_IDS
from askless.core.patterns.base import (
    Diagnosis,
    FindingDraft,
    Match,
    Rule,
    eager_path,
    lines_of,
    spared,
)
from askless.core.patterns.repetition import (
    ByShape,
    Repetition,
    chain_of,
    flow_of,
    main_source,
    parent_line_of,
)
from askless.core.records.model import Load, leads_back, relation_of
from askless.core.sql.structure import Column, Structure


def variant_of(tally: Repetition, context: Context, above: Structure | None = None) -> Variant:
    """What the lookups ask for. `above` is the statement that supplied the keys, if it is known."""
    structure = tally.stats.parsed
    if structure.exists:
        return Variant.EXISTS
    if structure.aggregates:
        return Variant.COUNT if structure.counts else Variant.AGGREGATE
    if structure.extreme is not None:
        return Variant.FIRST
    if _is_first_of_many(tally, context):
        return Variant.FIRST if tally.limit == 1 else Variant.FEW
    load = tally.load
    if load is not None and load.kind == "refresh":  # columns that were left out, by whatever way
        return Variant.SAME_ROW
    if load is not None and load.kind == "lazy" and load.relation:
        return _by_relation(load, context)
    return _by_columns(tally, context, above)


def _by_relation(load: Load, context: Context) -> Variant:
    """The variant as the ORM says it."""
    relation = relation_of(load, context.models)
    if relation is not None and relation.link:
        return Variant.LINK_TABLE
    return Variant.TO_MANY if load.many else Variant.TO_ONE


def _is_first_of_many(tally: Repetition, context: Context) -> bool:
    """Whether the lookups take the first few of several ordered rows that a key may have."""
    structure, load = tally.stats.parsed, tally.load
    if not tally.limit or not structure.order_by or (tally.limit == 1 and tally.rows_more):
        return False
    if load is not None and load.relation and not load.many:
        return False
    if all(column.name == tally.key.column.name for column, _ in structure.order_by):
        return False  # the key is the same in all of its rows
    schema = context.schema
    return schema is None or not schema.is_unique(structure.main, tally.key.column.name)


def _by_columns(tally: Repetition, context: Context, above: Structure | None) -> Variant:
    """The variant where no ORM named the relation: by the keys' column, by the rows that came."""
    structure = tally.stats.parsed
    seen = _by_rows(tally)
    column, source = tally.key.column, tally.source
    table = column.table or structure.main
    own = source is not None and source.table == table and source.column == column.name
    if table != structure.main and structure.joins:
        # The key is on a joined table: a link table, or a needless join to the parent itself.
        near = structure.nearest(column)
        if near.table != structure.main:
            return seen if own and near == column else Variant.LINK_TABLE
        column, table, own = near, near.table, False
    if table == structure.main and _linked(structure, column):
        return Variant.LINK_TABLE
    if own:
        more = _asks_more(structure, above, tally.stats.statement.columns)
        return Variant.SAME_ROW if more else seen
    return _by_schema(table, column.name, context) or seen


def _by_schema(table: str, column: str, context: Context) -> Variant | None:
    """The variant as the schema says it; None where it is not known."""
    schema = context.schema
    if schema is None or schema.table(table) is None:
        return None
    return Variant.TO_ONE if schema.is_unique(table, column) else Variant.TO_MANY


def _linked(structure: Structure, key: Column) -> str:
    """The table whose rows are read through the main one, a link table: it is joined, and nothing
    but the key is asked of the main one; '' if it is none.
    """
    joined = {column.table for join in structure.joins for column in (join.left, join.right)}
    read = {output.column for output in structure.outputs if output.column.name} - {key}
    tables = {column.table for column in read}
    if len(tables) != 1 or any(output.star for output in structure.outputs):
        return ""
    (table,) = tables
    return table if table in joined and table != structure.main else ""


def _by_rows(tally: Repetition) -> Variant:
    """To-many where a key had more than one row; where no one saw them a batch is right for
    both.
    """
    several = tally.rows_more
    if tally.rows_hidden:
        several = tally.key.column.name.lower() not in ROW_IDS
    return Variant.TO_MANY if several else Variant.TO_ONE


def _asks_more(structure: Structure, above: Structure | None, columns: tuple[str, ...]) -> bool:
    """Whether a lookup, whose result has these columns, asks for one of its table that the
    statement before it had not.
    """
    if above is None:
        return True
    if any(output.star for output in above.outputs):
        return False
    if any(output.star for output in structure.outputs):
        named = {
            output.column.name.lower()
            for output in above.outputs
            if output.column.table == structure.main
        }
        return not columns or not set(map(str.lower, columns)) <= named
    there = {output.column for output in above.outputs}
    return any(
        output.column not in there
        for output in structure.outputs
        if output.column.table == structure.main
    )


_VERBS = {
    Variant.FIRST: "reads the first row of",
    Variant.FEW: "reads the first rows of",
    Variant.COUNT: "counts rows of",
    Variant.EXISTS: "checks for rows in",
    Variant.AGGREGATE: "aggregates rows of",
}
_BRIEFS = {
    Variant.FIRST: "first row of ",
    Variant.FEW: "first rows of ",
    Variant.COUNT: "count of ",
    Variant.EXISTS: "existence of ",
    Variant.AGGREGATE: "aggregate of ",
}
_NESTED = (Variant.TO_ONE, Variant.TO_MANY, Variant.LINK_TABLE)


def diagnosis_of(rule: Rule, tally: Repetition, tallies: ByShape, met: Match) -> Diagnosis:
    """The finding and the remedy of a repetition. `tallies` are those of its route."""
    structure = met.structure
    queries = tally.per_request
    supplier = met.route.shapes.get(main_source(tally))
    variant = variant_of(tally, met.context, supplier.structure if supplier is not None else None)
    chain = chain_of(tally, tallies)
    remaining = _remaining(tally, variant, _held_above(chain, variant))
    cost = met.cost(queries, queries - remaining, tally.span_ns / tally.examined / 1e6)
    column = tally.key.column
    table = column.table or structure.main
    by = structure.nearest(column).name
    counted = _counted(chain)
    nested = len(chain) > 1 and variant in _NESTED
    name = _table_read(tally, variant, met.context) or table
    where = f"{number(remaining)} would do" if remaining else "none is needed"
    verb = _VERBS.get(variant, "reads")
    title = (
        f"{plural(queries, 'query')} where {where}: {verb} {name} by {by}{_parent(tally)}{counted}"
    )
    evidence, because = _evidence(tally, table, met.context)
    if len(chain) > 1:
        because.append("the whole path, outermost first: " + " → ".join(_path_names(chain)))
    if tally.repeats:
        because.append(
            f"{tally.repeats} of the {tally.queries} lookups repeat a key that was already read"
        )
    claim = FindingDraft(
        variant=f"nested {variant}" if nested else str(variant),
        severity=severity(cost.share, cost.avoidable),
        title=title,
        summary=f"{_BRIEFS.get(variant, '')}{name} by {by}{counted}",
        evidence=evidence,
        evidence_details=tuple(because),
        cost=cost,
        caveats=_doubts(tally, variant, evidence),
        source=parent_line_of(tally),
    )
    load = tally.load
    relation = f"{load.model}.{load.relation}" if load is not None and load.relation else ""
    finding = msgspec.structs.replace(met.finding(rule, claim), relation=relation)
    return Diagnosis(finding, _remedy(tally, chain, variant, table, met, cost, tallies))


def _table_read(tally: Repetition, variant: Variant, context: Context) -> str:
    """The table whose rows the lookups are for: not the link table, where that comes first."""
    structure, load = tally.stats.parsed, tally.load
    if variant is not Variant.LINK_TABLE:
        return structure.main
    model = context.models.get((load.orm, load.target)) if load is not None else None
    if model is not None and model.table:
        return model.table
    return _linked(structure, tally.key.column) or structure.main


def _counted(chain: list[Repetition]) -> str:
    """The queries of a chain in parentheses, that which gave the keys first, where it was seen."""
    counts = [number(one.per_request) for one in chain]
    if chain[0].source is not None:
        counts.insert(0, "1")
    return f" ({' + '.join(counts)})" if len(counts) > 1 else ""


def _parent(tally: Repetition) -> str:
    source = tally.source
    return f" for each row of {source.table or 'an earlier result'}" if source else ""


def _path_names(chain: list[Repetition]) -> list[str]:
    first = chain[0].source
    names = [first.table or "the first query"] if first else []
    for one in chain:
        structure = one.stats.structure
        load = one.load
        names.append(
            f"{load.model}.{load.relation}"
            if load and load.relation
            else structure.main
            if structure
            else "?"
        )
    return names


def _evidence(tally: Repetition, table: str, context: Context) -> tuple[str, list[str]]:
    load = tally.load
    because = []
    if load is not None and load.kind == "lazy" and load.relation:
        because.append(f"the ORM loads {load.model}.{load.relation} lazily, object by object")
    if _only_counted(tally):
        because.append("none of the loaded objects was read, so only their number can matter")
    source = tally.source
    if source is not None:
        because.insert(0, flow_of(source))
        return "traced", because
    schema = context.schema
    if schema is not None and schema.table(table) is not None:
        name = tally.key.column.name
        key = schema.foreign_key(table, name)
        if key is not None:
            return "keyed", [*because, f"{table}.{name} is a foreign key to {key.table}"]
        if schema.is_unique(table, name):
            return "keyed", [*because, f"{table}.{name} is a key of {table}"]
    if tally.hidden:
        times = number(tally.per_request)
        return "repeated", [
            *because,
            f"the same lookup ran {times} times in one request; its keys were not recorded",
        ]
    return "repeated", [
        *because,
        f"the same statement ran with {number(tally.per_request)} keys in one request",
    ]


def _doubts(tally: Repetition, variant: Variant, evidence: str) -> tuple[str, ...]:
    is_known = evidence == "keyed" or (tally.load is not None and bool(tally.load.relation))
    doubts = []
    if tally.rows_hidden and not is_known and variant in (Variant.TO_ONE, Variant.TO_MANY):
        doubts.append(tally.rows_hidden)
    if tally.hidden:
        doubts.append(tally.hidden)
    elif evidence == "repeated":
        doubts.append(
            "no earlier result contains the keys: they may come from outside the database"
        )
    if tally.requests == 1:
        doubts.append("found in only one request; record more to see how it grows")
    return tuple(doubts)


def _remedy(
    tally: Repetition,
    chain: list[Repetition],
    variant: Variant,
    table: str,
    met: Match,
    cost: Cost,
    tallies: ByShape,
) -> Batch:
    inner = _held_above(chain, variant)
    root, at, path = _anchor(tally, chain, inner, tallies, met)
    return Batch(
        stats=met.stats,
        line=met.line,
        saving=spared(cost.avoidable, cost.saving_ms),
        key=tally.key,
        table=table,
        variant=variant,
        loop=chain[0].stats.shape.digest,
        depth=len(chain),
        queries=tally.per_request,
        objects=_objects(chain[0], tallies),
        load=tally.load,
        source=tally.source,
        root=root,
        path=path,
        parent=met.route.shapes.get(main_source(tally)),
        parent_key=chain[-2].key if len(chain) > 1 else None,
        parent_line=at,
        levels=tally.levels,
        limit=tally.limit or 0,
        within=inner.per_request if inner is not None else 0.0,
        only_counted=_only_counted(tally),
        expired=2 * tally.expired > tally.examined,
        conditions=_has_conditions(tally, met),
        loaded=2 * tally.loaded_before > tally.examined and not _asks_for_all(tally, met),
    )


def _anchor(
    tally: Repetition,
    chain: list[Repetition],
    inner: Repetition | None,
    tallies: ByShape,
    met: Match,
) -> tuple[ShapeStats | None, SourceLine | None, tuple[Load, ...]]:
    """The ORM's query that the fix is added to, the line that builds it, and the relations from it
    to what is read; () unless each one is known. `inner` is a loop's query that takes it.
    """
    top = chain[0]
    below = chain[chain.index(inner) + 1 :] if inner is not None else chain
    loads = tuple(one.load for one in below if one.load is not None)
    if inner is not None:
        at = next(iter(lines_of(inner.stats.places)), None)
        return inner.stats, at, loads if len(loads) == len(below) else ()
    above = _above(met.route.shapes.get(main_source(top)), met)
    path = (*above, *loads)
    root = at = None
    if not _are_others(tally, tallies, met):
        root = _root(top, path, met)
        hangs = root is not None and (above or not top.source or top.levels)
        hanging = next(iter(lines_of(root.places)), None) if hangs and root is not None else None
        at = hanging or parent_line_of(top) or parent_line_of(tally)
    return root, at, path if len(loads) == len(below) else ()


def _held_above(chain: list[Repetition], variant: Variant) -> Repetition | None:
    """The innermost loop above the last whose queries the application builds itself: what is loaded
    with an outer query does not come with their rows. None if it is no use to them: what needs a
    query of its own is spared only where each of them gives several objects.
    """
    last = chain[-1]
    if variant in (Variant.EXISTS, Variant.AGGREGATE):  # asked once for all keys, by hand
        return None
    for one in reversed(chain[:-1]):
        load, words = one.load, words_of(one.load)
        if load is None or words is None or not words.relations_are_queries():
            continue
        if load.many and (
            load.kind == "query" or (load.kind == "lazy" and load.unchanged is False)
        ):
            spares = _comes_along(last, variant) or last.queries > one.queries
            return one if spares else None
    return None


def _comes_along(tally: Repetition, variant: Variant) -> bool:
    """Whether what is looked up can come in the rows of the query above, by a join or a count."""
    load = tally.load
    joined = variant is Variant.TO_ONE and load is not None and bool(load.target)
    return joined or variant is Variant.COUNT


def _remaining(tally: Repetition, variant: Variant, inner: Repetition | None) -> float:
    """The queries of a request that remain once it is fixed: the columns that were left out come
    with the first query.
    """
    if variant is Variant.SAME_ROW:
        return 0
    if inner is None:
        return tally.levels or 1
    return 0 if _comes_along(tally, variant) else inner.per_request


def _has_conditions(tally: Repetition, met: Match) -> bool:
    """Whether the lookups have conditions besides the relation's key."""
    own = {tally.key.column.name, *_columns_of(tally.load, met.context)}
    return met.structure.filters_besides(own)


def _asks_for_all(tally: Repetition, met: Match) -> bool:
    """Whether the lookups ask for the whole of a relation: what is loaded answers that by itself,
    so that these objects are others than those that it is loaded for.
    """
    structure, load = met.structure, tally.load
    model = met.context.models.get((load.orm, load.target)) if load is not None else None
    if model is None or structure.joins or structure.order_by or _has_conditions(tally, met):
        return False
    return {output.column.name for output in structure.outputs} >= set(model.attributes)


def _only_counted(tally: Repetition) -> bool:
    """Whether it was tracked what became of the rows, and nothing did."""
    totals = tally.stats.used.get(tally.load.target) if tally.load is not None else None
    return totals is not None and totals.objects >= 2 and not totals.touched


def _columns_of(load: Load | None, context: Context) -> tuple[str, ...]:
    """The columns by which a relation finds its rows: a generic one has a type next to its key."""
    relation = relation_of(load, context.models)
    return relation.remote if relation is not None else ()


_ROOTS = ("query", "library")


def _are_others(tally: Repetition, tallies: ByShape, met: Match) -> bool:
    """Whether the objects are others than those of the list that supplied the keys, of the same
    rows: each object loads a to-one relation once, and another loop has loaded it for that list's.
    """
    load, source = tally.load, met.route.shapes.get(main_source(tally))
    words = words_of(load)
    if load is None or words is None or source is None or not words.loads_each_object():
        return False
    if load.many:  # its manager asks each time
        return False
    alike = [one for one in _alike(tally, tallies) if main_source(one) == main_source(tally)]
    objects = sum(one.per_request for one in alike)
    rows = source.rows / source.requests if source.requests else 0.0
    return tally is not alike[0] and objects > rows


def _alike(tally: Repetition, tallies: ByShape) -> list[Repetition]:
    """The loops of a route that read the same relation of the same lists: one for each way that the
    code comes to the line.
    """
    return [
        one
        for one in tallies.get(tally.stats.shape.digest, ())
        if one.load == tally.load
        and {digest for digest, *_ in one.sources} & {digest for digest, *_ in tally.sources}
    ]


def _objects(tally: Repetition, tallies: ByShape) -> float:
    """The objects of the list whose relation is read. A manager that asks each time may have been
    asked for the same ones by each loop.
    """
    load, words = tally.load, words_of(tally.load)
    alike = _alike(tally, tallies) if tally.source is not None else []
    if load is None or words is None or (load.many and words.relations_are_queries()):
        alike = []
    return sum(one.per_request for one in alike) or tally.per_request


def _takes_calls(stats: ShapeStats, met: Match) -> bool:
    """Whether application code holds a query of this kind, and can add a call to it: an ORM may
    give the rows of a relation by a query that is built like any other.
    """
    load = stats.load
    if load is None or load.kind in _ROOTS:
        return load is not None
    words = words_of(load)
    if load.kind != "lazy" or not load.many or words is None or met.context.may_be_loaded(stats):
        return False
    return words.relations_are_queries()


def _above(source: ShapeStats | None, met: Match) -> tuple[Load, ...]:
    """The relations by which the rows that supplied the keys were loaded themselves."""
    load = source.load if source is not None else None
    if leads_back(load):  # the lookups gave the keys of each other
        return ()
    if source is None or load is None:
        return ()
    if load.kind == "lazy" and not _takes_calls(source, met):
        return (load,)
    return eager_path(load, met.route)


def _root(top: Repetition, path: tuple[Load, ...], met: Match) -> ShapeStats | None:
    """The ORM's query that the path depends on: the one that supplied the keys, else the only one
    of the route that can be.
    """
    source = met.route.shapes.get(main_source(top))
    if source is not None and top.levels:
        source = None
    if source is not None and (source.load is None or _takes_calls(source, met)):
        return source if source.load is not None else None
    results = [
        stats
        for stats in met.route.loaded_shapes()
        if (load := stats.load) is not None
        and load.kind in _ROOTS
        and (structure := stats.structure) is not None
        and not structure.aggregates
        and from_query(path, load, structure, met.context.models) is not None
    ]
    return results[0] if len(results) == 1 else None
