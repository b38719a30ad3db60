"""Advice for look-ups row by row: one batched query, or a join, chosen by the fan-out; one grouped query for counts."""

from __future__ import annotations

import msgspec

from askless.core.advice import rewriting
from askless.core.advice.orm import Models, model_of, words_of
from askless.core.findings import Advice, Line
from askless.core.model import Load, Model, Relation, Schema

NARROW_BYTES = 400  # a child row up to this size may travel with each of its parents


class Case(msgspec.Struct, frozen=True):
    """What is known of a repetition. `rows_each` is the mean number of rows that one look-up gives."""

    system: str
    sql: str
    parent_sql: str
    columns: tuple[str, ...]
    variant: str
    table: str
    column: str
    parent_table: str
    parent_column: str
    queries: float
    rows_each: float
    row_bytes: float
    load: Load | None
    path: tuple[Load, ...]
    parent_load: Load | None
    parent_line: Line | None
    line: Line | None
    saving: str
    only_counted: bool = False  # whether the rows were loaded and none was looked at
    conditions: bool = False  # whether the look-up has conditions beside the key
    models: Models = {}


def advise(case: Case, schema: Schema | None) -> tuple[Advice, ...]:
    """The roads out of an n-plus-one, the one to try first in front."""
    if case.variant in ("count", "exists", "aggregate"):
        return tuple(a for a in (_grouped(case), _counter(case)) if a)
    if case.only_counted and case.variant == "to-many":
        return (_number_only(case), _batch(case))
    if case.variant == "same-row":
        return (_widen(case),)
    batch, join = _batch(case), _join(case)
    first_join = case.variant == "to-one" and case.row_bytes <= NARROW_BYTES and bool(join.sql or join.code)
    return (join, batch) if first_join else (batch, join)


def _path(case: Case) -> tuple[Load, ...]:
    """The relations from the outermost parent to the child, where the ORM named every one."""
    loads = tuple(load for load in case.path if load.kind in ("lazy", "eager") and load.relation)
    return loads if loads and len(loads) == len(case.path) else ()


def _call(case: Case, joined: bool) -> str:
    """The ORM's call that loads the path's last relation for all objects."""
    path, words = _path(case), words_of(case.load)
    if not path or words is None:
        return ""
    return words.joined(path) if joined else words.batched(path)


def _batch(case: Case) -> Advice:
    name = _relation_name(case)
    rows = case.queries * case.rows_each
    return Advice(
        title=f"load {name} in one batched query",
        why=f"one query with all {case.queries:.0f} keys gives the same {rows:.0f} rows; the parents are not read again",
        sql=rewriting.batched(case.sql, case.system, case.table, case.column, _is_one(case)),
        code=_call(case, joined=False) or _by_hand(case),
        at=case.parent_line or case.line,
        saving=case.saving,
        trade_off="one more round trip than a join; very long key lists are sent in chunks",
        check=_checks(case),
    )


def _is_one(case: Case) -> bool:
    """Whether the ORM says that there is at most one row: its LIMIT is then only a guard."""
    return case.load is not None and case.load.kind == "lazy" and bool(case.load.relation) and not case.load.many


def _by_hand(case: Case) -> str:
    if case.load is not None and case.load.kind == "lazy":
        return ""
    return f"collect the keys first, read all rows with {case.column} IN (...), keep them in a dict by {case.column}"


def _join(case: Case) -> Advice:
    name = _relation_name(case)
    sql = ""
    # A join holds no other condition of the look-up and no limit of its own: then the batch is the way.
    plain = not case.conditions and rewriting.batched(case.sql, case.system, case.table, case.column, _is_one(case))
    if plain and case.parent_sql and case.parent_column and case.variant in ("to-one", "to-many"):
        sql = rewriting.joined(
            case.parent_sql,
            case.system,
            case.parent_column,
            case.table,
            case.column,
            case.columns,
            case.variant == "to-many",
        )
    fan_out = max(case.rows_each, 1.0)
    if case.variant == "to-one":
        why = "each parent has at most one, so the join adds no rows; its columns repeat where parents share one"
        trade_off = f"about {case.row_bytes:.0f} bytes more on each parent row"
    else:
        why = f"fan-out {fan_out:.1f}: the join returns each parent {fan_out:.1f} times on average"
        trade_off = (
            "parents repeat in the result; a second to-many join would multiply the rows; LIMIT counts joined rows"
        )
    return Advice(
        title=f"load {name} with an outer join",
        why=why,
        sql=sql,
        code=_call(case, joined=True),
        at=case.parent_line or case.line,
        saving=case.saving,
        trade_off=trade_off,
        check=(*_caution(case), *_checks(case)),
    )


