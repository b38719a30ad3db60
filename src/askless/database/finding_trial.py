"""Replays a finding's lookups on the database against one batched query and the join: the same
rows, and what is saved.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from functools import partial
from typing import Any

import msgspec
from sqlalchemy.engine import URL, Connection

from askless.core.progress import Progress, quiet
from askless.core.sql.guarantees import ResultGuarantees, question_of
from askless.core.sql.statements import checked_select, tables_in
from askless.core.statistics import Ratio, ratio_of_turns
from askless.core.trials.alternatives import Promise
from askless.core.trials.replay import BoundStatement, Replay, no_other_way, place_of_key
from askless.core.trials.result_comparison import Row, comparable, difference
from askless.database.connecting import connect
from askless.database.driver_query import DriverQuery
from askless.database.explaining import attempt, query_sent
from askless.database.preflight import check_quiet
from askless.database.servers import Limits, server_of
from askless.database.statement_execution import Rows, execute
from askless.database.timing import bytes_of, interleaved, runner

BUDGET_S = 3.0


class TrialAlternative(msgspec.Struct, frozen=True):
    """One way to get the rows. `ratio` is the time of the row-by-row way over this one's; None for
    that way itself.

    `difference` and `cause` say how its rows are others; '' where they are the same. `note` is what
    else to know. Times are in milliseconds, round trips to the database included as they are here.
    """

    name: str
    sql: str
    queries: int
    times_ms: tuple[float, ...]
    rows: int
    bytes: int
    ratio: Ratio | None = None
    difference: str = ""
    cause: str = ""
    note: str = ""
    returns: str = str(Promise.SAME)


class FindingTrial(msgspec.Struct, frozen=True):
    """A finding on trial: the row-by-row way first."""

    system: str
    route: str
    request: str
    lookups: int
    keys: int
    alternatives: tuple[TrialAlternative, ...]


class _Plan:
    """An alternative before it is measured."""

    def __init__(self, name: str, queries: list[DriverQuery], sql: str) -> None:
        self.name = name
        self.queries = queries
        self.sql = sql
        self.rows = self.bytes = 0
        self.difference = self.cause = self.note = ""


_Check = Callable[[Connection, _Plan, "_LookUpResults"], None]


def _candidates(
    replay: Replay, parent: DriverQuery | None
) -> Iterator[tuple[str, str, BoundStatement | None, list[DriverQuery], _Check]]:
    """What may stand for the lookups: (what runs, its name, the statement, what runs before it, the
    check of its result). None for a statement that can't be written.
    """
    before = [parent] if parent is not None else []
    grouped = "one grouped query" if replay.grouped else "one batched query"
    yield "the batch", grouped, replay.batch, before, partial(_check_batch, replay=replay)
    if parent is not None:
        check = partial(_check_join, replay=replay, parent=parent)
        yield "the join", "outer join", replay.join, [], check
    folded = "conditional aggregates"
    yield f"the {folded}", folded, replay.folded, before, _check_folded
    turned = "the parents with their numbers"
    yield turned, "counted with the parents", replay.turned, [], _check_turned


def try_finding(
    url: URL,
    replay: Replay,
    limits: Limits | None = None,
    progress: Progress = quiet,
) -> FindingTrial:
    """Run the lookups, the batch and the join. Raises AskLessError: nothing-to-replay, server-busy,
    and what the database says.
    """
    limits = limits or Limits()
    tree = checked_select(replay.lookups[0].text, replay.lookups[0].system)
    with connect(url, limits) as connection:
        progress("checking for other sessions")
        check_quiet(connection, tables_in(tree), limits)
        lookups = [query_sent(connection, sent) for sent in replay.lookups]
        parent = query_sent(connection, replay.parent) if replay.parent is not None else None
        before = [parent] if parent is not None else []
        alternatives = [_Plan("row by row", [*before, *lookups], replay.lookups[0].text)]
        progress("running the lookups one by one")
        with attempt(connection, limits):
            result = _by_key(connection, replay, lookups)
        alternatives[0].rows = sum(len(rows) for rows in result.rows)
        alternatives[0].bytes = sum(bytes_of(rows) for rows in result.rows)
        for label, name, statement, leading, check in _candidates(replay, parent):
            if statement is None:
                continue
            progress(f"running {label}")
            plan = _Plan(name, [*leading, query_sent(connection, statement)], statement.text)
            with attempt(connection, limits):
                check(connection, plan, result)
            alternatives.append(plan)
        if len(alternatives) == 1:
            raise no_other_way("no alternative can be derived from the statement")
        progress("measuring")
        times = interleaved(
            [runner(connection, alternative.queries) for alternative in alternatives],
            BUDGET_S,
            least=5,
        )
        system = server_of(connection).system(connection)
    products = [
        TrialAlternative(
            alternative.name,
            alternative.sql,
            len(alternative.queries),
            taken,
            alternative.rows,
            alternative.bytes,
            ratio_of_turns(times[0], taken) if place else None,
            alternative.difference,
            alternative.cause,
            alternative.note,
        )
        for place, (alternative, taken) in enumerate(zip(alternatives, times, strict=True))
    ]
    return FindingTrial(
        system,
        replay.route,
        replay.request,
        len(replay.lookups),
        len(set(replay.keys)),
        tuple(products),
    )


class _LookUpResults:
    """What the lookups gave, a list of rows for each different key."""

    def __init__(self, columns: list[str], keys: list[Any], rows: list[Rows]) -> None:
        self.columns = columns
        self.keys = keys
        self.rows = rows

    def all(self) -> Rows:
        return [row for rows in self.rows for row in rows]


def _by_key(
    connection: Connection, replay: Replay, lookups: Sequence[DriverQuery]
) -> _LookUpResults:
    columns: list[str] = []
    rows: dict[Any, Rows] = {}
    for key, query in zip(replay.keys, lookups, strict=True):
        if key not in rows:
            columns, rows[key] = execute(connection, query)
    return _LookUpResults(columns, list(rows), list(rows.values()))


def _check_batch(
    connection: Connection, plan: _Plan, lookups: _LookUpResults, replay: Replay
) -> None:
    names, rows = execute(connection, plan.queries[-1])
    plan.rows, plan.bytes = len(rows), bytes_of(rows)
    if replay.grouped:
        _check_groups(plan, lookups, rows)
        return
    if replay.whether:
        _check_whether(plan, lookups, rows)
        return
    width = len(lookups.columns)
    place = place_of_key(replay, names)
    if place is None:
        plan.note = (
            "the batched query does not return the key, so rows were only compared as a whole"
        )
        _tell(plan, lookups.all(), [row[:width] for row in rows], ResultGuarantees())
        return
    by_key: dict[Any, Rows] = {}
    for row in rows:
        by_key.setdefault(_comparable(row[place]), []).append(row[:width])
    question = question_of(plan.sql, plan.sql, plan.queries[-1].system, names)
    if question.order is not None:  # a batch may add columns, and sort by them
        order = tuple(place for place in question.order if place < width)
        question = msgspec.structs.replace(question, order=order)
    for key, expected in zip(lookups.keys, lookups.rows, strict=True):
        if not _tell(plan, expected, by_key.pop(_comparable(key), []), question):
            return
    if by_key:
        plan.difference = f"{len(by_key)} extra keys were returned"
    missing = sum(not rows for rows in lookups.rows)
    if missing:
        plan.note = f"{_without(missing, 'row')} on the page, with no rows"


def _check_whether(plan: _Plan, lookups: _LookUpResults, rows: Rows) -> None:
    """The keys that come back are those whose lookup said yes: gave a row, and in it no 0, false or
    NULL.
    """
    some = {_comparable(row[0]) for row in rows}
    with_rows = [
        (_comparable(key), bool(rows and rows[0][0]))
        for key, rows in zip(lookups.keys, lookups.rows, strict=True)
    ]
    wrong = [key for key, said in with_rows if said != (key in some)]
    if wrong:
        plan.difference = f"{len(wrong)} of {len(with_rows)} keys have rows on only one side"


def _without(keys: int, what: str) -> str:
    return (
        f"1 key has no {what}: it must stay"
        if keys == 1
        else f"{keys} keys have no {what}: they must stay"
    )


def _check_groups(plan: _Plan, lookups: _LookUpResults, rows: Rows) -> None:
    """One number a key. What is missing from the groups must have been 0, or nothing."""
    groups = {_comparable(row[0]): row[1:] for row in rows}
    missing = 0
    for key, expected in zip(lookups.keys, lookups.rows, strict=True):
        group = groups.get(_comparable(key))
        if group is None and all(value in (0, None) for row in expected for value in row):
            missing += 1
        elif not _tell(plan, expected, [group] if group is not None else [], ResultGuarantees()):
            return
    if missing:
        zero = lookups.rows[0][0][0] if missing == len(lookups.keys) else 0
        plan.note = f"{_without(missing, 'group')} on the page, with {zero}"


def _check_folded(connection: Connection, plan: _Plan, lookups: _LookUpResults) -> None:
    """One row, with the numbers of each key in turn."""
    _, rows = execute(connection, plan.queries[-1])
    plan.rows, plan.bytes = len(rows), bytes_of(rows)
    width = len(lookups.columns)
    for place, expected in enumerate(lookups.rows):
        given = [row[place * width : (place + 1) * width] for row in rows]
        if not _tell(plan, expected, given, ResultGuarantees()):
            return


def _check_turned(connection: Connection, plan: _Plan, lookups: _LookUpResults) -> None:
    """A row for each parent, its number at the end."""
    names, rows = execute(connection, plan.queries[-1])
    plan.rows, plan.bytes = len(rows), bytes_of(rows)
    keys = {_comparable(key) for key in lookups.keys}
    places = [i for i in range(len(names) - 1) if keys <= {_comparable(row[i]) for row in rows}]
    if not places:
        plan.difference = "none of its columns contains all keys"
        return
    numbers = {_comparable(row[places[0]]): row[-1:] for row in rows}
    for key, expected in zip(lookups.keys, lookups.rows, strict=True):
        if not _tell(plan, expected, [numbers[_comparable(key)]], ResultGuarantees()):
            return


def _comparable(key: Any) -> str:
    """A key as it reads: what the application bound and what the server gives may be of different
    types.
    """
    if isinstance(key, tuple):
        return str(key[-1])
    return str(key)


def _tell(plan: _Plan, expected: Rows, given: Rows, question: ResultGuarantees) -> bool:
    """Note the first difference; whether there was none."""
    result = difference(expected, given, question)
    if result is not None and not plan.difference:
        plan.difference, plan.cause = result.text, result.cause
    return result is None


def _children(rows: Rows, start: int, end: int) -> list[Row]:
    """The children's part of joined rows, without that of parents that have none."""
    parts = [comparable(row[start:end]) for row in rows]
    return [part for part in parts if any(value is not None for value in part)]


