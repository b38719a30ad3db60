"""Advice for lookups row by row: one batched query, or a join, chosen by the fan-out; one grouped
query for counts.
"""

from __future__ import annotations

from askless.core.advice.orm import Query, Step, model_of, words_of
from askless.core.advice.rewriting import statements
from askless.core.advice.rewriting.statements import LookUp
from askless.core.findings.finding import Advice
from askless.core.findings.remedies import Batch, Variant
from askless.core.formatting import location_text, plural
from askless.core.inference.context import Context, Models
from askless.core.inference.expiry import is_whole_again
from askless.core.inference.relation_paths import from_query, joined_already
from askless.core.records.model import Load, Model, Relation

NARROW_BYTES = 400  # a child row up to this size may travel with each of its parents


class _Case:
    """A remedy with what all its alternatives are written from."""

    def __init__(self, remedy: Batch, context: Context) -> None:
        stats = remedy.stats
        self.remedy = remedy
        self.system = stats.statement.system
        self.sql = context.sql(stats)
        self.table, self.column = remedy.table, remedy.key.column.name
        self.main = remedy.structure.main or self.table
        near = remedy.structure.nearest(remedy.key.column)
        columns = (near.name, *remedy.key.columns[1:])
        self.key = near.name if len(columns) == 1 else f"({', '.join(columns)})"
        self.lookup = LookUp(self.sql, self.system, self.table, self.column, remedy.key.beside)
        self.variant, self.load, self.models = remedy.variant, remedy.load, context.models
        self.rows_each = stats.rows / stats.count if stats.count else 0.0
        root = remedy.root
        self.rows_of_root = root.rows / root.count if root is not None and root.count else 0.0
        self.row_bytes = stats.bytes / stats.rows if stats.rows else 0.0
        self.outputs = remedy.structure.outputs
        self.at = remedy.parent_line or remedy.line
        self.parent_sql = context.sql(remedy.parent) if remedy.parent is not None else ""
        # the parent is read row by row itself: it will be a batch by then
        if remedy.parent_key is not None:
            above = remedy.parent_key
            lookup = LookUp(
                self.parent_sql, self.system, above.column.table, above.column.name, above.beside
            )
            self.parent_sql = statements.batched(lookup)

    def batched(self) -> str:
        """The lookup for all keys; '' where it can't be written."""
        return statements.batched(self.lookup, _is_one(self))


def advise(remedy: Batch, context: Context) -> tuple[Advice, ...]:
    """The alternatives for an n-plus-one, the one to try first in front."""
    case = _Case(remedy, context)
    if is_bypassed(remedy):
        return (_as_loaded(case),)
    if case.variant is Variant.EXISTS:
        return (_existing(case),)
    if case.variant.is_number:
        return tuple(a for a in (_grouped(case), _counter(case), _kept_for_a_while(case)) if a)
    if case.variant in (Variant.FIRST, Variant.FEW):
        return (_first_of_each(case),)
    if remedy.levels:
        return (_level_by_level(case),)
    if remedy.only_counted and case.variant in (Variant.TO_MANY, Variant.LINK_TABLE):
        return (_number_only(case), _batch(case))
    if case.variant is Variant.SAME_ROW:
        is_again = is_whole_again(case.load, case.outputs, case.models)
        return (_keep_loaded(case) if is_again else _widen(case),)
    return _batch_or_join(case)


def _level_by_level(case: _Case) -> Advice:
    """The tree that the lookups walk: a query for each level of it."""
    load, words, levels = case.load, words_of(case.load), case.remedy.levels
    query = _query(case) if len(case.remedy.path) == 1 else None
    code = ""
    if query is not None and words is not None and load is not None:
        code = words.recursive(load, levels, query)
    name = _relation_name(case)
    return Advice(
        title=f"load {name} level by level",
        why=f"the rows of one level give the keys of the next one: {plural(levels, 'query')} read "
        f"what {case.remedy.queries:.0f} lookups did",
        sql=case.batched(),
        code=code or _by_hand(case),
        at=case.at,
        saving=case.remedy.saving,
        trade_offs="every level is loaded, whether it is read or not; a recursive common table "
        "expression (WITH RECURSIVE) reads them all in one query",
        verify=(
            f"no tree is deeper than the {plural(levels, 'level')} that were seen, or those "
            "below are still looked up row by row",
        ),
    )


def is_bypassed(remedy: Batch) -> bool:
    """Whether the rows were loaded eagerly, and asked for again past what was loaded."""
    load, words = remedy.load, words_of(remedy.load)
    if load is None or words is None or load.kind != "lazy" or not load.relation:
        return False
    # what nothing was added to would have been there: its objects came by another query
    added = load.many and not load.unchanged
    return remedy.loaded and added and bool(words.bypassed(load))


