"""Records what goes through the standard library's `sqlite3`.

Our classes are in the module in place of its own, so that `type` and `isinstance` hold; a class of
the program's that was made before gets ours between it and those. The hot path is `execute`: two
clock readings around the real call, a walk up the stack, one list appended.
"""

import sqlite3
import sys
from _sqlite3 import Connection as _PlainConnection, Cursor as _PlainCursor
from _thread import get_ident
from time import perf_counter_ns as clock

from .. import recorder
from ..fields import (
    CONNECTION,
    DURATION_NS,
    IN_TRANSACTION,
    PLACE,
    ROWS,
    SAMPLE,
    START_NS,
    TEXT,
    THREAD,
)
from ..recorder import SAMPLE_ROWS
from ..stack import walk
from ..wrapper_metadata import class_like, like, methods_like
from .dbapi import Counted, copied
from .sqlite_callers import WARNS, as_if_by, for_the_program, is_measuring, may_warn
from .sqlite_rows import counted_rows, shown

_current = recorder.current.get
_here = recorder.current_request
_frame = sys._getframe
_pending = recorder.pending.get
_take = recorder.take
_cursor_classes = {}
_connection_classes = {}
_END = object()


def _append(
    cursor, connection, text, parameters, start, place, rows, error=None, batch=0, duration=None
):
    """Add the record of a query that has just run to the current request."""
    now = clock()
    request = _current() or _here()
    load = _take() if _pending() is not None else None
    description = cursor.description
    record = [
        text,
        parameters,
        start,
        now - start if duration is None else duration,
        rows,
        place,
        None,
        connection._askless_id,
        connection._askless_in_transaction,
        description,
        load,
        get_ident(),
        error,
        batch,
    ]
    try:
        in_transaction = connection.in_transaction
        if in_transaction is not connection._askless_in_transaction:
            _transaction_changed(connection, request, record, in_transaction)
    except sqlite3.ProgrammingError:  # the connection is closed: that is why the query failed
        pass
    recorder.add(request, record, now)
    return record


def _transaction_changed(connection, request, record, now_in):
    """Note the BEGIN that sqlite3 sends by itself before a change."""
    connection._askless_in_transaction = now_in
    word = record[TEXT].lstrip()[:9].upper()
    if now_in and not word.startswith(("BEGIN", "SAVEPOINT")):
        begin = [
            "BEGIN",
            (),
            record[START_NS],
            0,
            0,
            record[PLACE],
            None,
            record[CONNECTION],
            False,
            None,
            None,
            record[THREAD],
            None,
            0,
        ]
        recorder.add(request, begin, record[START_NS])
        record[IN_TRANSACTION] = True


def _text_of(sql):
    return sql if type(sql) is str else str(sql)


def cursor_class(base):
    """A recording subclass of a cursor class."""
    known = _cursor_classes.get(base)
    if known is not None:
        return known
    if base is not _PlainCursor and issubclass(base, cursor_class(_PlainCursor)):
        cls = base
    else:
        cls = class_like(
            _recording(base) if base is _PlainCursor else _between(base) or _recording(base), base
        )
    _cursor_classes[base] = _cursor_classes[cls] = cls
    return cls


def _between(base):
    """A class of the program's own, with ours between it and sqlite3's: what the program translates
    (placeholders, say) is recorded as it is sent. None if the classes' layouts don't go together.
    """

    try:
        mixed = type("Cursor", (base, cursor_class(_PlainCursor)), {})
    except TypeError:
        return None
    if base.execute is _PlainCursor.execute:
        return mixed

    class Cursor(mixed):
        def execute(self, *args, **kwargs):
            self._askless_record = _UNSEEN
            start = clock()
            try:
                result = base.execute(self, *args, **kwargs)
            except Exception as error:
                if self._askless_record is _UNSEEN:
                    _failed(self, *_translated(args, kwargs), start, error)
                raise
            if self._askless_record is _UNSEEN:  # it calls sqlite3's class by name
                self._askless_record = None
                if recorder.active:
                    try:
                        _executed(self, *_translated(args, kwargs), start, clock())
                    except Exception as error:
                        recorder.warn_unrecorded(error)
            return result

    return methods_like(Cursor, base)


# What a cursor reads while no execute of ours has made a record.
_UNSEEN = ["", (), 0, 0, 0, (), None, 0, False, None, None, 0, None, 0]


