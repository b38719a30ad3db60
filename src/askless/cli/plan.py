"""`askless plan`: the plans of what costs most, in words, and the indexes that would help."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import Any

from sqlalchemy.engine import Connection

from askless.cli.common import (
    add_database,
    add_json,
    add_limits,
    add_schema,
    command,
    limits_of,
    load,
    print_document,
    schema_file,
)
from askless.cli.subjects import Subject, costliest, of_request, parse_parameters, writes_of
from askless.core import plans
from askless.core.advice.indexing import advisor
from askless.core.errors import AskLessError
from askless.core.model import Schema
from askless.core.plans.measured import observe_measured
from askless.core.plans.observations import merged, observe
from askless.core.plans.tree import Node, without_values
from askless.core.plans.unreadable import UnreadablePlan
from askless.core.sql.masking import masker
from askless.core.sql.slots import values_of
from askless.core.sql.structure import Structure, structure_of
from askless.database import explaining
from askless.database.connecting import connect, parse_url
from askless.database.reflecting import reflect
from askless.database.servers import Limits
from askless.database.workload import statement_of
from askless.output import documents, terminal, terminal_plans
from askless.output.plans import nodes_of

EXAMPLES = """  askless plan calls --db sqlite:///harbour.db               the shapes of a capture that cost most
  askless plan calls --db postgresql://harbour@127.0.0.1/harbour --request 12 --query 3 --analyze
  askless plan --db sqlite:///harbour.db --sql "SELECT * FROM vessel WHERE call_sign = 'H00042'\"
  askless plan --file plan.txt --figure plan.svg              a plan that somebody pasted, and a picture of it"""


def add(commands: Any, name: str) -> None:
    """Declare the command."""
    parser = command(commands, name, "explain statements on the database and recommend indexes", EXAMPLES)
    parser.add_argument(
        "capture", metavar="CAPTURE", type=Path, nargs="?", help="a capture: a file, or a folder of files"
    )
    parser.add_argument("--sql", metavar="STATEMENT", help="one statement instead of a capture")
    parser.add_argument(
        "--parameters", metavar="JSON", default="", help="values of its placeholders: a list, or an object by name"
    )
    parser.add_argument("--top", metavar="N", type=int, default=5, help="how many shapes of the capture (default: 5)")
    parser.add_argument("--shape", metavar="HASH", default="", help="only this shape (the first characters are enough)")
    parser.add_argument("--request", metavar="N", type=int, help="the queries of this request of the capture")
    parser.add_argument("--query", metavar="K", type=int, help="with --request: only its query K, noise not counted")
    parser.add_argument(
        "--analyze",
        action="store_true",
        help="run the statements to measure each step (SELECT only, read-only transaction, time limit, rolled back)",
    )
    parser.add_argument("--values", action="store_true", help="show literals of statements; they may be private")
    parser.add_argument("--tree", action="store_true", help="with a column for rows and one for time beside the tree")
    parser.add_argument("--figure", metavar="OUT", type=Path, help="draw the first plan into a file: .svg or .png")
    parser.add_argument(
        "--file",
        metavar="PLAN",
        help="a saved plan: PostgreSQL's text or JSON, MariaDB's or MySQL's JSON, table or tree; - reads standard input",
    )
    add_database(parser)
    add_schema(parser)
    add_limits(parser)
    add_json(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Explain, observe, advise, print."""
    if options.figure is not None:
        from askless.output import figures

        figures.check(options.figure)
    document = _saved(options.file, options) if options.file is not None else _live(options)
    if options.figure is not None:
        first = next((row for row in document.statements if row.plan), None)
        if first is None:
            raise AskLessError("no-figure", "there is no plan to draw", "see the messages above")
        figures.plan(first, options.figure)
        terminal.note(f"drew {options.figure}")
    if options.json:
        print_document(document)
    elif options.tree:
        terminal_plans.plan_tree(document)
    else:
        terminal_plans.plan(document)
    return 0


def _live(options: argparse.Namespace) -> documents.PlanDocument:
    if options.db is None:
        raise AskLessError(
            "no-database", "plans come from a database: which?", "name it with --db, or a saved plan with --file"
        )
    url = parse_url(options.db)
    if (options.capture is None) == (options.sql is None):
        raise AskLessError(
            "what-to-explain", "name a capture or give --sql, one of the two", "see: askless plan --help"
        )
    writes: advisor.Writes = _no_writes
    if options.sql is not None:
        parameters, names = parse_parameters(options.parameters)
        subjects = [Subject(options.sql, parameters, names)]
    elif options.request is not None:
        subjects = of_request(options.capture, options.request, options.query)
    else:
        summary, _ = load(options.capture)
        subjects = costliest(summary, options.top, options.shape)
        writes = writes_of(summary)
    if not subjects:
        what = f"no statement of shape {options.shape}" if options.shape else "no SELECT, UPDATE or DELETE"
        raise AskLessError("nothing-to-explain", f"{options.capture} holds {what}", "record more of the application")
    show = bool(options.values) or options.sql is not None
    limits = limits_of(options)
    with connect(url, limits) as connection:
        schema = schema_file(options.schema) or reflect(connection)
        problems: list[AskLessError] = []
        rows = tuple(
            _explained(connection, schema, subject, writes, show, options.analyze, limits, problems)
            for subject in subjects
        )
    if len(problems) == len(rows):
        what = "the statement" if len(rows) == 1 else "no statement of the capture"
        raise AskLessError("cant-explain", f"{what} can't be explained: {problems[0].message}", problems[0].remedy)
    return documents.PlanDocument(format="askless plan", system=schema.system, statements=rows)


