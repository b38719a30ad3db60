"""Advice for columns that need not be fetched: a projection that keeps the keys which stitch and
sort.
"""

from __future__ import annotations

from askless.core.advice.orm import words_of
from askless.core.advice.rewriting import statements
from askless.core.findings.finding import Advice
from askless.core.findings.remedies import Project
from askless.core.inference.context import Context
from askless.core.inference.required_columns import keys_to_keep

# columns that are named one by one to be omitted; beyond that the ones that stay are named
NAMED_MOST = 3


def advise(remedy: Project, context: Context) -> tuple[Advice, ...]:
    """Leave the wide columns out; for `*`, name the columns."""
    structure, columns, load = remedy.structure, remedy.stats.columns, remedy.stats.load
    sql, system = context.sql(remedy.stats), remedy.stats.statement.system
    keep = keys_to_keep(structure, context.schema)
    out = [name for name in remedy.wide if name not in keep]
    remaining = [name for name in columns if name not in out]
    projection = statements.projected(sql, system, out)
    if not projection and any(output.star for output in structure.outputs) and remaining:
        projection = statements.named(sql, system, remaining)
    words = words_of(load)
    code = ""
    if words is not None and load is not None and load.target and out:
        tables = {output.name: output.column for output in structure.outputs}
        alone = structure.main if structure.of_one_table else ""
        named = {
            n: (tables[n].table or alone, tables[n].name) if n in tables else (alone, n)
            for n in columns
        }
        if remedy.unread and len(out) > NAMED_MOST:
            code = words.kept(
                load, list(dict.fromkeys(named[n] for n in remaining)), context.models
            )
        else:
            code = words.left_out(load, [named.get(n, (alone, n)) for n in out], context.models)
    if words is not None and load is not None and remedy.line is not None:
        code = words.placed(remedy.line.file, load.target, code)
    first = Advice(
        title="leave out " + ", ".join(out) if out else "name the columns that are read",
        why=("columns read: " if remedy.unread else "the list fetches ")
        + ", ".join(remaining[:8])
        + (" …" if len(remaining) > 8 else "")
        + "; the others are fetched but unused",
        sql=projection,
        code=code,
        at=remedy.line,
        saving=remedy.saving,
        trade_offs="objects without a column load it later, one query each, if it is used after all",
        verify=(
            "the projection keeps the keys"
            + (": " + ", ".join(sorted(keep & set(columns))) if keep & set(columns) else ""),
            ("no other code path reads " if remedy.unread else "nothing on the page reads ")
            + (", ".join(out) or "the other columns"),
        ),
    )
    return (first,)
