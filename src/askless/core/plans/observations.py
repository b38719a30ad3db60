"""What a plan shows, in words for someone who has never read one. Each observation is on a node."""

from __future__ import annotations

import re
from collections.abc import Sequence
from math import inf, prod

import msgspec

from askless.core.formatting import number
from askless.core.plans import tree
from askless.core.plans.tree import Node
from askless.core.records.index_ddl import name_for
from askless.core.records.schema import Schema
from askless.core.sql.slots import Value
from askless.core.sql.structure import Predicate, Structure
from askless.core.systems import is_cut, system_of

SMALL_TABLE_ROWS = 1000
TINY_TABLE_ROWS = 100
SHORT_SORT_ROWS = 100
OFFSET_LEAST = 1000
FAN_OUT, FAN_OUT_LEAST = 5.0, 1000  # rows of a join for one that DISTINCT keeps, and in all
_JOINS = (tree.NESTED_LOOP, tree.HASH_JOIN, tree.MERGE_JOIN)
MOST_SHARE = 0.5
# A column with a cast around it, as PostgreSQL writes conditions: (berth_id)::numeric. Text to text
# costs nothing.
_CAST = re.compile(r"\((?P<column>\w+)\)::(?P<type>(?!text\b|bpchar\b|character\b)\w[\w ]*)")
# what they give depends on nothing but the value, so that it may be indexed
_FOLDING = ("lower", "upper")
_COMMON = frozenset(
    (
        "lower",
        "upper",
        "cast",
        "coalesce",
        "abs",
        "round",
        "length",
        "substring",
        "trim",
        "year",
        "date",
    )
)
_TEXTS = ("CHAR", "TEXT", "CLOB", "ENUM")


class Observation(msgspec.Struct, frozen=True):
    """One thing seen on a node.

    `slug` names its kind: reads-all, sorts, builds-index, per-row, part, unservable, offset,
    fan-out, and those of `measured`.
    """

    node: Node
    slug: str
    text: str


def observe(
    plan: tuple[Node, ...],
    structure: Structure | None,
    schema: Schema,
    rows: int | None = None,
    values: Sequence[Value] = (),
) -> list[Observation]:
    """The observations on a plan. `rows` is what the statement returned when the application ran
    it, where known; `values` what was in its slots.
    """
    results = [*_offset(plan, structure, values), *_fan_out(plan, structure)]
    again = _read_again(plan, schema.system)
    for node in tree.walk(plan):
        if node.kind in tree.READS:
            results += _on_read(node, id(node) in again, structure, schema, rows)
            if (table_rows(schema, node.table) or TINY_TABLE_ROWS) >= TINY_TABLE_ROWS:
                results += _unservable(node, structure, schema, values)
        elif node.kind == tree.SORT and not _is_short(node, plan, schema):
            results.append(_sort(node, structure, schema))
        elif node.kind == tree.SUBQUERY_PER_ROW and not asks_one_row(structure, schema):
            text = (
                "this subquery runs again for every row of the query around it; a join with a "
                "GROUP BY runs once"
            )
            results.append(Observation(node, "per-row", text))
    return results


def asks_one_row(structure: Structure | None, schema: Schema) -> bool:
    """Whether a statement asks for one row by its key: what is asked again for each row is asked
    once.
    """
    table = schema.table(structure.main) if structure is not None else None
    if structure is None or table is None or structure.joins or len(table.primary_key) != 1:
        return False
    (key,) = table.primary_key
    return any(
        one.required
        and one.operator == "="
        and one.slots
        and (one.column.table, one.column.name) == (structure.main, key)
        for one in structure.predicates
    )


def _offset(
    plan: tuple[Node, ...], structure: Structure | None, values: Sequence[Value]
) -> list[Observation]:
    """A page far from the first one."""
    slot = structure.offset_slot if structure is not None else None
    offset = values[slot] if slot is not None and slot < len(values) else None
    if not plan or not isinstance(offset, int) or isinstance(offset, bool) or offset < OFFSET_LEAST:
        return []
    text = (
        f"OFFSET {offset:,} reads that many rows and discards them before it returns the first "
        "one, more on each page; read the rows after the last key instead"
    )
    return [Observation(plan[0], "offset", text)]


