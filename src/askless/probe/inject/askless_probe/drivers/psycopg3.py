"""psycopg 3: plain and async, pipelines, server-side cursors. (COPY, streams, transaction blocks: psycopg3_blocks.)

A client-side cursor has all rows once `execute` returns: they are counted there, and sampled as they are fetched. A
server-side cursor is one query: its FETCHes add to its time and rows. In pipeline mode a query's time is the time of
queueing it and of waiting for its rows.

A query by key takes psycopg little more than twenty microseconds, so the way through `execute` and `fetchone` is kept
short: what a connection's cursors are reading is kept on the connection, by the cursor's id.
"""

from _thread import get_ident
from functools import wraps
from itertools import islice
from sys import _getframe
from time import perf_counter_ns as clock
from weakref import WeakKeyDictionary

from .. import recorder
from ..fields import DESCRIPTION, DURATION_NS, ROWS, SAMPLE
from ..recorder import FLUSH_NS, PENDING_MAX, SAMPLE_ROWS
from ..stack import walk
from . import dbapi, psycopg3_blocks, wrapping

_OPEN_MOST = 16  # results half read that are remembered for one connection
_END = object()
_current = recorder.current.get
_pending = recorder.pending.get


class _Connection:
    """What is kept of a connection: its number, and by cursor id [record, rows fetched so far]."""

    __slots__ = ("number", "reading")

    def __init__(self):
        self.number = recorder.new_connection("postgresql")
        self.reading = {}


def _kept(connection):
    found = connection._askless = _Connection()
    return found


class _Psycopg(dbapi.Driver):
    system = "postgresql"

    def __init__(self, module):
        self.cursors = WeakKeyDictionary()  # psycopg's cursors have no room for an attribute
        self.module = module

    def opened(self, cursor):
        return self.cursors.get(cursor)

    def keep(self, cursor, opened):
        self.cursors[cursor] = opened

    def number(self, connection):
        return (getattr(connection, "_askless", None) or _kept(connection)).number

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


# -- the short way of client-side cursors ----------------------------------------------------------------------------


def _executed(driver, cursor, connection, query, params, start, end, idle, frame):
    """A query has run."""
    try:
        kept = connection._askless
    except AttributeError:
        kept = _kept(connection)
    if idle:
        inside = connection.pgconn.transaction_status != 0 and not driver._begins(query)
        if inside:
            dbapi.control("BEGIN", start, start, frame, kept.number)
    else:
        inside = True
    text = query if type(query) is str else driver.text(query, cursor)
    result = cursor.pgresult
    rows = cursor.rowcount
    names = None
    fields = result.nfields if result is not None else rows < 0  # in a pipeline there is no result yet
    if fields and result is not None and text not in recorder.writer.described:
        names = [(column.name,) for column in cursor.description]
    request = _current() or recorder.outside or recorder.here()
    thread = get_ident()
    record = [
        text,
        params if type(params) is tuple else dbapi.copied(params),
        start,
        end - start,
        rows,
        walk(frame),
        None,
        kept.number,
        inside,
        names,
        recorder.take() if _pending() is not None else None,
        thread,
        None,
        0,
    ]
    pending = request.records
    pending.append(record)
    if fields:
        reading = kept.reading
        if len(reading) >= _OPEN_MOST and id(cursor) not in reading:
            reading.clear()
        reading[id(cursor)] = [record, 0]
    elif recorder.echo is not None:
        recorder.echo.show(record)
    if len(pending) >= PENDING_MAX or end - request.flushed_ns > FLUSH_NS:
        recorder.full(request, end)


def _execute(plain, driver):
    @wraps(plain)
    def execute(self, query, params=None, **options):
        if not recorder.active:
            return plain(self, query, params, **options)
        connection = self.connection
        idle = connection.pgconn.transaction_status == 0
        start = clock()
        try:
            result = plain(self, query, params, **options)
        except BaseException as error:
            driver.failed(self, query, params, start, error, _getframe(1), (connection, not idle))
            raise
        end = clock()
        try:
            _executed(driver, self, connection, query, params, start, end, idle, _getframe(1))
        except Exception as error:
            recorder.missed(error)
        return result

    return execute


def _execute_async(plain, driver):
    @wraps(plain)
    async def execute(self, query, params=None, **options):
        if not recorder.active:
            return await plain(self, query, params, **options)
        connection = self.connection
        idle = connection.pgconn.transaction_status == 0
        start = clock()
        try:
            result = await plain(self, query, params, **options)
        except BaseException as error:
            driver.failed(self, query, params, start, error, _getframe(1), (connection, not idle))
            raise
        end = clock()
        try:
            _executed(driver, self, connection, query, params, start, end, idle, _getframe(1))
        except Exception as error:
            recorder.missed(error)
        return result

    return execute


def _reading(cursor):
    """What a cursor is reading: [record, rows fetched], or None."""
    try:
        return cursor.connection._askless.reading.get(id(cursor))
    except AttributeError:
        return None