def _translated(args, kwargs):
    """Statement and parameters of a call, in sqlite3's own placeholders."""
    given = list(args) + list(kwargs.values())
    sql = given[0] if given else ""
    parameters = given[1] if len(given) > 1 and given[1] is not None else ()
    if parameters and type(sql) is str and "%s" in sql:
        sql = sql.replace("%s", "?").replace("%%", "%")
    return _text_of(sql), parameters


def _recording(base):
    execute_plain, many_plain, script_plain = base.execute, base.executemany, base.executescript
    one_plain, some_plain, all_plain, close_plain = (
        base.fetchone,
        base.fetchmany,
        base.fetchall,
        base.close,
    )

    class Cursor(base):
        __slots__ = ("_askless_record", "_askless_plain")

        def execute(self, sql, parameters=(), /):
            start = clock()
            try:
                if WARNS and may_warn(sql, parameters):
                    result = as_if_by(_frame(1), execute_plain, self, sql, parameters)
                else:
                    result = execute_plain(self, sql, parameters)
            except Exception as error:
                _failed(self, sql, parameters, start, error)
                raise
            if recorder.active:
                request = _current()
                if request is not None and request.left_out:
                    _passed_over(self)
                    connection = self.connection
                    connection._askless_in_transaction = connection.in_transaction
                    return result
                end = clock()
                try:
                    _executed(self, sql, parameters, start, end)
                except Exception as error:
                    recorder.warn_unrecorded(error)
            return result

        def executemany(self, sql, parameters, /):
            if not recorder.active:
                return many_plain(self, sql, parameters)
            counted = Counted(parameters)
            start = clock()
            try:
                if WARNS and may_warn(sql, counted.values):
                    result = as_if_by(_frame(1), many_plain, self, sql, counted.values)
                else:
                    result = many_plain(self, sql, counted.values)
            except Exception as error:
                _failed(self, sql, counted.first, start, error)
                raise
            end = clock()
            try:
                place = walk(_frame(1))
                rows = self.rowcount
                first = copied(counted.first)
                record = _append(
                    self,
                    self.connection,
                    _text_of(sql),
                    first,
                    start,
                    place,
                    rows,
                    None,
                    counted.count,
                    end - start,
                )
                self._askless_record = None
                shown(record)
            except Exception as error:
                recorder.warn_unrecorded(error)
            return result

        def executescript(self, sql, /):
            start = clock()
            try:
                result = script_plain(self, sql)
            except Exception as error:
                _failed(self, sql, (), start, error)
                raise
            end = clock()
            if recorder.active:
                try:
                    record = _append(
                        self,
                        self.connection,
                        _text_of(sql),
                        (),
                        start,
                        walk(_frame(1)),
                        0,
                        None,
                        0,
                        end - start,
                    )
                    self._askless_record = None
                    shown(record)
                except Exception as error:
                    recorder.warn_unrecorded(error)
            return result

        def fetchone(self):
            try:
                record = self._askless_record
            except AttributeError:
                record = None
            if record is None:
                return one_plain(self)
            start = clock()
            row = one_plain(self)
            record[DURATION_NS] += clock() - start
            if row is None:
                self._askless_record = None
                shown(record)
            else:
                rows = record[ROWS] = record[ROWS] + 1
                if rows == 1:
                    record[SAMPLE] = [row if type(row) is not dict else tuple(row.values())]
                elif rows <= SAMPLE_ROWS:
                    record[SAMPLE].append(row if type(row) is not dict else tuple(row.values()))
            return row

        def fetchmany(self, *args, **kwargs):
            start = clock()
            rows = some_plain(self, *args, **kwargs)
            _fetched(self, rows, clock() - start, not rows)
            return rows

        def fetchall(self):
            start = clock()
            rows = all_plain(self)
            _fetched(self, rows, clock() - start, True)
            return rows

        def __iter__(self):
            try:
                record = self._askless_record
                if record is None or self._askless_plain:
                    return self
            except AttributeError:
                return self
            return counted_rows(self, record)

        def close(self):
            try:
                record, self._askless_record = self._askless_record, None
                if record is not None:
                    shown(record)
            except AttributeError:
                pass
            return close_plain(self)

        if recorder.echo is not None:

            def __del__(self):
                record = getattr(self, "_askless_record", None)
                if record is not None:
                    shown(record)

    return methods_like(Cursor, base)


