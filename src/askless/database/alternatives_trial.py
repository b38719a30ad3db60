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
    url: URL, roads: Alternatives, limits: Limits | None = None, progress: Progress = quiet
) -> FindingTrial:
    """Run the statement and each other way. Raises AskLessError: not-a-select, server-busy, and
    what the database says.
    """
    limits = limits or Limits()
    texts = [roads.statement.text, *(told.statement.text for told in roads.others)]
    trees = [checked_select(text, roads.statement.system) for text in texts]
    with connect(url, limits) as connection:
        progress("checking for other sessions")
        check_quiet(
            connection,
            tuple(dict.fromkeys(name for tree in trees for name in tables_in(tree))),
            limits,
        )
        queries = [query_sent(connection, roads.statement)]
        progress("running the original statement")
        with attempt(connection, limits):
            result = execute(connection, queries[0])
        results = [result]
        found: list[Difference | None] = [None]
        for told in roads.others:
            progress(f"running it {told.name}")
            with attempt(connection, limits):
                query = query_sent(connection, _with_row_before(connection, told))
                given = execute(connection, query)
            queries.append(query)
            results.append(given)
            found.append(_broken(told, roads.statement, result, given))
        progress("measuring")
        times = interleaved([runner(connection, [query]) for query in queries], BUDGET_S, least=5)
        system = server_of(connection).system(connection)
    names = ["as it is", *(told.name for told in roads.others)]
    notes = ["", *(_note(told) for told in roads.others)]
    promises = [Promise.SAME, *(told.promise for told in roads.others)]
    products = [
        TrialAlternative(
            name, text, 1, taken, len(rows), bytes_of(rows), ratio_of_turns(times[0], taken) if place else None,
            lacking.text if lacking is not None else "", lacking.cause if lacking is not None else "", note, str(promise),
        )
        for place, (name, text, taken, (_, rows), lacking, note, promise) in enumerate(
            zip(names, texts, times, results, found, notes, promises, strict=True)
        )
    ]  # fmt: skip
    return FindingTrial(system, roads.route, roads.request, 1, 1, tuple(products))


def _with_row_before(connection: Connection, told: Alternative) -> BoundStatement:
    """A page by key with what the row before it has."""
    if told.probe is None:
        return told.statement
    names, rows = execute(connection, query_sent(connection, told.probe))
    values: list[tuple[str, Value]] = [
        (f"last_{name}", value) for row in rows[:1] for name, value in zip(names, row, strict=True)
    ]
    sent = told.statement
    return msgspec.structs.replace(
        sent,
        parameters=(*sent.parameters, *(value for _, value in values)),
        names=(*sent.names, *(name for name, _ in values)),
    )


def _note(told: Alternative) -> str:
    return (
        "the last row of the previous page was read first; a page gets it from the one before"
        if told.probe
        else ""
    )


def _broken(
    told: Alternative, first: BoundStatement, result: Result, given: Result
) -> Difference | None:
    """How a road breaks its promise; None if it keeps it."""
    names, rows = result
    others = given[1]
    if told.promise is Promise.NUMBER:
        return difference([(len(rows),)], others, ResultGuarantees())
    if told.promise is Promise.FEWER_COLUMNS:
        kept = [i for i, name in enumerate(names) if name not in told.left_out]
        names, rows = [names[i] for i in kept], [tuple(row[i] for i in kept) for row in rows]
    if len(names) != len(given[0]):
        return other_columns(len(names), len(given[0]))
    question = question_of(first.text, told.statement.text, first.system, names)
    if told.promise is Promise.ONCE:
        return difference(_once(rows), others, ResultGuarantees())
    return difference(rows, others, question)


def _once(rows: Sequence[tuple[object, ...]]) -> Rows:
    return list({comparable(row): row for row in rows}.values())
