"""asyncpg: queries of connections, prepared statements and cursors; a cursor is one query, its
fetches add to it.
"""

from functools import wraps
from sys import _getframe
from time import perf_counter_ns as clock
from weakref import WeakKeyDictionary

from .. import recorder
from ..fields import DESCRIPTION, DURATION_NS, ROWS, SAMPLE, TEXT
from ..recorder import SAMPLE_ROWS
from . import dbapi

_numbers = WeakKeyDictionary()
_open = {}  # id of a cursor -> its record; asyncpg's cursors take no weak reference
_CONTROL = ("BEGIN", "COMMIT", "ROLLBACK", "SAVEPOINT", "RELEASE", "SET ")
_inner = set()  # ids of connections in a call that is recorded as a whole


def _number(connection):
    number = _numbers.get(connection)
    if number is None:
        number = _numbers[connection] = recorder.new_connection("postgresql")
    return number


def _remember(cursor, record):
    if len(_open) > 1000:  # cursors that were left before their end
        _open.clear()
    _open[id(cursor)] = record


def _changed(status):
    """The rows that a status such as `INSERT 0 3` says of."""
    if isinstance(status, bytes):
        status = status.decode("ascii", "replace")
    last = status.rsplit(" ", 1)[-1] if isinstance(status, str) else ""
    return int(last) if last.isdigit() else 0


def _fill(record, rows):
    """Rows, sample and columns of a result made of asyncpg's records."""
    if record is None or not rows:
        return
    record[ROWS] += len(rows)
    sample = record[SAMPLE] or []
    if len(sample) < SAMPLE_ROWS:
        record[SAMPLE] = sample + [tuple(row) for row in rows[: SAMPLE_ROWS - len(sample)]]
    if record[DESCRIPTION] is None and not recorder.writer.knows(record[TEXT]):
        record[DESCRIPTION] = [(name,) for name in rows[0].keys()]


def _ask(connection, text, parameters, start, frame, inside, rows=0, error=None, batch=0):
    """Add one query; None if that fails."""
    try:
        if not isinstance(text, str):
            text = "<%s>" % type(text).__name__
        if error is not None:
            error = "%s: %s" % (type(error).__name__, error)
        end = clock()
        # A transaction that begins ahead of the ORM's query takes nothing of what the ORM said of
        # it.
        aside = recorder.put_aside() if text.startswith(_CONTROL) else None
        record = dbapi.add(
            text,
            dbapi.copied(parameters),
            start,
            end,
            rows,
            frame,
            _number(connection),
            inside,
            None,
            error,
            batch,
        )
        if aside is not None:
            recorder.pending.set(aside)
        if recorder.echo is not None:
            recorder.echo.show(record)
        return record
    except Exception as problem:
        recorder.warn_unrecorded(problem)


def _filled(record, kind, result):
    try:
        if kind == "rows":
            _fill(record, result)
        elif kind == "row":
            _fill(record, [result] if result is not None else ())
        elif kind == "value":
            record[ROWS] = 1
            record[SAMPLE] = [(result,)]
            record[DESCRIPTION] = [("",)]
        elif kind == "status":
            record[ROWS] = _changed(result)
    except Exception as problem:
        recorder.warn_unrecorded(problem)


def _connection_call(plain, kind, text_of=None):
    """A coroutine of a connection: `(query, *parameters)`."""

    @wraps(plain)
    async def call(self, *args, **kwargs):
        if not recorder.active or id(self) in _inner:
            return await plain(self, *args, **kwargs)
        text = (
            text_of(args, kwargs)
            if text_of is not None
            else args[0]
            if args
            else kwargs.get("query")
        )
        parameters = args[1:] if text_of is None else ()
        return await _recorded(
            self, plain, self, args, kwargs, kind, text, parameters, _getframe(1)
        )

    return call


def _statement_call(plain, kind):
    """A call of a prepared statement, `(*parameters)`: it is made at once, as asyncpg refuses wrong
    ones before they are awaited.
    """

    @wraps(plain)
    def call(self, *args, **kwargs):
        connection = getattr(self, "_connection", None)
        if not recorder.active or connection is None or id(connection) in _inner:
            return plain(self, *args, **kwargs)
        begun = plain(self, *args, **kwargs)
        try:
            text, frame = self.get_query(), _getframe(1)
        except Exception:
            return begun
        return _recorded(connection, _awaiting, begun, (), {}, kind, text, args, frame)

    return call


async def _awaiting(begun):
    return await begun


async def _recorded(connection, plain, owner, args, kwargs, kind, text, parameters, frame):
    inside = connection.is_in_transaction() if not connection.is_closed() else False
    start = clock()
    _inner.add(id(connection))
    try:
        result = await plain(owner, *args, **kwargs)
    except BaseException as error:
        _inner.discard(id(connection))
        _ask(connection, text, parameters, start, frame, inside, error=error)
        raise
    _inner.discard(id(connection))
    record = _ask(connection, text, parameters, start, frame, inside)
    if record is not None:
        _filled(record, kind, result)
    return result


