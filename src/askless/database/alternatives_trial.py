"""Tries the other ways to ask for what one statement asks: each keeps its promise or not, and is
measured next to the first.
"""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
from sqlalchemy.engine import URL, Connection

from askless.core.progress import Progress, quiet
from askless.core.sql.guarantees import ResultGuarantees, question_of
from askless.core.sql.slots import Value
from askless.core.sql.statements import checked_select, tables_in
from askless.core.statistics import ratio_of_turns
from askless.core.trials.alternatives import Alternative, Alternatives, Promise
from askless.core.trials.replay import BoundStatement
from askless.core.trials.result_comparison import Difference, comparable, difference, other_columns
from askless.database.connecting import connect
from askless.database.explaining import attempt, query_sent
from askless.database.finding_trial import BUDGET_S, FindingTrial, TrialAlternative
from askless.database.preflight import check_quiet
from askless.database.servers import Limits, server_of
from askless.database.statement_execution import Rows, execute
from askless.database.timing import bytes_of, interleaved, runner

Result = tuple[list[str], Rows]


def try_alternatives(
    url: URL, alternatives: Alternatives, limits: Limits | None = None, progress: Progress = quiet
) -> FindingTrial:
    """Run the statement and each other way. Raises AskLessError: not-a-select, server-busy, and
    what the database says.
    """
    limits = limits or Limits()
    texts = [
        alternatives.statement.text,
        *(alternative.statement.text for alternative in alternatives.others),
    ]
    trees = [checked_select(text, alternatives.statement.system) for text in texts]
    with connect(url, limits) as connection:
        progress("checking for other sessions")
        check_quiet(
            connection,
            tuple(dict.fromkeys(name for tree in trees for name in tables_in(tree))),
            limits,
        )
        queries = [query_sent(connection, alternatives.statement)]
        progress("running the original statement")
        with attempt(connection, limits):
            result = execute(connection, queries[0])
        results = [result]
        differences: list[Difference | None] = [None]
        for alternative in alternatives.others:
            progress(f"running it {alternative.name}")
            with attempt(connection, limits):
                query = query_sent(connection, _with_row_before(connection, alternative))
                given = execute(connection, query)
            queries.append(query)
            results.append(given)
            differences.append(_broken(alternative, alternatives.statement, result, given))
        progress("measuring")
        times = interleaved([runner(connection, [query]) for query in queries], BUDGET_S, least=5)
        system = server_of(connection).system(connection)
    names = ["as it is", *(alternative.name for alternative in alternatives.others)]
    notes = ["", *(_note(alternative) for alternative in alternatives.others)]
    promises = [Promise.SAME, *(alternative.promise for alternative in alternatives.others)]
    products = [
        TrialAlternative(
            name,
            text,
            1,
            taken,
            len(rows),
            bytes_of(rows),
            ratio_of_turns(times[0], taken) if place else None,
            lacking.text if lacking is not None else "",
            lacking.cause if lacking is not None else "",
            note,
            str(promise),
        )
        for place, (name, text, taken, (_, rows), lacking, note, promise) in enumerate(
            zip(names, texts, times, results, differences, notes, promises, strict=True)
        )
    ]
    return FindingTrial(system, alternatives.route, alternatives.request, 1, 1, tuple(products))


def _with_row_before(connection: Connection, alternative: Alternative) -> BoundStatement:
    """A page by key with what the row before it has."""
    if alternative.probe is None:
        return alternative.statement
    names, rows = execute(connection, query_sent(connection, alternative.probe))
    values: list[tuple[str, Value]] = [
        (f"last_{name}", value) for row in rows[:1] for name, value in zip(names, row, strict=True)
    ]
    sent = alternative.statement
    return msgspec.structs.replace(
        sent,
        parameters=(*sent.parameters, *(value for _, value in values)),
        names=(*sent.names, *(name for name, _ in values)),
    )


def _note(alternative: Alternative) -> str:
    return (
        "the last row of the previous page was read first; a page gets it from the one before"
        if alternative.probe
        else ""
    )


def _broken(
    alternative: Alternative, first: BoundStatement, result: Result, given: Result
) -> Difference | None:
    """How an alternative breaks its promise; None if it keeps it."""
    names, rows = result
    others = given[1]
    if alternative.promise is Promise.NUMBER:
        return difference([(len(rows),)], others, ResultGuarantees())
    if alternative.promise is Promise.FEWER_COLUMNS:
        compared = [i for i, name in enumerate(names) if name not in alternative.left_out]
        names, rows = (
            [names[i] for i in compared],
            [tuple(row[i] for i in compared) for row in rows],
        )
    if len(names) != len(given[0]):
        return other_columns(len(names), len(given[0]))
    question = question_of(first.text, alternative.statement.text, first.system, names)
    if alternative.promise is Promise.ONCE:
        return difference(_once(rows), others, ResultGuarantees())
    return difference(rows, others, question)


def _once(rows: Sequence[tuple[object, ...]]) -> Rows:
    return list({comparable(row): row for row in rows}.values())
