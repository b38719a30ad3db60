"""psycopg2: its connections and cursors are written in C, so they become subclasses of what the
program asked for.
"""

import sys
from functools import wraps
from time import perf_counter_ns as clock

from .. import recorder
from ..wrapper_metadata import class_like, like, methods_like
from . import calls, dbapi, wrapping, wrapping_sync


class _Psycopg2(dbapi.Driver):
    system = "postgresql"

    def __init__(self, composable):
        self.composable = composable

    def text(self, query, cursor):
        if (
            type(query) is not str
            and self.composable is not None
            and isinstance(query, self.composable)
        ):
            try:
                return query.as_string(cursor)
            except Exception:
                return "<%s>" % type(query).__name__
        return dbapi.Driver.text(self, query, cursor)

    def in_transaction(self, connection):
        return connection.get_transaction_status() != 0

    def streams(self, cursor):
        return cursor.name is not None


_cursor_classes = {}
_roots = []  # our class in the place of psycopg2's own cursor
_connection_classes = {}


def _recording_cursor(base):
    """A class between the program's cursor class and psycopg2's own, so that it sees what the
    database sees.
    """

    class Recording(base):
        _askless_open = None

        def execute(self, query, vars=None):
            return base.execute(self, query, vars)

        def executemany(self, query, vars_list):
            return base.executemany(self, query, vars_list)

        def callproc(self, procname, parameters=None):
            return base.callproc(self, procname, parameters)

        def fetchone(self):
            return base.fetchone(self)

        def fetchmany(self, size=None):
            return base.fetchmany(self, self.arraysize if size is None else size)

        def fetchall(self):
            return base.fetchall(self)

        def __next__(self):
            return base.__next__(self)

        def copy_expert(self, sql, file, size=8192):
            return base.copy_expert(self, sql, file, size)

        def copy_from(self, file, table, *args, **kwargs):
            return base.copy_from(self, file, table, *args, **kwargs)

        def copy_to(self, file, table, *args, **kwargs):
            return base.copy_to(self, file, table, *args, **kwargs)

    return methods_like(Recording, base)


def _copying(plain, driver, statement):
    """COPY through a file object: one statement."""

    @wraps(plain)
    def copy(self, *args, **kwargs):
        if calls.busy(driver, self):
            return plain(self, *args, **kwargs)
        text = statement(args, kwargs)
        known, start = driver.before(self), clock()
        try:
            result = plain(self, *args, **kwargs)
        except Exception as error:
            driver.failed(self, text, (), start, error, sys._getframe(1), known)
            raise
        driver.executed(self, text, (), start, clock(), sys._getframe(1), known)
        driver.keep(self, None)
        return result

    return copy


def _named(direction):
    def statement(args, kwargs):
        table = args[1] if len(args) > 1 else kwargs.get("table")
        return "COPY %s %s" % (table, direction)

    return statement


def _wrap(cls, driver):
    wrapping.wrap_cursor(cls, driver, ("query", "vars"), ("query", "vars_list"))
    cls.copy_expert = _copying(
        vars(cls)["copy_expert"], driver, lambda args, kwargs: args[0] if args else kwargs["sql"]
    )
    cls.copy_from = _copying(vars(cls)["copy_from"], driver, _named("FROM STDIN"))
    cls.copy_to = _copying(vars(cls)["copy_to"], driver, _named("TO STDOUT"))

    plain = vars(cls)["callproc"]

    @wraps(plain)
    def callproc(self, procname, parameters=None):
        if calls.busy(driver, self):
            return plain(self, procname, parameters)
        known, start = driver.before(self), clock()
        marks = ", ".join(["%s"] * len(parameters or ()))
        text = "SELECT * FROM %s(%s)" % (procname, marks)
        try:
            result = plain(self, procname, parameters)
        except Exception as error:
            driver.failed(self, text, parameters, start, error, sys._getframe(1), known)
            raise
        driver.executed(self, text, parameters, start, clock(), sys._getframe(1), known)
        return result

    cls.callproc = callproc