def _many(plain, of_statement):
    """`executemany` and `fetchmany`: one query with its number of parameter sets."""

    @wraps(plain)
    def call(self, *args, **kwargs):
        connection = getattr(self, "_connection", None) if of_statement else self
        if not recorder.active or connection is None or id(connection) in _inner:
            return plain(self, *args, **kwargs)
        place = 0 if of_statement else 1
        sets = args[place] if len(args) > place else kwargs.get("args", ())
        counted = dbapi.Counted(sets)
        given = args
        if len(args) > place:
            given = args[:place] + (counted.values,) + args[place + 1 :]
        elif "args" in kwargs:
            kwargs = dict(kwargs, args=counted.values)
        begun = plain(self, *given, **kwargs)
        try:
            text = (
                self.get_query()
                if of_statement
                else args[0]
                if args
                else kwargs.get("command", kwargs.get("query"))
            )
            inside, frame = connection.is_in_transaction(), _getframe(1)
        except Exception:
            return begun
        return _many_recorded(connection, begun, text, counted, inside, frame)

    if not of_statement:  # a connection's is a coroutine function, and stays one

        @wraps(plain)
        async def awaited(self, *args, **kwargs):
            return await call(self, *args, **kwargs)

        return awaited
    return call


async def _many_recorded(connection, begun, text, counted, inside, frame):
    start = clock()
    _inner.add(id(connection))
    try:
        result = await begun
    except BaseException as error:
        _ask(connection, text, counted.first, start, frame, inside, error=error)
        raise
    finally:
        _inner.discard(id(connection))
    record = _ask(
        connection, text, counted.first, start, frame, inside, counted.count, None, counted.count
    )
    if record is not None and result:
        record[ROWS] = 0
        _filled(record, "rows", result)
    return result


def _cursor_fetch(plain, many):
    """`fetch` and `fetchrow` of a cursor that is open on the server."""

    @wraps(plain)
    def fetch(self, *args, **kwargs):
        begun = plain(self, *args, **kwargs)  # refused at once, if it is
        return _fetching(self, begun, many) if recorder.active else begun

    return fetch


async def _fetching(cursor, begun, many):
    start = clock()
    result = await begun
    _portion(cursor, result if many else (() if result is None else [result]), clock() - start)
    return result


def _portion(cursor, rows, duration):
    try:
        record = _open.get(id(cursor))
        if record is not None:
            record[DURATION_NS] += duration
            _fill(record, rows)
    except Exception as problem:
        recorder.warn_unrecorded(problem)


def _opening(plain):
    """A cursor's first step on the server: here its query begins."""

    @wraps(plain)
    async def init(self, *args, **kwargs):
        start, frame = clock(), _getframe(1)
        result = await plain(self, *args, **kwargs)
        if recorder.active:
            record = _ask(self._connection, self._query, tuple(self._args), start, frame, True)
            if record is not None:
                _remember(self, record)
        return result

    return init


def _stepping(plain):
    """One row of a cursor that is iterated over; rows come from the server in portions."""

    @wraps(plain)
    async def step(self):
        if not recorder.active:
            return await plain(self)
        start, frame = clock(), _getframe(1)
        first = not (self._portal_name or self._exhausted or self._buffer)
        try:
            row = await plain(self)
        except StopAsyncIteration:
            record = _open.pop(id(self), None)
            if first and record is None:
                _ask(self._connection, self._query, tuple(self._args), start, frame, True)
            raise
        try:
            record = None if first else _open.get(id(self))
            if record is None:
                record = _ask(self._connection, self._query, tuple(self._args), start, frame, True)
                if record is not None:
                    _remember(self, record)
            else:
                record[DURATION_NS] += clock() - start
            _fill(record, [row])
        except Exception as problem:
            recorder.warn_unrecorded(problem)
        return row

    return step


def _copy_in(args, kwargs):
    return "COPY %s FROM STDIN" % (args[0] if args else kwargs.get("table_name"))


def _copy_out(args, kwargs):
    return "COPY %s TO STDOUT" % (args[0] if args else kwargs.get("table_name"))


def _copy_query(args, kwargs):
    return "COPY (%s) TO STDOUT" % (args[0] if args else kwargs.get("query"))


def install(module):
    """Wrap the classes of connections, prepared statements and cursors. Transactions go through
    `execute`.
    """
    from asyncpg import cursor, prepared_stmt

    connection = module.Connection
    kinds = {"execute": "status", "fetch": "rows", "fetchrow": "row", "fetchval": "value"}
    for name, kind in kinds.items():
        setattr(connection, name, _connection_call(getattr(connection, name), kind))
    copies = {
        "copy_to_table": _copy_in,
        "copy_records_to_table": _copy_in,
        "copy_from_table": _copy_out,
        "copy_from_query": _copy_query,
    }
    for name, text_of in copies.items():
        setattr(connection, name, _connection_call(getattr(connection, name), "status", text_of))
    statement = prepared_stmt.PreparedStatement
    for name in ("fetch", "fetchrow", "fetchval"):
        setattr(statement, name, _statement_call(getattr(statement, name), kinds[name]))
    for cls, of_statement in ((connection, False), (statement, True)):
        for name in ("executemany", "fetchmany"):
            if hasattr(cls, name):
                setattr(cls, name, _many(getattr(cls, name), of_statement))
    cursor.Cursor._init = _opening(cursor.Cursor._init)
    cursor.Cursor.fetch = _cursor_fetch(cursor.Cursor.fetch, True)
    cursor.Cursor.fetchrow = _cursor_fetch(cursor.Cursor.fetchrow, False)
    cursor.CursorIterator.__anext__ = _stepping(cursor.CursorIterator.__anext__)