def _as_loaded(case: _Case) -> Advice:
    words, load = words_of(case.load), case.load
    return Advice(
        title=f"read {_relation_name(case)} as it was loaded",
        why="the rows are loaded eagerly, and then asked for again, object by object",
        code=words.bypassed(load) if words is not None and load is not None else "",
        at=case.remedy.line,
        saving=case.remedy.saving,
        trade_offs="choosing in Python reads all rows of the relation: right for few per object",
        verify=("the conditions compare the same in Python: case, NULLs, time zones",),
    )


def _batch_or_join(case: _Case) -> tuple[Advice, ...]:
    """A join comes first for narrow rows of a to-one relation, and for all of one that is looked up
    in a loop of queries, which a batch would not spare; a batch for everything else.
    """
    batch, join = _batch(case), _join(case)
    if case.remedy.expired:
        return (batch,)
    if not join.code and (batch.code or not _may_join(case)):
        return (batch,)
    narrow = case.row_bytes <= NARROW_BYTES or bool(case.remedy.within)
    first = case.variant is Variant.TO_ONE and narrow
    return (join, batch) if first and (join.sql or join.code) else (batch, join)


def _may_join(case: _Case) -> bool:
    """Whether the ORM that loads the relation, if any, has a join for it, and the relation one
    table to join.
    """
    words = words_of(case.load)
    named = words is not None and case.load is not None and bool(case.load.relation)
    if named and case.load is not None and not case.load.target:
        return False
    return not named or case.variant is Variant.TO_ONE or (words is not None and words.joins_many())


def _path(case: _Case) -> tuple[Load, ...]:
    """The relations from the query that the call depends on to the child; () unless the models say
    that it walks.
    """
    root, path = case.remedy.root, case.remedy.path
    if root is None or root.load is None or root.structure is None or not path:
        return ()
    if any(load.kind not in ("lazy", "eager") or not load.relation for load in path):
        return ()
    return from_query(path, root.load, root.structure, case.models) or ()


def _call(case: _Case, joined: bool) -> str:
    """The ORM's call that loads the path's last relation for all objects."""
    words, step, query = words_of(case.load), _step(case, joined), _query(case)
    if words is None or step is None or query is None or (joined and not words.joined(step.path)):
        return ""
    return words.together([step], query)


def _step(case: _Case, joined: bool) -> Step | None:
    """What loads the relation with the query it depends on; None if that is not sure, or would not
    spare the lookups.
    """
    step, query = Step(_path(case), joined), _query(case)
    if not step.path or query is None or case.remedy.expired or not _spares(case):
        return None
    return None if _reads_few(case) or _is_brought(case) else step


def _is_brought(case: _Case) -> bool:
    """Whether the query joins the relation already, so that these objects came from elsewhere."""
    query, names = _query(case), [load.relation for load in _path(case)]
    return (
        query is not None
        and bool(names)
        and any([load.relation for load in way[: len(names)]] == names for way in query.joined)
    )


def _query(case: _Case) -> Query | None:
    """The ORM's query that the call depends on."""
    root = case.remedy.root
    if root is None or root.load is None or root.structure is None or root.load.kind == "library":
        return None
    there = joined_already(root.load, root.structure, case.models)
    by_key = root.load.kind == "query" and not root.load.many
    return Query(case.at, root.load.target, tuple(there), by_key)


def hanging(remedy: Batch, context: Context) -> tuple[Step, Query] | None:
    """What the first advice loads with which query; None if it is not a call on one."""
    case = _Case(remedy, context)
    first = advise(remedy, context)[0]
    for joined in (True, False):
        step, query = _step(case, joined), _query(case)
        if (
            first.code
            and first.code == _call(case, joined)
            and step is not None
            and query is not None
        ):
            return step, query
    return None


FEW_OF_ROWS = 0.5  # of a query's rows, whose relation is read: an eager load would load it for all
FEW_LEAST = 10  # rows for which it would be loaded in vain


def _reads_few(case: _Case) -> bool:
    """Whether the relation is read for few of the rows that its query gives: those of one page of
    a list that is fetched whole, say. An ORM that remembers to-one rows by key reads fewer anyway.
    """
    root, words = case.remedy.root, words_of(case.load)
    if root is None or words is None or case.load is None:
        return False
    path = case.remedy.path
    if len(path) != case.remedy.depth:  # what is joined above has rows of its own
        return False
    if not path[0].many and not words.loads_each_object():
        return False
    rows, objects = case.rows_of_root, case.remedy.objects
    return objects < FEW_OF_ROWS * rows and rows - objects >= FEW_LEAST


