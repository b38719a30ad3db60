"""What kind of statement a text is, before anything is done with it on a database."""

from __future__ import annotations

from sqlglot import exp

from askless.core.errors import AskLessError
from askless.core.sql.parsing import Parsed, parse_all
from askless.core.sql.shape import shape_text
from askless.core.sql.tokens import tokens
from askless.core.systems import system_of

# What a SELECT can hold and yet write: new tables, files, changed rows, locks that others wait for.
_RUN = ("/*!", "/*M!")  # comments that are code to MySQL, or to MariaDB alone
_WRITES = (
    exp.Insert,
    exp.Update,
    exp.Delete,
    exp.Merge,
    exp.Into,
    exp.Create,
    exp.Drop,
    exp.Command,
)


class IndexStatement:
    """A CREATE INDEX: its name, its table, and its columns where they are plain."""

    def __init__(self, name: str, table: str, columns: tuple[str, ...]) -> None:
        self.name = name
        self.table = table
        self.columns = columns


def refuse_hidden(text: str, system: str) -> None:
    """Raise AskLessError hidden-code for a text with a comment that a server of MySQL's kind runs:
    `/*! into outfile … */`.

    No parser sees what is in it, so nothing is known of what such a statement does.
    """
    for token in tokens(text, system):
        if token.kind == "comment" and token.text.startswith(_RUN):
            raise AskLessError(
                "hidden-code",
                f"the statement has a comment that the server runs: {token.text[:40]}",
                "move its content into the statement, or remove it",
            )


def _read(text: str, system: str) -> list[Parsed]:
    refuse_hidden(text, system)
    parsed = parse_all(text, system)
    # MySQL's kind knows VALUES by itself, the parser as a table only. What is run is the text as it
    # was.
    if not parsed and text.lstrip()[:6].upper() == "VALUES":
        parsed = parse_all(f"SELECT * FROM ({text}) AS listed", system)  # noqa: S608
    return parsed


def _parsed(text: str, system: str) -> list[exp.Expression]:
    return [parsed.tree for parsed in _read(text, system)]


def index_of(ddl: str, system: str) -> IndexStatement:
    """A CREATE INDEX statement, read. Raises AskLessError not-an-index for anything else."""
    example = "for example: CREATE INDEX by_vessel ON port_call (vessel_id)"
    parsed = _parsed(ddl, system)
    only = parsed[0] if len(parsed) == 1 else None
    if (
        not isinstance(only, exp.Create)
        or only.kind != "INDEX"
        or only.find(exp.Insert, exp.Delete, exp.Update)
    ):
        raise AskLessError("not-an-index", "--index takes one CREATE INDEX statement", example)
    if "concurrently" in ddl.lower().split("(")[0].split():
        raise AskLessError(
            "not-an-index",
            "CREATE INDEX CONCURRENTLY can't run in a transaction",
            "omit CONCURRENTLY for the trial",
        )
    named = only.this.this if only.this is not None else None
    table = only.find(exp.Table)
    if table is None:
        raise AskLessError("not-an-index", "the index names no table", example)
    if table.args.get("db") is not None and not system_of(system).named_schemas:
        raise AskLessError(
            "not-an-index",
            f"the trial uses a copy, so name the table without a schema: {table.name}",
            example,
        )
    columns = tuple(column.name for column in only.find_all(exp.Column))
    return IndexStatement(named.name if named is not None else "", table.name, columns)


def checked_select(text: str, system: str) -> exp.Expression:
    """The one SELECT of a text, parsed. What a trial runs must not write. Raises AskLessError
    not-a-select.
    """
    parsed = _parsed(text, system)
    remedy = "name one SELECT; writes are never run"
    if len(parsed) != 1 or not isinstance(parsed[0], exp.Query | exp.Values):
        raise AskLessError(
            "not-a-select", "a trial runs the statement, so it takes one SELECT", remedy
        )
    # The parser does not know INTO OUTFILE, so the words themselves are looked at, literals and
    # comments omitted.
    if parsed[0].find(*_WRITES) is not None or " into " in f" {shape_text(text, system)} ":
        raise AskLessError("not-a-select", "this SELECT writes, so it is not run", remedy)
    if any(select.args.get("locks") for select in parsed[0].find_all(exp.Select)):
        raise AskLessError(
            "not-a-select",
            "this SELECT locks rows (FOR UPDATE or the like), so it is not run",
            "remove the lock",
        )
    return parsed[0]


# What a server explains without running it, and no parser need know: the rest of the statement is
# the server's to judge.
_PLANNED = (
    "select",
    "insert",
    "update",
    "delete",
    "merge",
    "replace",
    "with",
    "values",
    "table",
    "(",
)


def checked_plannable(text: str, system: str) -> None:
    """Raise AskLessError not-plannable for a text that is not a single SELECT, INSERT, UPDATE,
    DELETE or MERGE.

    Raises AskLessError hidden-code if a comment of the text is code to the server.
    """
    parsed = _parsed(text, system)
    plannable = exp.Query | exp.Values | exp.Insert | exp.Update | exp.Delete | exp.Merge
    if len(parsed) > 1 or not shape_text(text, system).lower().startswith(_PLANNED):
        reason = "only one SELECT, INSERT, UPDATE, DELETE or MERGE can be explained at a time"
    elif parsed and not isinstance(parsed[0], plannable | exp.Command | exp.Alias):
        reason = "only SELECT, INSERT, UPDATE, DELETE and MERGE can be explained"
    elif parsed and parsed[0].find(exp.Into) is not None:
        reason = "this SELECT makes a table"
    else:
        return
    raise AskLessError("not-plannable", reason, "name one such statement")


def index_parts(ddl: str, system: str) -> tuple[str, tuple[str, ...]]:
    """A SELECT of all that a CREATE INDEX computes, and the names in it of operator classes and
    access methods.

    Raises AskLessError not-an-index.
    """
    index_of(ddl, system)
    parsed = _read(ddl, system)[0]
    create = parsed.tree
    table, parameters = create.find(exp.Table), create.find(exp.IndexParameters)
    arguments = parameters.args if parameters is not None else {}
    columns = [column.find(exp.Opclass) or column for column in arguments.get("columns") or ()]
    select = exp.select(*(column.this.copy() for column in columns)).from_(
        table.copy() if table is not None else ""
    )
    condition = arguments.get("where")
    if condition is not None:
        select = select.where(
            (condition.this if isinstance(condition, exp.Where) else condition).copy()
        )
    names = [str(node.args["expression"].name) for node in create.find_all(exp.Opclass)]
    names += [str(arguments["using"].name)] if arguments.get("using") is not None else []
    return parsed.written(select), tuple(name.lower() for name in names)


def tables_in(tree: exp.Expression) -> tuple[str, ...]:
    """The tables that a statement reads, each once, what it defines itself omitted."""
    own = {cte.alias for cte in tree.find_all(exp.CTE)}
    return tuple(
        dict.fromkeys(
            table.name for table in tree.find_all(exp.Table) if table.name and table.name not in own
        )
    )


def qualified_tables(tree: exp.Expression) -> tuple[str, ...]:
    """The tables that a statement names with their schema."""
    return tuple(dict.fromkeys(f"{t.db}.{t.name}" for t in tree.find_all(exp.Table) if t.db))
