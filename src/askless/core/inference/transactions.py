"""The transactions of a request: which queries ran inside of each, and how long it was open while
no one asked anything.

They are known from the connection: what a query says of being inside of one, and the words that end
it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

import msgspec

from askless.core.records.model import Request, Statement

_TURNS = re.compile(
    r"\s*(?:(begin|start\s+transaction)|commit|rollback|abort|end"
    r"|prepare\s+transaction)\b(?!\s+(?:(?:work|transaction)\s+)?to\b)",
    re.IGNORECASE,
)
_LOCKS_AT_ONCE = re.compile(r"begin (?:immediate|exclusive)\b")


class Transaction(msgspec.Struct, frozen=True):
    """Queries of one connection, in order; `end` is the one that ended it (COMMIT, ROLLBACK), None
    if none was seen.
    """

    queries: tuple[int, ...]
    end: int | None


class Gap(msgspec.Struct, frozen=True):
    """A time in which a transaction was open and its connection idle: after query `before`, which
    is at `place` in it.
    """

    before: int
    place: int
    start_ns: int
    lasted_ns: int


def turn_of(text: str) -> bool | None:
    """Whether a statement, as it was sent, begins a transaction (True) or ends one (False); None
    for all others.
    """
    match = _TURNS.match(text)
    return None if match is None else match[1] is not None


def takes_lock(statement: Statement) -> bool:
    """Whether a statement that begins a transaction takes the lock of all writers with it
    (SQLite).
    """
    return bool(_LOCKS_AT_ONCE.match(statement.shape.text))


def _words_of(request: Request) -> dict[int, tuple[bool, bool, bool]]:
    """Whether a statement begins a transaction, ends one, takes a lock; of those that are noise."""
    words = {}
    for number in set(request.statements):
        statement = request.tables.statements[number]
        if statement.shape.noise:
            turn = turn_of(statement.shape.text)
            words[number] = turn is True, turn is False, takes_lock(statement)
    return words


def transactions_of(request: Request) -> Iterator[Transaction]:
    """The transactions of a request that hold a query, in the order of their ends."""
    inside, connections = request.in_transaction, request.connections
    words = _words_of(request)
    open_now: dict[int, list[int]] = {}
    plain = (False, False, False)
    for i, number in enumerate(request.statements):
        begins, ends, locks = words.get(number, plain)
        connection = connections[i]
        queries = open_now.get(connection, [])
        if ends or (queries and not inside[i]) or begins:
            open_now.pop(connection, None)
            if queries:
                yield Transaction(tuple(queries), i if ends else None)
        if not ends and (locks or (inside[i] and not begins)):
            open_now.setdefault(connection, []).append(i)
    for queries in open_now.values():
        yield Transaction(tuple(queries), None)


def in_one(request: Request, indices: Sequence[int]) -> list[list[int]]:
    """Queries by the transaction that they ran in; those that ran in none are omitted."""
    of = {
        i: place
        for place, transaction in enumerate(transactions_of(request))
        for i in transaction.queries
    }
    results: dict[int, list[int]] = {}
    for i in indices:
        if i in of:
            results.setdefault(of[i], []).append(i)
    return list(results.values())


def gaps_of(request: Request, transaction: Transaction) -> list[Gap]:
    """The times between the queries of a transaction, and before its end where that was seen, in
    order.
    """
    starts, durations = request.starts_ns, request.durations_ns
    queries = transaction.queries
    following = queries[1:] if transaction.end is None else (*queries[1:], transaction.end)
    return [
        Gap(i, place, starts[i] + durations[i], starts[j] - starts[i] - durations[i])
        for place, (i, j) in enumerate(zip(queries, following, strict=False))
    ]
