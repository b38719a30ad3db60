"""`askless trial`: try an index on a copy of the database, and measure."""

from __future__ import annotations

import argparse
from statistics import median
from typing import Any

from askless.cli.common import add_database, add_json, command, print_document
from askless.cli.plan import node_of, parse_parameters
from askless.core.errors import AskLessError
from askless.core.model import Schema
from askless.database.connecting import parse_url
from askless.database.explaining import arguments_of
from askless.database.trying import IndexTrial, Measured, try_index
from askless.output import documents, terminal

EXAMPLES = """  askless trial --db sqlite:///harbour.db \\
      --index "CREATE INDEX vessel_call_sign ON vessel (call_sign)" \\
      --sql "SELECT * FROM vessel WHERE call_sign = 'H00042'"
  askless trial --db sqlite:///harbour.db --index "..." --sql "... = ?" --parameters '["H00042"]'"""


def add(commands: Any, name: str) -> None:
    """Declare the command."""
    parser = command(commands, name, "try an index on a copy of the database, and measure", EXAMPLES)
    parser.add_argument("--index", metavar="DDL", required=True, help="one CREATE INDEX statement")
    parser.add_argument(
        "--sql", metavar="STATEMENT", action="append", required=True, help="the SELECT to measure; may be repeated"
    )
    parser.add_argument(
        "--parameters",
        metavar="JSON",
        action="append",
        default=[],
        help="values of the placeholders of each --sql, in the same order",
    )
    add_database(parser, required=True)
    add_json(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Try and print; exit code 1 where a result changed."""
    url = parse_url(options.db)
    statements: list[str] = options.sql
    given = [arguments_of(*parse_parameters(text)) for text in options.parameters]
    if len(given) > len(statements):
        raise AskLessError(
            "bad-parameters", "there are more --parameters than --sql", "give one --parameters for each --sql"
        )
    given += [()] * (len(statements) - len(given))
    try:
        trial = try_index(url, options.index, list(zip(statements, given, strict=True)), terminal.progress)
    finally:
        terminal.progress_done()
    document = documents.TrialDocument(
        format="askless trial",
        system=url.get_backend_name(),
        index=trial.ddl,
        build_ms=trial.build_ms,
        size_bytes=trial.size_bytes,
        statements=tuple(_statement(trial, measured) for measured in trial.statements),
    )
    print_document(document) if options.json else terminal.trial(document)
    return 0 if all(row.same_result for row in document.statements) else 1


def _statement(trial: IndexTrial, measured: Measured) -> documents.TrialStatement:
    nothing = Schema(system="sqlite")
    return documents.TrialStatement(
        sql=measured.sql,
        before_ms=median(measured.before_ms),
        after_ms=median(measured.after_ms),
        ratio=measured.ratio.value,
        ratio_low=measured.ratio.low,
        ratio_high=measured.ratio.high,
        repetitions=len(measured.before_ms),
        rows=measured.rows,
        same_result=measured.same_result,
        difference=measured.difference,
        plan_before=tuple(node_of(node, nothing, []) for node in measured.plan_before),
        plan_after=tuple(node_of(node, nothing, []) for node in measured.plan_after),
        uses_index=measured.uses_index,
        verdict=verdict(trial, measured),
    )


def verdict(trial: IndexTrial, measured: Measured) -> str:
    """What the trial showed, in words."""
    ratio = measured.ratio
    interval = f"95 % interval ×{ratio.low:.2f} to ×{ratio.high:.2f}"
    if not measured.same_result:
        return "not the same result: do not add it before you know why"
    if not measured.uses_index:
        return f"not used: the planner does not choose {trial.name or 'the index'} for this statement"
    if not ratio.certain:
        return f"no difference seen ({interval})"
    if ratio.value > 1:
        return f"faster: ×{ratio.value:.2f} ({interval})"
    return f"slower: takes ×{1 / ratio.value:.2f} of the time with the index ({interval} for before over after)"