def _fan_out(plan: tuple[Node, ...], structure: Structure | None) -> list[Observation]:
    """Rows that a join multiplies and a DISTINCT takes out again, as a run shows."""
    if (
        structure is None
        or not structure.distinct
        or structure.has_limit
        or not plan
        or plan[0].actual is None
    ):
        return []
    join = next((node for node in tree.walk(plan) if node.kind in _JOINS), None)
    if join is None:
        return []
    # Where a server counts the rows of reads alone, the last one's are those of the join.
    counted = join.actual or (join.children[-1].actual if join.children else None)
    if counted is None:
        return []
    joined, grouped = counted.rows * counted.loops, plan[0].actual.rows
    if joined < FAN_OUT_LEAST or joined < FAN_OUT * max(grouped, 1.0):
        return []
    text = (
        f"the join makes {number(joined)} rows, of which DISTINCT keeps {number(grouped)}: if the "
        "join only tests for existence, EXISTS avoids them"
    )
    return [Observation(join, "fan-out", text)]


def merged(first: Sequence[Observation], measured: Sequence[Observation]) -> list[Observation]:
    """Observations by schema and by a plan's own numbers, what says the same omitted: numbers speak
    for themselves.
    """
    seen = {(id(o.node), o.slug) for o in measured}
    counted = {id(o.node) for o in measured if o.slug == "reads-many"}
    remaining = [o for o in first if (id(o.node), o.slug) not in seen]
    explained = {id(o.node) for o in remaining if o.slug == "reads-all"}
    return [
        *(o for o in remaining if not (o.slug == "part" and id(o.node) in counted)),
        *(o for o in measured if not (o.slug == "reads-many" and id(o.node) in explained)),
    ]


def table_rows(schema: Schema, name: str) -> int | None:
    """How many rows a table has, where known."""
    table = schema.table(name)
    return table.rows if table is not None else None


def _read_again(plan: tuple[Node, ...], system: str) -> set[int]:
    """The reads that run once for each row of another one: SQLite lists them in turn, others nest
    them.
    """
    results: set[int] = set()
    if system_of(system).reads_in_turn:
        for level in (
            plan,
            *(node.children for node in tree.walk(plan)),
        ):  # a subquery's reads are below it
            results |= {id(node) for node in [one for one in level if one.kind in tree.READS][1:]}
        return results
    for node in tree.walk(plan):
        if node.kind == tree.NESTED_LOOP:
            results |= {id(child) for child in node.children[1:] if child.kind in tree.READS}
    return results


def _on_read(
    node: Node, again: bool, structure: Structure | None, schema: Schema, rows: int | None
) -> list[Observation]:
    results = []
    size = table_rows(schema, node.table)
    if node.kind == tree.AUTOMATIC_INDEX:
        columns = ", ".join(node.searched)
        text = (
            f"no suitable index: every execution builds a temporary one on {node.table} ({columns})"
        )
        results.append(Observation(node, "builds-index", text))
    if node.kind == tree.FULL_SCAN and size is not None and size >= SMALL_TABLE_ROWS:
        results += _full_scan(node, again, size, structure, rows, schema)
    if (
        node.kind == tree.INDEX_SCAN
        and size is not None
        and size >= SMALL_TABLE_ROWS
        and structure is not None
    ):
        results += _whole_index(node, size, structure)
    if node.kind in (tree.INDEX_SEARCH, tree.INDEX_ONLY) and structure is not None:
        text_or_none = _partly(node, structure, schema)
        if text_or_none:
            results.append(Observation(node, "part", text_or_none))
    return results


def _is_of(predicate: Predicate, node: Node, structure: Structure) -> bool:
    """Whether a predicate is on the table as this node reads it."""
    return structure.is_of(predicate, node.table, node.name)


def _conditions(node: Node, structure: Structure) -> list[str]:
    """The columns of a node's table that the statement filters by."""
    return [
        predicate.column.name
        for predicate in structure.predicates
        if predicate.filters and _is_of(predicate, node, structure)
    ]


def _filters(node: Node, structure: Structure) -> str:
    """All that keeps rows of a node's table out, in words: its conditions, the sides of an OR
    together; '' for nothing.
    """
    either = [
        " or ".join(dict.fromkeys(side.column.name for side in sides))
        for sides in structure.either
        if _is_of(sides[0], node, structure)
    ]
    return ", ".join(dict.fromkeys([*either, *_conditions(node, structure)]))


