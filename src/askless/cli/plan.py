"""`askless plan`: the plans of what costs most, in words, and the indexes that would help."""

from __future__ import annotations

import argparse
import json
import sys
from pathlib import Path
from typing import Any

import msgspec

from askless.cli.common import add_database, add_json, command, load, print_document
from askless.core import plans
from askless.core.advice import index as index_advice
from askless.core.errors import AskLessError
from askless.core.model import Schema
from askless.core.plans.measured import observe_measured
from askless.core.plans.observations import Observation, observe
from askless.core.plans.tree import Node
from askless.core.plans.unreadable import UnreadablePlan
from askless.core.shape_stats import Example, ShapeStats
from askless.core.sql.masking import masked
from askless.core.sql.slots import Value
from askless.core.sql.structure import Predicate, structure_of
from askless.core.summary import Summary
from askless.database import explaining
from askless.database.connecting import connect, parse_url
from askless.database.reflecting import reflect
from askless.output import documents, terminal

EXAMPLES = """  askless plan calls --db sqlite:///harbour.db               the shapes of a capture that cost most
  askless plan calls --db sqlite:///harbour.db --top 10
  askless plan --db sqlite:///harbour.db --sql "SELECT * FROM vessel WHERE call_sign = 'H00042'\"
  askless plan --file plan.txt                                a plan that PostgreSQL printed, text or JSON"""