def _check_join(
    connection: Connection,
    plan: _Plan,
    lookups: _LookUpResults,
    replay: Replay,
    parent: DriverQuery,
) -> None:
    """No parent is lost, none comes twice without need, and the children are those of the
    lookups.
    """
    names, parents = execute(connection, parent)
    _, rows = execute(connection, plan.queries[0])
    plan.rows, plan.bytes = len(rows), bytes_of(rows)
    width = len(names)
    heads = [comparable(row[:width]) for row in rows]
    parents = [comparable(row) for row in parents]
    question = question_of(parent.text, parent.text, parent.system, names)
    if replay.to_many:
        heads = list(dict.fromkeys(heads))
        parents = list(dict.fromkeys(parents))
    if not _tell(plan, parents, heads, question):
        return
    children = _children(rows, width, width + len(lookups.columns))
    expected = [comparable(row) for row in lookups.all()]
    if not replay.to_many:
        children, expected = list(dict.fromkeys(children)), list(dict.fromkeys(expected))
    wanted = set(expected)
    lacking = difference(expected, [row for row in children if row in wanted], ResultGuarantees())
    if lacking is not None:
        plan.difference, plan.cause = lacking.text, lacking.cause
        return
    more = len(children) - len(expected)
    if more > 0:
        plan.note = f"it loads {more} rows that the page did not read"
    elif replay.to_many and len(rows) > len(parents):
        plan.note = f"parents come {len(rows) / max(len(parents), 1):.1f} times each"
