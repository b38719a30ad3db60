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
    code = _code(remedy, out, context)
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


def _code(remedy: Project, out: list[str], context: Context) -> str:
    """The ORM's call that leaves columns out, or names the remaining ones where that is shorter."""
    load, words = remedy.stats.load, words_of(remedy.stats.load)
    if words is None or load is None or context.may_be_loaded(remedy.stats):
        return ""
    code = ""
    if load.target and out:
        columns = _columns(remedy)
        by_name = dict(columns)
        idle = [by_name[name] for name in out]
        taken = words.named_by(load, idle, context.models)
        if taken:
            return words.unnamed(taken)
        rest = list(dict.fromkeys(column for name, column in columns if name not in out))
        if remedy.unread and NAMED_MOST < len(idle) > len(rest):
            code = words.only_columns(load, rest, context.models, remedy.path)
        else:
            code = words.without_columns(load, idle, context.models, remedy.path)
    return words.placed(remedy.line, load.target, code)


def _columns(remedy: Project) -> list[tuple[str, tuple[str, str]]]:
    """The names in the result, each with its (table, column), in order: columns of two tables may
    share a name.
    """
    structure, names = remedy.structure, remedy.stats.columns
    alone = structure.main if structure.of_one_table else ""
    known = [
        (output.name, (output.column.table or alone, output.column.name))
        for output in structure.outputs
    ]
    if len(known) == len(names):
        return [(name, column) for name, (_, column) in zip(names, known, strict=True)]
    by_name = dict(known)
    every = dict.fromkeys((*names, *remedy.wide))
    return [(name, by_name.get(name, (alone, name))) for name in every]
