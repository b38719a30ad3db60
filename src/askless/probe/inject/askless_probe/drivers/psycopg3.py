"""psycopg 3: plain and async, pipelines, server-side cursors. (COPY, streams, transaction blocks:
psycopg3_blocks.)

A client-side cursor has all rows once `execute` returns: they are counted there, and sampled as
they are fetched. A server-side cursor is one query: its FETCHes add to its time and rows. In
pipeline mode a query's time is the time of queueing it and of waiting for its rows.
"""

from functools import wraps
from itertools import islice
from time import perf_counter_ns as clock
from weakref import WeakKeyDictionary

from ..fields import DURATION_NS
from ..recorder import SAMPLE_ROWS
from . import (
    dbapi,
    psycopg3_async,
    psycopg3_blocks,
    psycopg3_sync,
    wrapping,
    wrapping_async,
    wrapping_sync,
)
from .psycopg3_records import fetched, mark_of, reading_of

_END = object()


class _Psycopg(dbapi.Driver):
    system = "postgresql"
    learns_later = True  # in a pipeline

    def __init__(self, module):
        self.cursors = WeakKeyDictionary()  # psycopg's cursors have no room for an attribute
        self.module = module

    def opened(self, cursor):
        return self.cursors.get(cursor)

    def keep(self, cursor, opened):
        self.cursors[cursor] = opened

    def number(self, connection):
        return (getattr(connection, "_askless", None) or mark_of(connection)).number

    def text(self, query, cursor):
        if type(query) is str:
            return query
        sql = self.module.sql
        try:
            if isinstance(query, sql.Composable):
                return query.as_string(getattr(cursor, "connection", None))
            if not isinstance(query, (str, bytes)):  # a template string
                return sql.as_string(query, cursor.connection)
        except Exception:
            pass
        return dbapi.Driver.text(self, query, cursor)

    def in_transaction(self, connection):
        return connection.pgconn.transaction_status != 0


class _Streaming(_Psycopg):
    """Server-side cursors."""

    def rows(self, cursor):
        return 0

    def streams(self, cursor):
        return True


# -- iteration before psycopg 3.2: rows come from a generator, not from the cursor itself
# --------------------------------


def _iterate(plain):
    @wraps(plain)
    def iterate(self):
        entry = reading_of(self)
        rows = plain(self)
        return rows if entry is None else _iterated(self, entry, rows)

    return iterate


def _iterated(cursor, entry, rows):
    """Rows one by one: the first ones timed each, of the others one in 32 for all of them."""
    count = 0
    while True:
        start = clock()
        row = next(rows, _END)
        duration = clock() - start
        if row is _END:
            break
        count += 1
        if count <= SAMPLE_ROWS:
            fetched(cursor, entry, row, duration, True)
        else:
            entry[0][DURATION_NS] += duration * 32
        yield row
        if count > SAMPLE_ROWS:
            yield from islice(rows, 31)
    fetched(cursor, entry, None, duration, True)


def _iterate_async(plain):
    @wraps(plain)
    def iterate(self):
        entry = reading_of(self)
        rows = plain(self)
        return rows if entry is None else _iterated_async(self, entry, rows)

    return iterate


async def _iterated_async(cursor, entry, rows):
    step = rows.__anext__
    while True:
        start = clock()
        try:
            row = await step()
        except StopAsyncIteration:
            break
        if entry[1] < SAMPLE_ROWS:
            fetched(cursor, entry, row, clock() - start, True)
        else:
            entry[0][DURATION_NS] += clock() - start
        yield row
    fetched(cursor, entry, None, 0, True)


def _wrap(cls, driver, is_async):
    """A class of client-side cursors."""
    own = vars(cls)
    twin = psycopg3_async if is_async else psycopg3_sync
    many = (wrapping_async if is_async else wrapping_sync).many_wrapper
    cls.execute = twin.execute_wrapper(own["execute"], driver)
    cls.executemany = many(own["executemany"], driver, ("query", "params_seq"))
    for name in ("fetchone", "fetchmany", "fetchall"):
        setattr(cls, name, twin.fetch_wrapper(own[name], name == "fetchone"))
    iterates, steps = ("__aiter__", "__anext__") if is_async else ("__iter__", "__next__")
    if steps in own:  # it is its own iterator, and stays that
        setattr(cls, steps, twin.next_wrapper(own[steps]))
    else:
        setattr(cls, iterates, (_iterate_async if is_async else _iterate)(own[iterates]))


def install(module):
    """Wrap the classes that psycopg shows in public."""
    driver, streaming = _Psycopg(module), _Streaming(module)
    streaming.cursors = driver.cursors
    _wrap(module.Cursor, driver, False)
    _wrap(module.AsyncCursor, driver, True)
    wrapping.wrap_cursor(module.ServerCursor, streaming)
    wrapping.wrap_cursor(module.AsyncServerCursor, streaming, is_async=True)
    psycopg3_blocks.install(module, driver)
    wrapping.wrap_endings(module.Connection, driver)
    wrapping.wrap_endings(module.AsyncConnection, driver, is_async=True)