def _fetched(cursor, entry, rows, duration, one):
    """Rows have been handed over (`one`: a single row, or None)."""
    record = entry[0]
    record[DURATION_NS] += duration
    if record[ROWS] < 0:
        _learn(cursor, record)
    count = (0 if rows is None else 1) if one else len(rows)
    if count:
        sample = record[SAMPLE]
        if sample is None:
            sample = record[SAMPLE] = []
        if len(sample) < SAMPLE_ROWS:
            if one:
                sample.append(rows if type(rows) is tuple else dbapi.plain_row(rows))
            else:
                sample += [
                    row if type(row) is tuple else dbapi.plain_row(row) for row in rows[: SAMPLE_ROWS - len(sample)]
                ]
        entry[1] += count
    if not count or entry[1] >= record[ROWS]:
        _done(cursor, record)


def _done(cursor, record):
    cursor.connection._askless.reading.pop(id(cursor), None)
    if recorder.echo is not None:
        recorder.echo.show(record)


def _learn(cursor, record):
    """What a pipeline tells only when its rows are fetched."""
    record[ROWS] = max(cursor.rowcount, 0)
    if record[DESCRIPTION] is None and cursor.description is not None:
        record[DESCRIPTION] = [(column.name,) for column in cursor.description]


def _fetch(plain, one):
    @wraps(plain)
    def fetch(self, *args, **kwargs):
        try:
            reading = self.connection._askless.reading
            entry = reading[id(self)]
        except (AttributeError, KeyError):
            return plain(self, *args, **kwargs)
        start = clock()
        rows = plain(self, *args, **kwargs)
        duration = clock() - start
        record = entry[0]
        if one and record[ROWS] == 1 and type(rows) is tuple and recorder.echo is None:  # the only row: nothing is left
            record[DURATION_NS] += duration
            record[SAMPLE] = [rows]
            reading.pop(id(self), None)
            return rows
        try:
            _fetched(self, entry, rows, duration, one)
        except Exception as error:
            recorder.missed(error)
        return rows

    return fetch


def _fetch_async(plain, one):
    @wraps(plain)
    async def fetch(self, *args, **kwargs):
        entry = _reading(self)
        if entry is None:
            return await plain(self, *args, **kwargs)
        start = clock()
        rows = await plain(self, *args, **kwargs)
        duration = clock() - start
        try:
            _fetched(self, entry, rows, duration, one)
        except Exception as error:
            recorder.missed(error)
        return rows

    return fetch


def _iterate(plain):
    @wraps(plain)
    def iterate(self):
        entry = _reading(self)
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
            _fetched(cursor, entry, row, duration, True)
        else:
            entry[0][3] += duration * 32
        yield row
        if count > SAMPLE_ROWS:
            yield from islice(rows, 31)
    _fetched(cursor, entry, None, duration, True)


def _iterate_async(plain):
    @wraps(plain)
    def iterate(self):
        entry = _reading(self)
        rows = plain(self)
        return rows if entry is None else _iterated_async(self, entry, rows)

    return iterate


async def _iterated_async(cursor, entry, rows):
    step = rows.__anext__  # the cursor may be its own iterator, whose __aiter__ is ours
    while True:
        start = clock()
        try:
            row = await step()
        except StopAsyncIteration:
            break
        if entry[1] < SAMPLE_ROWS:
            _fetched(cursor, entry, row, clock() - start, True)
        else:
            entry[0][3] += clock() - start
        yield row
    _fetched(cursor, entry, None, 0, True)


def _wrap(cls, driver, is_async):
    """A class of client-side cursors."""
    own = vars(cls)
    cls.execute = (_execute_async if is_async else _execute)(own["execute"], driver)
    many = wrapping.many_wrapper_async if is_async else wrapping.many_wrapper
    cls.executemany = many(own["executemany"], driver, ("query", "params_seq"))
    for name in ("fetchone", "fetchmany", "fetchall"):
        setattr(cls, name, (_fetch_async if is_async else _fetch)(own[name], name == "fetchone"))
    if is_async:
        cls.__aiter__ = _iterate_async(own["__aiter__"])
    else:
        cls.__iter__ = _iterate(own["__iter__"])


def install(module):
    """Wrap the classes that psycopg shows in public."""
    driver, streaming = _Psycopg(module), _Streaming(module)
    streaming.cursors = driver.cursors
    _wrap(module.Cursor, driver, False)
    _wrap(module.AsyncCursor, driver, True)
    wrapping.wrap_cursor(module.ServerCursor, streaming)
    wrapping.wrap_cursor(module.AsyncServerCursor, streaming, is_async=True)
    psycopg3_blocks.install(module, driver)
    for word in ("commit", "rollback"):
        plain = getattr(module.Connection, word)
        setattr(module.Connection, word, wrapping.ending_wrapper(plain, driver, word.upper()))
        plain = getattr(module.AsyncConnection, word)
        setattr(module.AsyncConnection, word, wrapping.ending_wrapper_async(plain, driver, word.upper()))