def comes_with_parents(remedy: Batch, first: Advice) -> bool:
    """Whether the first advice brings what the lookups ask with the query for their parents."""
    if is_bypassed(remedy):
        return True
    case_counts = remedy.variant is Variant.COUNT or remedy.only_counted
    return remedy.variant is Variant.SAME_ROW or (case_counts and bool(first.code))


def _spares(case: _Case) -> bool:
    """Whether an eager load of the relation would spare the lookups, as they are asked."""
    load, words, structure = case.load, words_of(case.load), case.remedy.structure
    if load is None or words is None or load.kind != "lazy" or load.unchanged:
        return True
    # The first few of the rows that are there already take no order but the relation's own.
    picks = structure.has_limit and load.many and bool(structure.order_by)
    asks_more = case.remedy.conditions or picks or (load.many and _is_part(case))
    return not asks_more or words.keeps_conditions(load)


def _is_part(case: _Case) -> bool:
    """Whether the lookups ask for some columns of a model's alone: values, not objects."""
    load = case.load
    model = model_of(load, load.target, case.models) if load is not None else None
    named = {output.column.name for output in case.outputs}
    return model is not None and bool(named) and not named >= set(model.attributes)


def _batch(case: _Case) -> Advice:
    name = _relation_name(case)
    rows = case.remedy.queries * case.rows_each
    # how many they were may not have been seen
    same = f"the same {rows:.0f} rows" if rows else "the same rows"
    why = f"one query with all {case.remedy.queries:.0f} keys gives {same}"
    if within := case.remedy.within:
        why = f"one query with the keys of each of the {within:.0f} queries above gives {same}"
    return Advice(
        title=f"load {name} in one batched query",
        why=f"{why}; the parents are not read again",
        sql=case.batched(),
        code=_call(case, joined=False) or _aside(case) or _by_hand(case),
        at=case.remedy.line if _is_brought(case) else case.at,
        saving=case.remedy.saving,
        trade_offs="one more round trip than a join; very long key lists are sent in chunks",
        verify=_checks(case),
    )


def _aside(case: _Case) -> str:
    path, words = _path(case), words_of(case.load)
    if not path or words is None or case.remedy.expired:
        return ""
    if not _spares(case):
        return words.aside(path, case.remedy.limit)
    if _reads_few(case):
        parent = model_of(path[0], path[0].model, case.models)
        return words.for_some(path, parent, round(case.remedy.objects), round(case.rows_of_root))
    return ""


def _is_one(case: _Case) -> bool:
    """Whether the ORM says that there is at most one row: its LIMIT is then only a guard."""
    return (
        case.load is not None
        and case.load.kind == "lazy"
        and bool(case.load.relation)
        and not case.load.many
    )


def _by_relation(case: _Case, load: Load) -> str:
    """How to load a relation where no call on a query can be given."""
    if load.relation and case.remedy.expired:
        return (
            f"the {load.model} objects have expired since they were loaded, and an eager load of "
            f"{load.relation} would have with them: keep them from expiring first"
        )
    if not load.relation or (_query(case) is not None and not _is_brought(case)):
        return ""
    path, words = _path(case), words_of(load)
    lent = words.afterwards(path) if words is not None and path and _spares(case) else ""
    return lent or (
        f"load {load.relation} with the query that loads the {load.model} objects (which one is "
        "unknown)"
    )


def _by_hand(case: _Case) -> str:
    load = case.load
    if load is not None and load.kind == "lazy":
        return _by_relation(case, load)
    there = case.key if case.table == case.main else f"{case.table}.{case.column}"
    by_hand = (
        f"collect the keys first, read all rows with {there} IN (...), keep them in a map by "
        f"{case.key}"
    )
    source = case.remedy.source
    if load is not None or source is None or not source.table or source.table == case.main:
        return by_hand  # an ORM that said what it asks named no relation between the two
    if case.models and not _are_related(case.models, source.table, case.main):
        return by_hand
    return (
        f"with an ORM: its eager-loading call for the relation from {source.table} to "
        f"{case.main}; by hand: {by_hand}"
    )


def _are_related(models: Models, table: str, other: str) -> bool:
    """Whether a model of one table has a relation to one of the other."""
    return any(
        (target := models.get((orm, relation.target))) is not None
        and model.table.lower() == table.lower()
        and target.table.lower() == other.lower()
        for (orm, _), model in models.items()
        for relation in model.relations.values()
    )


