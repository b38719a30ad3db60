"""`askless trial`: prove advice on the database. An index, a rewritten statement, or a finding's look-ups in one query."""

from __future__ import annotations

import argparse
from pathlib import Path
from statistics import median
from typing import Any

from askless.cli import trial_finding, trial_rewrite
from askless.cli.common import add_database, add_json, add_limits, command, limits_of, load, print_document
from askless.cli.stopping import stoppable
from askless.cli.subjects import costliest, parse_parameters
from askless.core.errors import AskLessError
from askless.core.model import Schema
from askless.core.plans.tree import without_values
from askless.core.sql.masking import masker
from askless.core.sql.statements import index_of
from askless.core.sql.structure import structure_of
from askless.database.connecting import parse_url
from askless.database.index_trial import Asked, IndexTrial, Measured, try_index
from askless.output import documents, terminal, terminal_trials
from askless.output.plans import nodes_of
from askless.output.text import interval

EXAMPLES = """  an index, where nobody else sees it:
    askless trial --db sqlite:///harbour.db --index "CREATE INDEX vessel_call_sign ON vessel (call_sign)" \\
        --sql "SELECT * FROM vessel WHERE call_sign = 'H00042'"
    askless trial calls --db URL --index "CREATE INDEX ..."     for what the capture asks of that table
  a statement written anew, with the capture's values:
    askless trial calls --db URL --before old.sql --after new.sql
  a finding: its look-ups one by one, against one query for all:
    askless trial calls --db URL --finding 1 --round-trip 0.5ms"""


def add(commands: Any, name: str) -> None:
    """Declare the command."""
    parser = command(commands, name, "prove advice on the database: same result, measured faster", EXAMPLES)
    parser.add_argument("capture", metavar="CAPTURE", type=Path, nargs="?", help="a capture, for statements and values")
    parser.add_argument("--index", metavar="DDL", help="one CREATE INDEX statement")
    parser.add_argument(
        "--sql", metavar="STATEMENT", action="append", default=[], help="the SELECT to measure; may be repeated"
    )
    parser.add_argument("--before", metavar="FILE", type=Path, help="the statement as it is")
    parser.add_argument("--after", metavar="FILE", type=Path, help="the statement as rewritten")
    parser.add_argument(
        "--finding", metavar="N", help="the n-plus-one or sibling-filters to replay: its place in the list, or its key"
    )
    parser.add_argument(
        "--parameters",
        metavar="JSON",
        action="append",
        default=[],
        help="values of the placeholders: of each --sql in turn, or a set for --before and --after",
    )
    parser.add_argument(
        "--round-trip", metavar="TIME", default="", help="with --finding: add so much to each query, as in 0.5ms"
    )
    parser.add_argument(
        "--top", metavar="N", type=int, default=5, help="with --index and a capture: how many shapes (default: 5)"
    )
    parser.add_argument(
        "--values", action="store_true", help="show literals and rows from the capture; they may be private"
    )
    add_database(parser, required=True)
    add_limits(parser, trial=True)
    add_json(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Try and print; exit code 1 where a result changed."""
    asked = [
        options.index is not None,
        options.before is not None or options.after is not None,
        options.finding is not None,
    ]
    if sum(asked) != 1:
        raise AskLessError(
            "what-to-try",
            "name one thing to try: --index, --before with --after, or --finding",
            "see: askless trial --help",
        )
    with stoppable():
        if asked[1]:
            return trial_rewrite.run(options)
        if asked[2]:
            return trial_finding.run(options)
        return _run_index(options)


def _run_index(options: argparse.Namespace) -> int:
    url = parse_url(options.db)
    statements = _statements(options, url.get_backend_name())
    trial = try_index(url, options.index, statements, limits_of(options), terminal.progress)
    terminal.progress_done()
    for gone in trial.cleaned:
        terminal.note(f"note: an earlier trial had been cut off; removed {gone}")
    show = bool(options.values) or options.capture is None
    document = documents.TrialDocument(
        format="askless trial",
        system=trial.system,
        index=trial.ddl,
        build_ms=trial.build_ms,
        size_bytes=trial.size_bytes,
        statements=tuple(
            _statement(trial, measured, asked, show)
            for measured, asked in zip(trial.statements, statements, strict=True)
        ),
        where=trial.where,
        caution=trial.caution,
    )
    print_document(document) if options.json else terminal_trials.index(document)
    return 0 if all(row.same_result for row in document.statements) else 1


def _statements(options: argparse.Namespace, system: str) -> list[Asked]:
    """What to measure: the statements named, or the capture's shapes on the index's table that cost most."""
    if options.sql:
        given = [parse_parameters(text) for text in options.parameters]
        if len(given) > len(options.sql):
            raise AskLessError(
                "bad-parameters", "there are more --parameters than --sql", "give one --parameters for each --sql"
            )
        given += [((), ())] * (len(options.sql) - len(given))
        return [Asked(sql, *values) for sql, values in zip(options.sql, given, strict=True)]
    if options.capture is None:
        raise AskLessError(
            "what-to-try", "an index is tried with statements: which?", "name a SELECT with --sql, or a capture"
        )
    table = index_of(options.index, system).table.lower()
    summary, _ = load(options.capture)
    found = []
    for subject in costliest(summary):
        structure = structure_of(subject.text, subject.system)
        if structure is None or structure.kind != "select" or structure.locks:
            continue
        if table in (name.lower() for name in structure.tables):
            found.append(Asked(subject.text, subject.parameters, subject.names, subject.system))
    if not found:
        raise AskLessError("nothing-to-try", f"{options.capture} holds no SELECT on {table}", "name one with --sql")
    return found[: options.top]


def _statement(trial: IndexTrial, measured: Measured, asked: Asked, show: bool) -> documents.TrialStatement:
    nothing = Schema(system=trial.system)
    mask = masker(asked.system or trial.system, show)
    return documents.TrialStatement(
        sql=mask(measured.sql),
        before_ms=median(measured.before_ms),
        after_ms=median(measured.after_ms),
        ratio=measured.ratio.value,
        ratio_low=measured.ratio.low,
        ratio_high=measured.ratio.high,
        repetitions=len(measured.before_ms),
        rows=measured.rows,
        same_result=not measured.difference,
        difference=measured.difference,
        plan_before=nodes_of(without_values(measured.plan_before, mask), nothing, []),
        plan_after=nodes_of(without_values(measured.plan_after, mask), nothing, []),
        uses_index=measured.uses_index,
        verdict=verdict(trial, measured),
        bytes=measured.bytes,
        work_unit=measured.work_unit,
        work=(measured.work_before, measured.work_after),
    )


def verdict(trial: IndexTrial, measured: Measured) -> str:
    """What the trial showed, in words."""
    ratio = measured.ratio
    if measured.difference:
        return "not the same result: do not add it before you know why"
    if not measured.uses_index:
        return f"not used: the planner does not choose {trial.name or 'the index'} for this statement"
    if not ratio.certain:
        return f"no difference seen ({interval(ratio)})"
    if ratio.value > 1:
        return f"faster: ×{ratio.value:.2f} ({interval(ratio)})"
    return f"slower: takes ×{1 / ratio.value:.2f} of the time with the index ({interval(ratio)} for before over after)"