def _caution(case: Case) -> tuple[str, ...]:
    path, words = _path(case), words_of(case.load)
    said = words.caution(path) if path and words is not None else ""
    return (said,) if said else ()


def _relation_name(case: Case) -> str:
    if case.load is not None and case.load.relation:
        return f"{case.load.model}.{case.load.relation}"
    return case.table


def _checks(case: Case) -> tuple[str, ...]:
    checks = ["parents without a match must stay: an outer join or a batched query keeps them, an inner join does not"]
    if case.variant != "to-one":
        checks.append("the order of the children within a parent is the same as before")
    checks.append("the page does read what is loaded now for all: eager loading of what nobody reads costs too")
    return tuple(checks)


def _grouped(case: Case) -> Advice:
    return Advice(
        title=f"get all of them with one GROUP BY {case.column}",
        why=f"one grouped query answers all {case.queries:.0f} keys",
        sql=rewriting.counted(case.sql, case.system, case.table, case.column),
        code="" if case.load is None else _grouped_code(case),
        at=case.parent_line or case.line,
        saving=case.saving,
        trade_off="the grouped query reads all groups at once; with very many parents ask for a page's keys only",
        check=(
            "parents with no rows are missing from the grouped result: they must stay, with 0"
            if case.variant == "count"
            else "parents with no rows are missing from the grouped result: they must stay, with what an empty group gave",
            f"count a column of {case.table}, not *, if you outer-join it from the parent",
        ),
    )


def _number_only(case: Case) -> Advice:
    return Advice(
        title="count them in one grouped query",
        why="the rows are loaded and none of them is looked at: only their number can have mattered",
        sql=rewriting.numbered(case.sql, case.system, case.table, case.column),
        code=_grouped_code(case),
        at=case.parent_line or case.line,
        saving=case.saving,
        trade_off="where the rows are needed after all, load them in one batch instead",
        check=("parents with no rows are missing from the grouped result: they must stay, with 0",),
    )


def _counted_relation(case: Case) -> tuple[Model, Relation] | None:
    """The parent's model and its relation to what is counted: as the ORM said, else the one on the key's column."""
    load = case.load
    if load is None:
        return None
    if load.relation:
        parent = model_of(load, load.model, case.models)
        relation = parent.relations.get(load.relation) if parent is not None else None
    else:
        parent = model_of(case.parent_load, case.parent_load.target, case.models) if case.parent_load else None
        relation = parent.relation_to(load.target, case.column) if parent is not None else None
    return (parent, relation) if parent is not None and relation is not None else None


def _grouped_code(case: Case) -> str:
    found, words = _counted_relation(case), words_of(case.load)
    if found is None or words is None or not (case.variant == "count" or case.only_counted):
        return ""
    return words.counted(*found, case.conditions)


def _counter(case: Case) -> Advice | None:
    if case.variant != "count":
        return None
    return Advice(
        title="keep a counter on the parent",
        why="a stored number needs no query at all",
        saving=case.saving,
        trade_off="every write to the child must keep it true, in the same transaction; it becomes a point of contention",
        check=("the counter is right after concurrent writes and deletes",),
    )


def _widen(case: Case) -> Advice:
    words = words_of(case.load)
    model = model_of(case.load, case.load.target, case.models) if case.load is not None else None
    code = ""
    if words is not None and model is not None and case.load is not None and case.load.kind == "refresh":
        code = words.widened(model, case.columns)
    elif case.parent_line is not None:
        where = f"{case.parent_line.file}:{case.parent_line.line}"
        code = f"add the columns that the look-up reads to the query at {where}"
    return Advice(
        title="select the missing columns in the first query",
        why="the same rows are read again by their own key: the first query left out columns that are used later",
        sql="",
        code=code,
        at=case.parent_line or case.line,
        saving=case.saving,
        trade_off="the first query's rows become wider",
        check=("the key that stitches objects together stays in the projection",),
    )
