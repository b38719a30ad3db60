"""Which earlier result supplied which later parameter.

The recorder keeps the key-like columns of a result's first rows. If the keys of a repeated lookup
all are in one column of an earlier result of the same request, the values were seen to flow.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import msgspec

from askless.core.records.model import Load, Model, Request, Statement, parents_of
from askless.core.sql.slots import Value
from askless.core.sql.value_equality import meaning

ROWS_MOST = 4000  # sampled rows of one statement that are looked at


class Origin(msgspec.Struct, frozen=True):
    """The columns that the keys of a relation can come from: any of these in any of these tables,
    in lower case.
    """

    tables: frozenset[str]
    columns: frozenset[str]

    def fits(self, table: str, column: str) -> bool:
        """Whether a column is one of them; a table that can't be said may be one."""
        return column.lower() in self.columns and (not table or table.lower() in self.tables)


class Source(msgspec.Struct, frozen=True):
    """The earlier statement whose result supplied the keys.

    `rows` and `executions` are the statement's totals in the request up to the last lookup;
    `matched` of `keys` different keys are in its column; `named` says that the names of column and
    key fit, `close` that they say so by themselves: vessel_id and vessel.id, not owner_id and
    vessel.id. `levels` are those of a tree that is walked: the statement is then the lookups' own.
    """

    statement: int
    column: str
    table: str
    rows: int
    executions: int
    matched: int
    keys: int
    named: bool
    close: bool
    in_order: bool
    first: int
    levels: int = 0


def origin_of(load: Load | None, models: Mapping[tuple[str, str], Model]) -> Origin | None:
    """Where the keys of a relation that an ORM loads row by row must have come from.

    None if the ORM named no relation, or its columns are not known.
    """
    if load is None or load.kind != "lazy" or not load.relation:
        return None
    model = models.get((load.orm, load.model))
    if model is None or not model.table or load.relation not in model.relations:
        return None
    columns = model.relations[load.relation].local or model.keys
    if not columns:
        return None
    # What a model has from its parent is in the parent's table, and its key is the parent's.
    parents = parents_of(load.orm, model, models)
    inherited = [key for parent in parents for key in parent.keys if set(columns) & set(model.keys)]
    tables = frozenset(one.table.lower() for one in (model, *parents))
    return Origin(tables, frozenset(column.lower() for column in (*columns, *inherited)))


def _names_fit(
    parent_table: str, parent_column: str, child_table: str, child_column: str
) -> tuple[bool, bool]:
    """Whether two columns may be the two ends of a relation, and whether their names say so by
    themselves.
    """
    parent_column, child_column = parent_column.lower(), child_column.lower()
    parent_table, child_table = parent_table.lower().rstrip("s"), child_table.lower().rstrip("s")
    if parent_column == child_column and parent_column not in ("id", "pk", "name"):
        return True, True
    if child_column in ("id", "pk") or child_column == child_table + "_id":
        own = parent_column == child_column and parent_table == child_table
        close = own or parent_column == child_table or _stem_fits(parent_column, child_table)
        return close or parent_column.endswith(("_id", "_pk")), close
    close = parent_column in ("id", "pk") and _stem_fits(child_column, parent_table)
    return close or (parent_column in ("id", "pk") and child_column.endswith("_id")), close


def _stem_fits(column: str, table: str) -> bool:
    """Whether a column that refers to a table is called after it: range_id and offer_range."""
    stem = column.removesuffix("_id").removesuffix("_pk")
    return bool(stem) and (stem in table or table in stem)


def find_source(
    request: Request,
    indices: Sequence[int],
    keys: Sequence[Value],
    child_table: str,
    child_column: str,
    only: Origin | None = None,
) -> Source | None:
    """The best source for the keys of the lookups `indices` (their keys in the same order), or
    None.

    A source must have been there before each lookup that uses it, and hold at least nine tenths of
    the keys that its sample could hold. `only`: if an ORM named the relation, no other column will
    do: equal numbers are no evidence.
    """
    wanted: dict[Value, int] = {}
    for i, key in zip(indices, keys, strict=True):
        if key is not None:
            wanted.setdefault(meaning(key), i)
    if len(wanted) < 2:
        return None
    own = request.statement(indices[0]).shape.digest
    best: tuple[tuple[float, ...], Source] | None = None
    for where in _earlier(request, own, indices[-1]):
        for source in _columns(request, where, wanted, child_table, child_column):
            if only is not None and not only.fits(source.table, source.column):
                continue
            if only is not None:
                source = msgspec.structs.replace(source, named=True, close=True)
            score = (
                source.close,
                source.named,
                source.matched / source.keys,
                source.in_order,
                -source.executions,
                source.first,
            )
            if best is None or score > best[0]:
                best = score, source
    return best[1] if best else None