def _full_scan(
    node: Node,
    again: bool,
    size: int,
    structure: Structure | None,
    rows: int | None,
    schema: Schema,
) -> list[Observation]:
    if again:
        each = "each batch of rows" if system_of(schema.system).joins_in_batches else "every row"
        text = (
            f"for {each} found so far, all {size:,} rows of {node.table} are read: the join "
            "column has no index"
        )
        return [Observation(node, "reads-all", text)]
    by = _filters(node, structure) if structure is not None else ""
    if not by:
        return []
    count: float | None = None
    alone = structure is not None and not (
        structure.joins or structure.aggregates or structure.group_by
    )
    if node.actual is not None:
        count = node.actual.rows * max(node.actual.loops, 1)
    elif rows is not None and alone:
        count = rows
    if count is not None and count > MOST_SHARE * size:
        return []  # what keeps most of a table is read best from its beginning to its end
    remaining = f" to keep {number(count)}" if count is not None else ""
    return [
        Observation(
            node,
            "reads-all",
            f"reads all {size:,} rows of {node.table}{remaining}: no index answers {by}",
        )
    ]


def _whole_index(node: Node, size: int, structure: Structure) -> list[Observation]:
    """An index that is read from its beginning to its end for a few rows, as it is narrower than
    the table.
    """
    by = "" if structure.has_limit else _filters(node, structure)
    if not by or node.searched:
        return []
    text = f"reads all {size:,} entries of the index {node.index}: none starts with {by}"
    return [Observation(node, "reads-all", text)]


def _is_short(node: Node, plan: tuple[Node, ...], schema: Schema) -> bool:
    """Whether a sort has so few rows that no one need think of it: its own, or those of what it
    reads.
    """
    rows = [part.rows for part in (node.actual, node.estimate) if part is not None]
    if rows:
        return max(rows) < SHORT_SORT_ROWS
    below = tree.walk(plan) if system_of(schema.system).reads_in_turn else node.walk()
    read = [_rows_read(one, schema) for one in below if one.kind in tree.READS]
    return bool(read) and prod(read) < SHORT_SORT_ROWS


def _rows_read(node: Node, schema: Schema) -> float:
    """How many rows a step reads: what was counted, or estimated, or all of the table."""
    parts = [part.rows for part in (node.actual, node.estimate) if part is not None]
    size = table_rows(schema, node.table)
    return max(parts) if parts else float(size) if size is not None else inf


def _sort(node: Node, structure: Structure | None, schema: Schema) -> Observation:
    """Only what the statement orders by columns of one table can come sorted from an index."""
    order = structure.order_by if structure is not None else ()
    tables = {column.table for column, _ in order}
    table = next(iter(tables)) if len(tables) == 1 else ""
    tail = ""
    if (
        table
        and (table_rows(schema, table) or 0) >= SMALL_TABLE_ROWS
        and not (structure and structure.group_by)
    ):
        tail = "; an index in this order would return the rows sorted"
    part = (
        "; the last columns of the order are sorted after the index"
        if "TERM" in node.detail or "RIGHT" in node.detail or "Incremental" in node.detail
        else ""
    )
    return Observation(node, "sorts", f"sorts its rows before it returns the first one{tail}{part}")


def _partly(node: Node, structure: Structure, schema: Schema) -> str:
    answered = {column.lower() for column in node.searched}
    joined = {
        side.name.lower()
        for join in structure.joins
        for side in (join.left, join.right)
        if side.table.lower() == node.table.lower()
    }
    uncovered = [
        column
        for column in dict.fromkeys(_conditions(node, structure))
        if column.lower() not in answered | joined
    ]
    if not uncovered or not answered:
        return ""
    text = (
        f"the index answers {', '.join(node.searched)}; {', '.join(uncovered)} is then checked on "
        "each row"
    )
    return text + _gap(node, uncovered, schema)


def _gap(node: Node, uncovered: Sequence[str], schema: Schema) -> str:
    """Why an index that holds a column does not answer it: another one is before it that the
    statement does not set.
    """
    table = schema.table(node.table)
    index = (
        next((one for one in table.indexes if one.name == node.index), None)
        if table is not None
        else None
    )
    if index is None:
        return ""
    columns = [name.lower() for name in index.columns]
    answered = {column.lower() for column in node.searched}
    for column in uncovered:
        if column.lower() in columns:
            between = [
                name for name in columns[: columns.index(column.lower())] if name not in answered
            ]
            if between and between[0] != column.lower():
                return f", because {' and '.join(between)} precedes it in the index"
    return ""