def _passed_over(cursor):
    """A query of a request that is omitted: nothing of it is kept."""
    cursor._askless_record = None
    if _pending() is not None:
        _take()


def _executed(cursor, sql, parameters, start, end):
    """The hot path: one query has run."""
    connection = cursor.connection
    request = _current() or recorder.outside or _here()
    in_transaction = connection.in_transaction
    description = cursor.description
    thread = get_ident()
    record = [
        sql,
        parameters if type(parameters) is tuple else copied(parameters),
        start,
        end - start,
        0,
        walk(_frame(2)),
        None,
        connection._askless_id,
        in_transaction,
        description,
        _take() if _pending() is not None else None,
        thread,
        None,
        0,
    ]
    if in_transaction is not connection._askless_in_transaction:
        record[IN_TRANSACTION] = connection._askless_in_transaction
        _transaction_changed(connection, request, record, in_transaction)
    if description is None:
        record[ROWS] = max(cursor.rowcount, 0)
        recorder.add(request, record, end)
        cursor._askless_record = None
        shown(record)
    else:
        recorder.add(request, record, end)
        cursor._askless_record = record
        cursor._askless_plain = False


def _fetched(cursor, rows, duration, ended):
    """Rows have been handed over in one piece."""
    try:
        record = cursor._askless_record
    except AttributeError:
        return
    if record is None:
        return
    record[DURATION_NS] += duration
    if rows:
        if record[SAMPLE] is None:
            record[SAMPLE] = rows[:SAMPLE_ROWS]
        elif len(record[SAMPLE]) < SAMPLE_ROWS:
            record[SAMPLE] += rows[: SAMPLE_ROWS - len(record[SAMPLE])]
        if type(rows[0]) is dict:
            record[SAMPLE] = [
                tuple(row.values()) if type(row) is dict else row for row in record[SAMPLE]
            ]
        record[ROWS] += len(rows)
    if ended:
        cursor._askless_record = None
        shown(record)


def _failed(cursor, sql, parameters, start, error):
    """A query has ended in an error; the error goes on to the program."""
    if not recorder.active or cursor.connection is None:  # a cursor that was never set up
        return
    try:
        text = "%s: %s" % (type(error).__name__, error)
        record = _append(
            cursor,
            cursor.connection,
            _text_of(sql),
            copied(parameters),
            start,
            walk(_frame(2)),
            0,
            text,
        )
        cursor._askless_record = None
        shown(record)
    except Exception as problem:
        recorder.warn_unrecorded(problem)


def connection_class(base):
    """A recording subclass of a connection class."""
    known = _connection_classes.get(base)
    if known is not None:
        return known
    if base is not _PlainConnection and issubclass(base, connection_class(_PlainConnection)):
        cls = base
    else:
        cls = _recording_connection() if base is _PlainConnection else _between_connections(base)
        class_like(cls, base)
    _connection_classes[base] = _connection_classes[cls] = cls
    return cls


def _between_connections(base):
    """A class of the program's own, with ours between it and sqlite3's: what it calls by `super()`
    comes to us.
    """
    root = connection_class(_PlainConnection)
    if base.cursor is _PlainConnection.cursor:
        return type("Connection", (base, root), {})

    class Connection(base, root):
        def cursor(self, *args, **kwargs):
            return _checked(base.cursor(self, *args, **kwargs))

    return methods_like(Connection, base)