def recursion(
    request: Request, indices: Sequence[int], keys: Sequence[Value], only: Origin
) -> Source | None:
    """The lookups themselves as the source of most of their keys: a tree that is walked. None if
    they are no such source; `levels` of the result counts the lookups of the longest branch.
    """
    levels: dict[Value, int] = {}  # of the lookups that are needed up to a value
    deepest = matched = rows = 0
    column = ("", "")
    wanted = [None if key is None else meaning(key) for key in keys]
    for i, key in zip(indices, wanted, strict=True):
        matched += key in levels
        level = levels.get(key, 0) + 1
        deepest, rows = max(deepest, level), rows + max(request.rows[i], 0)
        statement = request.statement(i)
        for position, at in enumerate(statement.sampled):
            table, name = _column_at(statement, at)
            if only.fits(table, name):
                column = (table, name)
                for row in request.samples[i] or ():
                    if position < len(row):
                        levels.setdefault(meaning(row[position]), level)
    if deepest < 2:
        return None
    return Source(
        statement=request.statements[indices[0]],
        column=column[1],
        table=column[0],
        rows=rows,
        executions=len(indices),
        matched=matched,
        keys=len(set(wanted)),
        named=True,
        close=True,
        in_order=False,
        first=indices[0],
        levels=deepest,
    )


def _earlier(request: Request, own: str, last: int) -> list[list[int]]:
    """The executions with a sampled result before the last lookup, those of each other shape
    together.
    """
    results: dict[tuple[str, tuple[int, ...]], list[int]] = {}
    for i in range(last):
        if request.samples[i]:
            statement = request.statement(i)
            if statement.shape.digest != own:
                results.setdefault((statement.shape.digest, statement.sampled), []).append(i)
    return list(results.values())


def _values_of(request: Request, where: list[int], position: int) -> tuple[dict[Value, int], int]:
    """(the values of a sampled column with the query that had each first, the rows looked at)."""
    first_seen: dict[Value, int] = {}
    taken = 0
    for i in where:
        sample = request.samples[i] or ()
        for row in sample:
            if position < len(row):
                first_seen.setdefault(meaning(row[position]), i)
        taken += len(sample)
        if taken >= ROWS_MOST:
            break
    return first_seen, taken


def _column_at(statement: Statement, index: int) -> tuple[str, str]:
    """(table, name) of a column of a result: what the driver said, else what the statement says."""
    if index < len(statement.origins) and statement.origins[index]:
        table, _, name = statement.origins[index].rpartition(".")
        return table, name
    name = statement.columns[index] if index < len(statement.columns) else ""
    structure = statement.structure  # parsed only if its values fit
    if structure is None:
        return "", name
    outputs = structure.outputs
    if index < len(outputs) and not any(output.star for output in outputs):
        column = outputs[index].column
        return column.table or structure.main, column.name or name
    return structure.main, name


def _columns(
    request: Request,
    where: list[int],
    wanted: dict[Value, int],
    child_table: str,
    child_column: str,
) -> list[Source]:
    results = []
    statement = request.statement(where[0])
    rows = sum(request.rows[i] for i in where)
    for position, column_index in enumerate(statement.sampled):
        first_seen, taken = _values_of(request, where, position)
        matched = [key for key, i in wanted.items() if first_seen.get(key, i) < i]
        if len(matched) < 2 or len(matched) < 0.9 * _expected(wanted, first_seen, rows, taken):
            continue
        table, name = _column_at(statement, column_index)
        named, close = _names_fit(table, name, child_table, child_column)
        order = [value for value in first_seen if value in wanted]
        results.append(
            Source(
                statement=statement.number,
                column=name,
                table=table,
                rows=rows,
                executions=len(where),
                matched=len(matched),
                keys=len(wanted),
                named=named,
                close=close,
                in_order=order == [key for key in wanted if key in first_seen],
                first=where[0],
            )
        )
    return results


def _expected(wanted: dict[Value, int], seen: dict[Value, int], rows: int, taken: int) -> float:
    """How many keys a sample could hold: all if it is the whole result, else as many as it has
    values.
    """
    return len(wanted) if taken >= rows else min(len(wanted), len(seen))


def is_convincing(source: Source) -> bool:
    """Whether a source is more than a coincidence of small numbers."""
    if source.close:
        return source.matched >= 2
    return source.in_order and source.matched >= (3 if source.named else 5)
