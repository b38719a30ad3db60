"""Advice for columns that need not be fetched: a projection that keeps the keys which stitch and
sort.
"""

from __future__ import annotations

from collections.abc import Collection

from askless.core.advice.orm import words_of
from askless.core.advice.rewriting import statements
from askless.core.findings.finding import Advice
from askless.core.findings.remedies import Project
from askless.core.inference.context import Context
from askless.core.inference.required_columns import keys_to_keep
from askless.core.inference.result_columns import readable, some

OFFERED = "(--track-use tells): "  # ends the condition of a call that is only offered
# columns that are named one by one to be omitted; beyond that the ones that stay are named
NAMED_MOST = 3


def advise(remedy: Project, context: Context) -> tuple[Advice, ...]:
    """Leave the wide columns out; for `*`, name the columns."""
    structure, columns = remedy.structure, remedy.stats.columns
    keep = keys_to_keep(structure, context.schema)
    out = [name for name in remedy.wide if name not in keep]
    remaining = [name for name in columns if name not in out]
    names = readable(out, columns, structure)
    fetched = ", ".join(readable(remaining[:8], columns, structure))
    fetched += " …" if len(remaining) > 8 else ""
    keys = ", ".join(sorted(keep & set(columns)))
    unread = some(names) or "the other columns"
    code = _code(remedy, out, remaining, context)
    # A column that is omitted and read after all is one query for each object.
    if code and not remedy.unread:
        code = f"only if nothing on the page reads {unread} {OFFERED}{code}"
    first = Advice(
        title="leave out " + some(names) if names else "name the columns that are read",
        why=f"{'columns read:' if remedy.unread else 'the list fetches'} {fetched}"
        "; the others are fetched but unused",
        sql=_projected(remedy, context.sql(remedy.stats), out, remaining),
        code=code,
        at=remedy.line,
        saving=remedy.saving,
        trade_offs="objects without a column load it later, one query each, if it is used after "
        "all",
        verify=(
            "the projection keeps the keys" + (f": {keys}" if keys else ""),
            f"{'no other code path' if remedy.unread else 'nothing on the page'} reads {unread}",
        ),
    )
    return (first,)


def _projected(remedy: Project, sql: str, out: list[str], remaining: list[str]) -> str:
    """The statement without these columns; with the others by name, where it says `*`."""
    system = remedy.stats.statement.system
    projection = statements.projected(sql, system, out)
    star = any(output.star for output in remedy.structure.outputs)
    if not projection and star and remaining:
        return statements.named(sql, system, remaining)
    return projection


def _code(remedy: Project, out: list[str], remaining: list[str], context: Context) -> str:
    """The ORM's call that leaves columns out, or names the remaining ones where that is shorter."""
    load, words = remedy.stats.load, words_of(remedy.stats.load)
    if words is None or load is None or context.may_be_loaded(remedy.stats):
        return ""
    code = ""
    if load.target and out:
        named = _tables_of_columns(remedy)
        taken = words.named_by(load, [named[name] for name in out], context.models)
        if taken:
            return words.unnamed(taken)
        columns = _columns_besides(remedy, out) or [named[name] for name in remaining]
        columns = list(dict.fromkeys(columns))
        if remedy.unread and NAMED_MOST < len(out) > len(columns):
            code = words.only_columns(load, columns, context.models, remedy.path)
        else:
            code = words.without_columns(
                load, [named[name] for name in out], context.models, remedy.path
            )
    return words.placed(remedy.line, load.target, code)


def _columns_besides(remedy: Project, out: Collection[str]) -> list[tuple[str, str]]:
    """(table, column) of each column of the result but these, in order: columns of two tables may
    share a name. [] where it is not known which is which.
    """
    structure, names = remedy.structure, remedy.stats.columns
    if len(structure.outputs) != len(names):
        return []
    alone = structure.main if structure.of_one_table else ""
    return [
        (output.column.table or alone, output.column.name)
        for name, output in zip(names, structure.outputs, strict=True)
        if name not in out
    ]


def _tables_of_columns(remedy: Project) -> dict[str, tuple[str, str]]:
    """(table, column) by the name in the result."""
    structure = remedy.structure
    outputs = {output.name: output.column for output in structure.outputs}
    alone = structure.main if structure.of_one_table else ""
    named = {name: (alone, name) for name in (*remedy.stats.columns, *remedy.wide)}
    for name in named:
        if name in outputs:
            named[name] = (outputs[name].table or alone, outputs[name].name)
    return named