def cursor_class(base, plain_cursor, driver):
    """The recording class for a cursor class of the program's."""
    known = _cursor_classes.get(base)
    if known is not None:
        return known
    root = _cursor_classes.get(plain_cursor)
    if root is None:
        root = class_like(_recording_cursor(plain_cursor), plain_cursor)
        _wrap(root, driver)
        _cursor_classes[plain_cursor] = _cursor_classes[root] = root
        _roots.append(root)
    if base is plain_cursor:
        return root
    if issubclass(base, root):
        return base
    cls = class_like(type(base.__name__, (base, root), {}), base)
    _cursor_classes[base] = _cursor_classes[cls] = cls
    return cls


def _recording_connection(plain, plain_cursor, driver):
    """A class between the program's connection class and psycopg2's own: it sees which cursor class
    was chosen.
    """

    class Recording(plain):
        def cursor(self, *args, **kwargs):
            factory = kwargs.get("cursor_factory")
            if factory is None and len(args) > 1:
                factory, args = args[1], args[:1] + args[2:]
            if factory is None:
                factory = self.cursor_factory or plain_cursor
            if isinstance(factory, type) and issubclass(factory, plain_cursor):
                factory = cursor_class(factory, plain_cursor, driver)
            kwargs["cursor_factory"] = factory
            if len(args) > 1:  # what is after the factory can't be passed by position without it
                kwargs.update(zip(("withhold", "scrollable"), args[1:]))
                args = args[:1]
            return plain.cursor(self, *args, **kwargs)

        def commit(self):
            return plain.commit(self)

        def rollback(self):
            return plain.rollback(self)

    Recording.commit = wrapping_sync.ending_wrapper(vars(Recording)["commit"], driver, "COMMIT")
    Recording.rollback = wrapping_sync.ending_wrapper(
        vars(Recording)["rollback"], driver, "ROLLBACK"
    )
    return methods_like(Recording, plain)


def connection_class(base, plain, plain_cursor, driver):
    """The recording class for a connection class: what it does itself comes before what we do."""
    known = _connection_classes.get(base)
    if known is not None:
        return known
    root = _connection_classes.get(plain)
    if root is None:
        root = _connection_classes[plain] = _recording_connection(plain, plain_cursor, driver)
        _connection_classes[root] = root
    if base is plain:
        return root
    if issubclass(base, root) and base.cursor is root.cursor:
        return base
    own = {} if base.cursor in (plain.cursor, root.cursor) else {"cursor": _checked(base.cursor)}
    cls = class_like(
        type(base.__name__, (base,) if issubclass(base, root) else (base, root), own), base
    )
    _connection_classes[base] = _connection_classes[cls] = cls
    return cls


def _checked(plain):
    """A `cursor()` of the program's own: what does not come by way of ours is said to go
    unrecorded.
    """

    @wraps(plain)
    def cursor(self, *args, **kwargs):
        own_cursor = plain(self, *args, **kwargs)
        if recorder.active and not isinstance(own_cursor, tuple(_roots)):
            recorder.warn_once(
                "can't record cursors of %s, which %s makes"
                % (type(own_cursor).__name__, type(self).__name__)
            )
        return own_cursor

    return cursor


def install(module):
    """Make `psycopg2.connect` hand out recording connections; our classes are in the place of
    psycopg2's own.
    """
    import psycopg2.extensions as extensions

    try:
        from psycopg2.sql import Composable
    except ImportError:
        Composable = None
    driver = _Psycopg2(Composable)
    plain_connection, plain_cursor = extensions.connection, extensions.cursor
    plain = module._connect

    @like(plain, module.__name__)
    def connect(dsn, connection_factory=None, **kwargs):
        base = connection_factory or plain_connection
        if recorder.active and isinstance(base, type) and issubclass(base, plain_connection):
            connection_factory = connection_class(base, plain_connection, plain_cursor, driver)
        return plain(dsn, connection_factory=connection_factory, **kwargs)

    module._connect = connect
    extensions.cursor = cursor_class(plain_cursor, plain_cursor, driver)
    extensions.connection = connection_class(
        plain_connection, plain_connection, plain_cursor, driver
    )