def _join(case: _Case) -> Advice:
    name = _relation_name(case)
    sql = ""
    # A join holds no other condition or join of the lookup and no limit of its own: then the batch
    # is the way.
    source = case.remedy.source
    asks_more = case.remedy.conditions or case.remedy.structure.joins
    wanted = case.parent_sql and not asks_more and case.variant in (Variant.TO_ONE, Variant.TO_MANY)
    if wanted and source is not None and source.column and case.batched():
        sql = statements.joined(
            case.parent_sql,
            case.system,
            (source.table, source.column),
            case.table,
            case.column,
            case.outputs,
            case.variant is Variant.TO_MANY,
        )
    fan_out = max(case.rows_each, 1.0)
    if case.variant is Variant.TO_ONE:
        why = (
            "each parent has at most one, so the join adds no rows; its columns repeat where "
            "parents share one"
        )
        trade_off = f"about {case.row_bytes:.0f} bytes more on each parent row"
    else:
        why = f"fan-out {fan_out:.1f}: the join returns each parent {fan_out:.1f} times on average"
        trade_off = (
            "parents repeat in the result; a second to-many join would multiply the rows; LIMIT "
            "counts joined rows"
        )
    return Advice(
        title=f"load {name} with an outer join",
        why=why,
        sql=sql,
        code=_call(case, joined=True),
        at=case.at,
        saving=case.remedy.saving,
        trade_offs=trade_off,
        verify=(*_caution(case), *_checks(case)),
    )


def _caution(case: _Case) -> tuple[str, ...]:
    path, words = _path(case), words_of(case.load)
    text = words.caution(path) if path and words is not None else ""
    return (text,) if text else ()


def _relation_name(case: _Case) -> str:
    if case.load is not None and case.load.relation:
        return f"{case.load.model}.{case.load.relation}"
    return case.main


def _checks(case: _Case) -> tuple[str, ...]:
    checks = [
        "parents without a match must remain: an outer join or a batched query keeps them, an "
        "inner join does not"
    ]
    if case.variant is not Variant.TO_ONE:
        checks.append("the order of the children within a parent is the same as before")
    checks.append("the page actually reads the loaded rows; unused eager loading is also a cost")
    return tuple(checks)


def _counted_with_parent(case: _Case) -> str:
    """What the call for a count sends: the parent's query with the children outer-joined and
    counted.
    """
    source = case.remedy.source
    if (
        not case.parent_sql
        or source is None
        or not source.column
        or case.remedy.conditions
        or case.table != case.main
    ):
        return ""
    held = source.table, source.column
    return statements.counted_with_parent(
        case.parent_sql, case.system, held, case.table, case.column
    )


def _grouped(case: _Case) -> Advice:
    code = "" if case.load is None else _grouped_code(case)
    grouped = statements.counted(case.lookup)
    return Advice(
        title=f"get all of them with one GROUP BY {case.key.strip('()')}",
        why=f"one grouped query answers all {case.remedy.queries:.0f} keys",
        sql=(code and _counted_with_parent(case)) or grouped,
        code=code,
        at=case.at,
        saving=case.remedy.saving,
        trade_offs="the grouped query reads all groups at once; with very many parents, pass only "
        "the page's keys",
        verify=(
            "parents without rows are missing from the grouped result: they must remain, with 0"
            if case.variant is Variant.COUNT
            else "parents without rows are missing from the grouped result: they must remain, "
            "with the result for an empty group",
            f"count a column of {case.main}, not *, if you outer-join it from the parent",
        ),
    )


def _existing(case: _Case) -> Advice:
    return Advice(
        title=f"query once which {case.key} have rows in {case.main}",
        why=f"one query gives those of the {case.remedy.queries:.0f} keys that have some",
        sql=statements.existing(case.lookup),
        at=case.remedy.line,
        saving=case.remedy.saving,
        trade_offs="if the parents are queried by hand, an EXISTS among their columns does it in "
        "the same query",
        verify=("a key that does not come back has none",),
    )


