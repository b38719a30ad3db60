"""A trial of an index: each statement's plan, result and times without it and with it."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from statistics import median

from askless.core.errors import AskLessError
from askless.core.plans.tree import without_values
from askless.core.progress import Progress, quiet
from askless.core.records.schema import Schema
from askless.core.sql.masking import masker
from askless.core.sql.statements import index_of
from askless.core.sql.structure_store import structure_of
from askless.core.verdicts import Outcome, Verdict, timed
from askless.database.connecting import parse_url
from askless.database.index_trial import IndexTrial, TrialTiming, TriedStatement, try_index
from askless.database.servers import Limits
from askless.reports import documents
from askless.reports.loading import load
from askless.reports.plan_nodes import nodes_of
from askless.reports.statement_selection import costliest, parse_parameters


def typed(statements: Sequence[str], parameters: Sequence[str]) -> tuple[TriedStatement, ...]:
    """Statements that someone wrote, with the values of each as JSON. Raises AskLessError
    bad-parameters.
    """
    given = [parse_parameters(text) for text in parameters]
    if len(given) > len(statements):
        raise AskLessError(
            "bad-parameters",
            "there are more --parameters than --sql",
            "give one --parameters for each --sql",
        )
    given += [((), ())] * (len(statements) - len(given))
    return tuple(
        TriedStatement(sql, *values) for sql, values in zip(statements, given, strict=True)
    )


def captured(
    path: Path, index: str, database: str, top: int
) -> tuple[tuple[TriedStatement, ...], tuple[str, ...]]:
    """The SELECTs of a capture on an index's table that cost most, and notes on the capture.

    Raises AskLessError: not-an-index, nothing-to-try.
    """
    table = index_of(index, parse_url(database).get_backend_name()).table.lower()
    summary, notes = load(path, look=False)
    results = []
    for subject in costliest(summary):
        structure = structure_of(subject.text, subject.system)
        if structure is None or structure.kind != "select" or structure.locks:
            continue
        if table in (name.lower() for name in structure.tables):
            results.append(
                TriedStatement(subject.text, subject.parameters, subject.names, subject.system)
            )
    if not results:
        raise AskLessError(
            "nothing-to-try", f"{path} contains no SELECT on {table}", "name one with --sql"
        )
    return tuple(results[:top]), notes


def index_trial(
    database: str,
    index: str,
    statements: Sequence[TriedStatement],
    values: bool,
    limits: Limits | None = None,
    progress: Progress = quiet,
) -> documents.TrialDocument:
    """Try an index and tell. `values` shows the statements' literals.

    Raises AskLessError: see `askless.database.index_trial.try_index`.
    """
    trial = try_index(parse_url(database), index, statements, limits, progress)
    rows = tuple(
        _statement(trial, measured, statement, values)
        for measured, statement in zip(trial.statements, statements, strict=True)
    )
    return documents.TrialDocument(
        format="askless trial",
        system=trial.system,
        index=trial.ddl,
        build_ms=trial.build_ms,
        size_bytes=trial.size_bytes,
        statements=rows,
        where=trial.where,
        caution=trial.caution,
        locked_ms=trial.locked_s * 1e3,
        longest_wait_ms=trial.waited_s * 1e3,
        notes=tuple(f"removed {gone}, left by an interrupted trial" for gone in trial.cleaned),
    )


def _statement(
    trial: IndexTrial, measured: TrialTiming, statement: TriedStatement, show: bool
) -> documents.TrialStatement:
    no_tables = Schema(system=trial.system)
    mask = masker(statement.system or trial.system, show)
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
        plan_before=nodes_of(without_values(measured.plan_before, mask), no_tables, []),
        plan_after=nodes_of(without_values(measured.plan_after, mask), no_tables, []),
        uses_index=measured.uses_index,
        verdict=verdict(trial, measured),
        bytes=measured.bytes,
        work_unit=measured.work_unit,
        work=documents.WorkBeforeAfter(measured.work_before, measured.work_after),
    )


def verdict(trial: IndexTrial, measured: TrialTiming) -> Verdict:
    """What the trial showed of one statement."""
    if measured.difference:
        return Verdict(Outcome.CHANGED, "different result: do not add the index until you know why")
    if not measured.uses_index:
        name = trial.name or "the index"
        return Verdict(
            Outcome.UNUSED, f"not used: the planner does not choose {name} for this statement"
        )
    return timed(measured.ratio, after=" with the index")