def _no_writes(table: str, columns: object) -> int:
    return 0


def _saved(name: str, options: argparse.Namespace) -> documents.PlanDocument:
    """Read a saved plan; no database is asked."""
    if options.capture is not None or options.sql is not None or options.db is not None:
        raise AskLessError(
            "what-to-explain",
            "--file stands alone: a saved plan needs no capture, --sql or --db",
            "see: askless plan --help",
        )
    try:
        text = sys.stdin.read() if name == "-" else Path(name).read_text(encoding="utf-8-sig")
    except (OSError, UnicodeDecodeError) as error:
        reason = error.strerror if isinstance(error, OSError) else "it is no text"
        raise AskLessError("plan-unreadable", f"can't read {name}: {reason}", "check the path") from None
    try:
        system, plan = plans.read_saved(text)
    except UnreadablePlan as error:
        raise AskLessError(
            "plan-unreadable", f"{name if name != '-' else 'standard input'}, line {error.line}: {error.reason}",
            "paste what EXPLAIN printed, from its first line on; EXPLAIN (ANALYZE, BUFFERS) tells most",
        ) from None  # fmt: skip
    known = schema_file(options.schema)
    schema = known or Schema(system)
    observations = merged(observe(plan, None, schema) if known is not None else [], observe_measured(plan))
    row = documents.PlanRow(
        sql=name if name != "-" else "the plan on standard input", shape="", routes=(), queries=0, total_ms=0.0,
        plan=nodes_of(plan, schema, observations), indexes=(),
    )  # fmt: skip
    return documents.PlanDocument(format="askless plan", system=system, statements=(row,), schema_known=False)


def _explained(
    connection: Connection, schema: Schema, subject: Subject, writes: advisor.Writes, show: bool, analyze: bool,
    limits: Limits, problems: list[AskLessError],
) -> documents.PlanRow:  # fmt: skip
    structure = structure_of(subject.text, subject.system or schema.system)
    plan: tuple[Node, ...] = ()
    generic: tuple[Node, ...] = ()
    error = ""
    try:
        query = explaining.query_of(connection, subject.text, subject.parameters, subject.names, subject.system)
        plan = explaining.explain(connection, query, analyze, limits)
        generic = explaining.generic(connection, query, plan) if not analyze else ()
    except AskLessError as problem:
        error = problem.message
        problems.append(problem)
    mask = masker(subject.system or schema.system, show)
    plan, generic = without_values(plan, mask), without_values(generic, mask)
    values = values_of(structure.slots, subject.parameters, subject.names) if structure is not None else []
    observations = merged(observe(plan, structure, schema, subject.rows, values), observe_measured(plan))
    return documents.PlanRow(
        sql=mask(subject.text),
        shape=subject.shape,
        routes=subject.routes,
        queries=subject.queries,
        total_ms=subject.total_ns / 1e6,
        plan=nodes_of(plan, schema, observations),
        indexes=_advised(connection, schema, subject, structure, writes, show)
        if structure is not None and plan
        else (),
        error=error,
        generic_plan=nodes_of(generic, schema, observe(generic, structure, schema)),
    )


def _advised(
    connection: Connection, schema: Schema, subject: Subject, structure: Structure, writes: advisor.Writes, show: bool
) -> tuple[documents.IndexRow, ...]:
    """The indexes that would help this statement alone."""
    statement = statement_of(
        connection,
        schema,
        subject.shape,
        structure,
        (subject.parameters, *subject.others),
        subject.names,
        subject.total_ns / 1e6 or 1.0,
    )
    return tuple(
        documents.IndexRow(
            a.ddl, a.table, a.columns, a.why, a.size_bytes, a.writes, a.redundant, a.check, partial=a.partial if show else "",
            rows_before=a.serves[0].rows_before if a.serves else None, rows_after=a.serves[0].rows_after if a.serves else None,
            guessed=a.guessed,
        )
        for a in advisor.advise([statement], schema, writes)
    )  # fmt: skip