def _first_of_each(case: _Case) -> Advice:
    name, extreme = _relation_name(case), case.remedy.structure.extreme
    if extreme is not None:
        title = (
            f"read the rows with the highest or lowest {extreme.name} of each {case.key} in one "
            "query"
        )
        why = (
            f"one query finds it for each of the {case.remedy.queries:.0f} keys, and the rows "
            "that have it"
        )
        sql = case.batched()
        doubt = "several rows may share it: all of them are returned, as before"
    else:
        most = case.remedy.limit if case.variant is Variant.FEW else 1
        rows = "row" if most == 1 else f"{most} rows"
        title = f"read the first {rows} of each {case.key} in one query"
        why = (
            f"a window function numbers the rows of each of the {case.remedy.queries:.0f} keys in "
            f"the lookup's order, and the first {'' if most == 1 else f'{most} '}of each "
            f"{'is' if most == 1 else 'are'} kept"
        )
        sql = statements.first_of_each(case.lookup, most)
        doubt = "break ties in the order, or a different row may come first each time"
    code = _aside(case)
    return Advice(
        title=title,
        why=why,
        sql=sql,
        code=code,
        at=case.at if code else case.remedy.line,
        saving=case.remedy.saving,
        trade_offs=f"loading all of {name} and choosing in code reads every row of these keys: "
        "only suitable for few rows",
        verify=("parents without rows must remain", doubt),
    )


def _number_only(case: _Case) -> Advice:
    return Advice(
        title="count them in one grouped query",
        why="the rows are loaded but never read, so only their number can matter",
        sql=statements.numbered(case.lookup),
        code=_grouped_code(case),
        at=case.at,
        saving=case.remedy.saving,
        trade_offs="if the rows are needed after all, load them in one batch instead",
        verify=(
            "parents without rows are missing from the grouped result: they must remain, with 0",
        ),
    )


def _counted_relation(case: _Case) -> tuple[Model, Relation] | None:
    """The parent's model and its relation to what is counted: as the ORM said, else the one on the
    key's column.
    """
    load = case.load
    if load is None:
        return None
    if load.relation:
        parent = model_of(load, load.model, case.models)
        relation = parent.relations.get(load.relation) if parent is not None else None
    else:
        above = case.remedy.parent.load if case.remedy.parent is not None else None
        parent = model_of(above, above.target, case.models) if above is not None else None
        relation = parent.relation_to(load.target, case.column) if parent is not None else None
    return (parent, relation) if parent is not None and relation is not None else None


def _grouped_code(case: _Case) -> str:
    relation, words = _counted_relation(case), words_of(case.load)
    if (
        relation is None
        or words is None
        or not (case.variant is Variant.COUNT or case.remedy.only_counted)
    ):
        return ""
    return words.counted(*relation, case.remedy.conditions)


def _counter(case: _Case) -> Advice | None:
    if case.variant is not Variant.COUNT:
        return None
    return Advice(
        title="keep a counter on the parent",
        why="a stored number needs no query at all",
        saving=case.remedy.saving,
        trade_offs="every write to the child must update it in the same transaction; it becomes a "
        "point of contention",
        verify=("the counter is right after concurrent writes and deletes",),
    )


def _kept_for_a_while(case: _Case) -> Advice:
    return Advice(
        title="or cache all the numbers together for a while",
        why="approximate numbers need no query each time; the first read after each expiry still "
        "counts",
        saving=case.remedy.saving,
        trade_offs="they can be as old as the cache's lifetime, and each process has its own",
        verify=(
            "nothing that must be exact depends on them",
            "the grouped query fills them, not one query per row",
        ),
    )


def _keep_loaded(case: _Case) -> Advice:
    return Advice(
        title="keep the objects from expiring inside the loop",
        why="commit(), rollback(), expire() and expire_all() make a session forget what it has "
        "loaded, and each object is loaded again as a whole when it is read",
        code="Session(..., expire_on_commit=False) where nothing else changes the rows, or commit "
        "once, after the loop; no expire_all() in the loop",
        at=case.remedy.line,
        saving=case.remedy.saving,
        trade_offs="without the reading, values that the database itself sets or that others write "
        "are not seen",
        verify=("defaults of the server and triggers set nothing that is read afterwards",),
    )


def _widen(case: _Case) -> Advice:
    words = words_of(case.load)
    model = model_of(case.load, case.load.target, case.models) if case.load is not None else None
    code = ""
    if (
        words is not None
        and model is not None
        and case.load is not None
        and case.load.kind == "refresh"
    ):
        columns = [output.column.name for output in case.outputs]
        above = case.remedy.parent.load if case.remedy.parent is not None else None
        code = words.widened(model, columns, above, case.models)
    elif case.remedy.parent_line is not None:
        where = location_text(case.remedy.parent_line.file, case.remedy.parent_line.line)
        code = f"add the columns that the lookup reads to the query at {where}"
    return Advice(
        title="select the missing columns in the first query",
        why="the same rows are read again by key because the first query omitted columns that are "
        "used later",
        sql="",
        code=code,
        at=case.at,
        saving=case.remedy.saving,
        trade_offs="the first query returns wider rows",
        verify=("the projection keeps the key that links objects",),
    )