def _expression_index(table: str, predicate: Predicate, system: str, type_name: str) -> str:
    """The index on an expression that serves a condition, in words; '' where there is none that
    surely does.
    """
    known = system_of(system)
    if (
        is_cut(type_name, system)
        or not known.expression_index
        or predicate.inside not in _FOLDING
        or predicate.operator != "="
    ):
        return ""
    name = predicate.column.name
    expression = known.expression_index.format(f"{predicate.inside}({known.quoted(name)})")
    index = known.quoted(name_for(table, (predicate.inside, name)))
    return (
        f"; one on the expression serves it: CREATE INDEX {index} ON {known.quoted(table)} "
        f"({expression})"
    )


def _wildcard_index(table: str, name: str, schema: Schema) -> str:
    """The index that an extension of the database has for it, in words; '' where there is none."""
    known = system_of(schema.system)
    extension, form = known.wildcard_index
    if not extension or extension not in schema.extensions:
        return ""
    index = known.quoted(name_for(table, (name, "trigrams")))
    return "a trigram index can: " + form.format(
        name=index, table=known.quoted(table), column=known.quoted(name)
    )


def _unservable(
    node: Node, structure: Structure | None, schema: Schema, values: Sequence[Value]
) -> list[Observation]:
    """Conditions that no plain index answers: a function around the column, a leading wildcard,
    another type.
    """
    if structure is None:
        return []
    texts, hidden = [], set()
    searched = {column.lower() for column in node.searched}
    for predicate in structure.predicates:
        name = predicate.column.name
        if not _is_of(predicate, node, structure) or name.lower() in searched:
            continue
        given = [values[slot] for slot in predicate.slots if slot < len(values)]
        if predicate.inside and node.kind in (tree.FULL_SCAN, tree.INDEX_SCAN):
            texts.append(_behind_function(node, predicate, schema))
            hidden.add(name)
        elif predicate.operator in ("like", "ilike") and _has_wildcard_first(given):
            texts.append(
                f"the LIKE on {name} starts with a wildcard, so an index can't be used: "
                + (
                    _wildcard_index(node.table, name, schema)
                    or "full-text search, or a trigram index, can"
                )
            )
        elif _is_text_by_number(node, name, given, schema):
            texts.append(
                f"{name} is a text but is compared with a number, so every row is converted and "
                "no index on it is used: pass a text"
            )
    texts += _converted(node, hidden, schema)
    return [Observation(node, "unservable", text) for text in texts]


def _behind_function(node: Node, predicate: Predicate, schema: Schema) -> str:
    """A function around a column. The parser has names of its own for some functions: only what the
    server writes too is the statement's.
    """
    name, function = predicate.column.name, predicate.inside
    written = re.search(rf"\b{re.escape(function)}\s*\(", node.filtered, re.I) is not None
    spoken = f"{function}()" if written or function in _COMMON else "a function"
    type_ = _type_of(node.table, name, schema)
    index = _expression_index(node.table, predicate, schema.system, type_)
    return f"{spoken} around {name} prevents the use of an index on that column{index}"


def _type_of(table: str, name: str, schema: Schema) -> str:
    """The type of a column, '' if it is not known."""
    known = schema.table(table)
    column = known.column(name) if known is not None else None
    return column.type if column is not None else ""


def _has_wildcard_first(values: Sequence[Value]) -> bool:
    return any(isinstance(value, str) and value[:1] in ("%", "_") for value in values)


def _is_text_by_number(node: Node, name: str, values: Sequence[Value], schema: Schema) -> bool:
    """Whether a text is compared with a number, on a server that then converts each row's text."""
    if not system_of(schema.system).number_hides_text:
        return False
    type_ = _type_of(node.table, name, schema).upper()
    return any(word in type_ for word in _TEXTS) and any(
        isinstance(value, int | float) and not isinstance(value, bool) for value in values
    )


def _converted(node: Node, hidden: set[str], schema: Schema) -> list[str]:
    """The first column that the server converts row by row because of a value's type."""
    table = schema.table(node.table)
    for cast in _CAST.finditer(node.filtered) if table is not None else ():
        column = cast["column"]
        if column not in hidden and table is not None and table.column(column) is not None:
            return [
                f"the value's type makes the server convert {column} of every row to "
                f"{cast['type'].strip()}, so no index on it is used: pass a value of the column's "
                "own type"
            ]
    return []
