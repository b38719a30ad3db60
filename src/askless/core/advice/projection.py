"""Advice for columns that need not be fetched: a projection that keeps the keys which stitch and sort."""

from __future__ import annotations

from collections.abc import Sequence

from askless.core.advice import rewriting
from askless.core.advice.orm import Models, words_of
from askless.core.findings import Advice, Line
from askless.core.model import Load, Schema
from askless.core.sql.structure import Structure

NAMED_MOST = 3  # columns that are named one by one to be left out; beyond that the ones that stay are named


def keys_to_keep(structure: Structure, schema: Schema | None) -> set[str]:
    """Columns that a projection must not lose: keys, columns that join, sort or group."""
    kept = {column.name for join in structure.joins for column in (join.left, join.right)}
    kept |= {column.name for column, _ in structure.order_by} | {column.name for column in structure.group_by}
    kept |= {output.column.name for output in structure.outputs if output.column.name.lower() in ("id", "pk")}
    kept |= {output.column.name for output in structure.outputs if output.column.name.lower().endswith("_id")}
    table = schema.table(structure.main) if schema is not None else None
    if table is not None:
        kept |= set(table.primary_key)
        kept |= {name for key in table.foreign_keys for name in key.columns}
    return kept


def advise(
    sql: str,
    system: str,
    structure: Structure,
    columns: Sequence[str],
    wide: Sequence[str],
    load: Load | None,
    line: Line | None,
    saving: str,
    schema: Schema | None,
    models: Models,
    known: bool = False,
) -> tuple[Advice, ...]:
    """Leave the wide columns out; for `*`, name the columns. `known` tells that nobody read them."""
    keep = keys_to_keep(structure, schema)
    out = [name for name in wide if name not in keep]
    kept = [name for name in columns if name not in out]
    projection = rewriting.projected(sql, system, out)
    if not projection and any(output.star for output in structure.outputs) and kept:
        projection = _named(sql, system, kept)
    words = words_of(load)
    code = ""
    if words is not None and load is not None and load.target and out:
        tables = {output.name: output.column for output in structure.outputs}
        named = {n: (tables[n].table, tables[n].name) if n in tables else ("", n) for n in columns}
        if known and len(out) > NAMED_MOST:
            code = words.kept(load, [named[n] for n in kept], models)
        else:
            code = words.left_out(load, [named.get(n, ("", n)) for n in out], models)
    first = Advice(
        title="leave out " + ", ".join(out) if out else "name the columns that are read",
        why=("what was read: " if known else "the list fetches ")
        + ", ".join(kept[:8])
        + (" …" if len(kept) > 8 else "")
        + "; the others only travel along",
        sql=projection,
        code=code,
        at=line,
        saving=saving,
        trade_off="objects with a column left out read it again, one query each, if it is used after all",
        check=(
            "keys stay in the projection"
            + (": " + ", ".join(sorted(keep & set(columns))) if keep & set(columns) else ""),
            ("no other way through the page reads " if known else "nothing on the page reads ")
            + (", ".join(out) or "the other columns"),
        ),
    )
    return (first,)


def _named(sql: str, system: str, columns: Sequence[str]) -> str:
    from sqlglot import exp

    def change(tree: exp.Select) -> exp.Select | None:
        if len(tree.expressions) != 1 or tree.args.get("joins"):
            return None
        tree.set("expressions", [exp.column(name) for name in columns])
        return tree

    return rewriting.rewritten(sql, system, change)