def _recording_connection():
    plain = _PlainConnection
    default_cursor = cursor_class(_PlainCursor)
    execute_default = _PlainCursor.execute
    make_cursor = plain.cursor
    # From Python 3.11 on, the connection's own execute makes a plain cursor without asking
    # `cursor()`.
    asks_cursor = sys.version_info < (3, 11)

    class Connection(plain):
        _askless_id = 0
        _askless_in_transaction = False

        def __new__(cls, *args, **kwargs):
            # Not in __init__, which warns its caller of what is going out of use: that is to be the
            # program.
            self = plain.__new__(cls)
            self._askless_id = recorder.new_connection("sqlite")
            return self

        def cursor(self, *args, **kwargs):
            factory = args[0] if args else kwargs.get("factory", _END)
            if factory is _END:
                return make_cursor(self, default_cursor)
            if (
                len(args) + len(kwargs) == 1
                and isinstance(factory, type)
                and issubclass(factory, _PlainCursor)
            ):
                return make_cursor(self, cursor_class(factory))
            return make_cursor(self, *args, **kwargs)

        def commit(self):
            return _control(self, "COMMIT", plain.commit)

        def rollback(self):
            return _control(self, "ROLLBACK", plain.rollback)

        def __exit__(self, *details):
            word = "ROLLBACK" if details and details[0] is not None else "COMMIT"
            return _control(self, word, plain.__exit__, *details)

        def execute(self, sql, parameters=(), /):
            if asks_cursor and type(self).cursor is not own_cursor:
                return plain.execute(self, sql, parameters)
            cursor = make_cursor(self, default_cursor)
            request = _current()
            if request is not None and request.left_out:
                _passed_over(cursor)
                if WARNS and may_warn(sql, parameters):
                    as_if_by(_frame(1), execute_default, cursor, sql, parameters)
                else:
                    execute_default(cursor, sql, parameters)
                self._askless_in_transaction = self.in_transaction
                return cursor
            start = clock()
            try:
                if WARNS and may_warn(sql, parameters):
                    as_if_by(_frame(1), execute_default, cursor, sql, parameters)
                else:
                    execute_default(cursor, sql, parameters)
            except Exception as error:
                _failed(cursor, sql, parameters, start, error)
                raise
            end = clock()
            if recorder.active:
                try:
                    _executed(cursor, sql, parameters, start, end)
                except Exception as error:
                    recorder.warn_unrecorded(error)
            return cursor

        def executemany(self, sql, parameters, /):
            if asks_cursor and type(self).cursor is not own_cursor:
                return plain.executemany(self, sql, parameters)
            return make_cursor(self, default_cursor).executemany(sql, parameters)

        def executescript(self, sql, /):
            if asks_cursor and type(self).cursor is not own_cursor:
                return plain.executescript(self, sql)
            return make_cursor(self, default_cursor).executescript(sql)

    own_cursor = Connection.cursor
    return methods_like(Connection, plain)


def _checked(cursor):
    """A cursor that the program's own `cursor()` made: if it is none of ours, say that it goes
    unrecorded.
    """
    if not isinstance(cursor, cursor_class(_PlainCursor)):
        recorder.warn_once(
            "can't record cursors of %s, which a connection class makes itself"
            % type(cursor).__name__
        )
    return cursor


def _control(connection, word, call, *args):
    """Run a commit or rollback; record it if there was a transaction to end."""
    if not recorder.active:
        return call(connection, *args)
    inside = connection.in_transaction
    start = clock()
    result = call(connection, *args)
    end = clock()
    if inside and not connection.in_transaction:
        try:
            connection._askless_in_transaction = False
            request = _current() or _here()
            record = [
                word,
                (),
                start,
                end - start,
                0,
                walk(_frame(2)),
                None,
                connection._askless_id,
                True,
            ]
            record += [None, None, get_ident(), None, 0]
            recorder.add(request, record, end)
            shown(record)
        except Exception as error:
            recorder.warn_unrecorded(error)
    return result


def install(module):
    """Make `sqlite3.connect` hand out recording connections."""
    import _sqlite3

    connect_plain = module.connect

    @like(connect_plain)
    def connect(*args, **kwargs):
        factory = kwargs.get("factory")
        position = 5
        if factory is None and len(args) > position:
            factory = args[position]
        base = factory if factory is not None else _PlainConnection
        if recorder.active and is_measuring(_frame(1)):
            kwargs.setdefault("factory", _PlainConnection)
        elif recorder.active and isinstance(base, type) and issubclass(base, _PlainConnection):
            if len(args) > position:
                args = args[:position] + (connection_class(base),) + args[position + 1 :]
            else:
                kwargs["factory"] = connection_class(base)
        return as_if_by(_frame(1), connect_plain, *args, **kwargs)

    replaced = {
        "connect": (connect_plain, connect),
        "Connection": (_PlainConnection, connection_class(_PlainConnection)),
        "Cursor": (_PlainCursor, cursor_class(_PlainCursor)),
    }
    for place in (module, sys.modules.get("sqlite3"), _sqlite3):
        for name, (plain, new) in replaced.items():
            if place is not None and getattr(place, name, None) is plain:
                setattr(place, name, new)
    if sys.version_info >= (3, 12):
        for converters in (_sqlite3.adapters, module.converters):
            for key, plain in list(converters.items()):
                if getattr(plain, "__module__", None) == module.__name__:
                    converters[key] = for_the_program(plain, __file__)