class Subject(msgspec.Struct):
    """A statement to explain, with one execution's values, and what it cost in the capture."""

    text: str
    parameters: tuple[Value, ...]
    names: tuple[str, ...]
    rows: int | None = None
    shape: str = ""
    routes: tuple[str, ...] = ()
    queries: int = 0
    total_ns: int = 0


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
    parser.add_argument("--values", action="store_true", help="show literals of statements; they may be private")
    parser.add_argument(
        "--file",
        metavar="PLAN",
        help="a saved plan: PostgreSQL's text or JSON, MariaDB's or MySQL's JSON or table; - reads standard input",
    )
    add_database(parser)
    add_json(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Explain, observe, advise, print."""
    if options.file is not None:
        return _run_saved(options.file, options)
    if options.db is None:
        raise AskLessError(
            "no-database", "plans come from a database: which?", "name it with --db, or a saved plan with --file"
        )
    url = parse_url(options.db)
    if (options.capture is None) == (options.sql is None):
        raise AskLessError(
            "what-to-explain", "name a capture or give --sql, one of the two", "see: askless plan --help"
        )
    writes: dict[str, int] = {}
    if options.sql is not None:
        parameters, names = parse_parameters(options.parameters)
        subjects = [Subject(options.sql, parameters, names)]
    else:
        summary, _ = load(options.capture)
        subjects = costliest(summary, options.top)
        writes = writes_of(summary)
        if not subjects:
            raise AskLessError(
                "nothing-to-explain",
                f"{options.capture} holds no SELECT, UPDATE or DELETE",
                "record more of the application",
            )
    show = bool(options.values) or options.sql is not None
    with connect(url) as connection:
        schema = reflect(connection)
        rows = tuple(_explained(connection, schema, subject, writes, show) for subject in subjects)
    if options.sql is not None and rows[0].error:
        raise AskLessError(
            "cant-explain", rows[0].error, "check that it runs on this database; values: --parameters '[1]'"
        )
    document = documents.PlanDocument(format="askless plan", system=schema.system, statements=rows)
    print_document(document) if options.json else terminal.plan(document)
    return 0


def _run_saved(name: str, options: argparse.Namespace) -> int:
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
    schema = Schema(system)
    observations = observe_measured(plan)
    row = documents.PlanRow(
        sql=name if name != "-" else "the plan on standard input", shape="", routes=(), queries=0, total_ms=0.0,
        plan=tuple(node_of(node, schema, observations, _total_ms(plan)) for node in plan), indexes=(),
    )  # fmt: skip
    document = documents.PlanDocument(format="askless plan", system=system, statements=(row,), schema_known=False)
    print_document(document) if options.json else terminal.plan(document)
    return 0


def _total_ms(plan: tuple[Node, ...]) -> float:
    return sum(node.actual.total_ms for node in plan if node.actual is not None and node.actual.total_ms)


def parse_parameters(text: str) -> tuple[tuple[Value, ...], tuple[str, ...]]:
    """Values and names from --parameters. Raises AskLessError bad-parameters."""
    if not text:
        return (), ()
    try:
        given = json.loads(text)
    except ValueError as error:
        raise AskLessError(
            "bad-parameters", f"--parameters is not JSON: {error}", "write a list: --parameters '[1, \"due\"]'"
        ) from None
    if isinstance(given, dict):
        return tuple(given.values()), tuple(given)
    if not isinstance(given, list):
        raise AskLessError(
            "bad-parameters", "--parameters takes a list or an object", "write: --parameters '[1, \"due\"]'"
        )
    return tuple(given), ()


def costliest(summary: Summary, top: int) -> list[Subject]:
    """The shapes that cost most time over the capture, each once, with an execution whose text and values are whole."""
    merged: dict[str, list[tuple[str, ShapeStats]]] = {}
    for route in summary.routes.values():
        for stats in route.asked():
            structure = stats.structure
            if stats.examples and structure is not None and structure.kind in ("select", "update", "delete"):
                merged.setdefault(stats.shape.digest, []).append((route.route, stats))
    subjects = []
    for digest, found in merged.items():
        example = _example([stats for _, stats in found])
        subjects.append(
            Subject(
                text=example.text,
                parameters=example.parameters,
                names=example.statement.names,
                rows=example.rows,
                shape=digest,
                routes=tuple(route for route, _ in sorted(found, key=lambda item: -item[1].duration_ns)),
                queries=sum(stats.count for _, stats in found),
                total_ns=sum(stats.duration_ns for _, stats in found),
            )
        )
    return sorted(subjects, key=lambda subject: (-subject.total_ns, subject.shape))[:top]


def _example(stats: list[ShapeStats]) -> Example:
    examples = [example for one in stats for example in one.examples]
    whole = [e for e in examples if not any(isinstance(v, tuple) and v[0].startswith("cut") for v in e.parameters)]
    return (whole or examples)[0]


def writes_of(summary: Summary) -> dict[str, int]:
    """How many INSERTs, UPDATEs and DELETEs of each table the capture holds."""
    found: dict[str, int] = {}
    for route in summary.routes.values():
        for stats in route.asked():
            structure = stats.structure
            if structure is not None and structure.kind in ("insert", "update", "delete"):
                found[structure.main.lower()] = found.get(structure.main.lower(), 0) + stats.count
    return found


def _explained(
    connection: Any, schema: Schema, subject: Subject, writes: dict[str, int], show: bool
) -> documents.PlanRow:
    structure = structure_of(subject.text, schema.system)
    arguments = explaining.arguments_of(subject.parameters, subject.names)
    plan: tuple[Node, ...] = ()
    error = ""
    try:
        plan = explaining.explain(connection, subject.text, arguments)
    except AskLessError as problem:
        error = problem.message
    advice = []
    if structure is not None and plan:

        def kept_share(table: str, predicates: list[Predicate]) -> float | None:
            size = schema.table(table)
            rows = size.rows if size is not None else None
            return explaining.kept_share(
                connection, structure, subject.parameters, subject.names, table, predicates, rows or 0
            )

        advice = index_advice.advise(structure, plan, schema, kept_share)
    observations = observe(plan, structure, schema, subject.rows)
    return documents.PlanRow(
        sql=subject.text if show else masked(subject.text, schema.system),
        shape=subject.shape,
        routes=subject.routes,
        queries=subject.queries,
        total_ms=subject.total_ns / 1e6,
        plan=tuple(node_of(node, schema, observations) for node in plan),
        indexes=tuple(
            documents.IndexRow(
                a.ddl, a.table, a.columns, a.why, a.size_bytes, writes.get(a.table.lower(), 0), a.redundant, a.check
            )
            for a in advice
        ),
        error=error,
    )


def node_of(node: Node, schema: Schema, observations: list[Observation], total_ms: float = 0.0) -> documents.PlanNode:
    """A plan node as a document shows it."""
    table = schema.table(node.table)
    estimate, actual, own_ms = node.estimate, node.actual, node.own_ms
    return documents.PlanNode(
        kind=node.kind,
        detail=node.detail,
        table=node.table,
        index=node.index,
        rows=table.rows if table is not None else None,
        observations=tuple(o.text for o in observations if o.node is node),
        children=tuple(node_of(child, schema, observations, total_ms) for child in node.children),
        estimated_rows=estimate.rows if estimate is not None else None,
        actual_rows=actual.rows if actual is not None else None,
        loops=actual.loops if actual is not None else None,
        own_ms=own_ms,
        share=own_ms / total_ms if own_ms is not None and total_ms else None,
        cost=estimate.cost if estimate is not None else None,
        condition=" and ".join(part for part in (node.answered, node.filtered) if part),
    )
