"""Further drivers by what PEP 249 lays down: each says in a few lines where its cursors differ.

Classes written in Python are wrapped where they are. Those that can't be changed are given out as
subclasses of theirs (asyncmy, apsw), or after stand-ins that pass everything on (pyodbc, pymssql).
What a driver can't tell without asking the server (whether a transaction is open) is followed by
the words that go through the connection.
"""

from functools import wraps
from weakref import ProxyType, WeakKeyDictionary

from .. import recorder
from ..wrapper_metadata import class_like
from . import dbapi, wrapping
from .mysql_drivers import _MySQL

_METHODS = ("execute", "executemany", "fetchone", "fetchmany", "fetchall", "__iter__", "__next__")


class TransactionTrackingDriver(dbapi.Driver):
    """A driver whose transactions are followed by words: most begin one with the first
    statement.
    """

    begins_by_itself = False
    follows = True

    def __init__(self, system):
        self.system = system
        self.cursors = WeakKeyDictionary()  # of cursors that have no room for an attribute
        self.connections = WeakKeyDictionary()

    def opened(self, cursor):
        return self.cursors.get(cursor)

    def keep(self, cursor, opened):
        self.cursors[cursor] = opened

    def number(self, connection):
        if connection is None:
            return 0
        try:
            return self.connections[connection][0]
        except KeyError:
            self.connections[connection] = [recorder.new_connection(self.system), False]
            return self.connections[connection][0]

    def in_transaction(self, connection):
        known = self.connections.get(connection)
        return bool(known and known[1])

    def before(self, cursor):
        try:
            connection = self.connection_of(cursor)
            self.number(connection)
            return connection, self.in_transaction(connection)
        except Exception:
            return None, False

    def connection_of(self, cursor):
        """The connection that a cursor belongs to."""
        return cursor.connection

    def commits_by_itself(self, connection):
        """Whether each statement is a transaction. Only from what is at hand: some drivers ask the
        server for it.
        """
        return False

    def executed(self, cursor, query, parameters, start, end, frame, known, batch=0, rows=None):
        try:
            entry = self.connections.get(known[0])
            if entry is not None:
                word = dbapi.Driver.text(self, query, None).lstrip()[:8].upper()
                if word.startswith(("COMMIT", "ROLLBACK", "END")):
                    entry[1] = False
                elif word.startswith(("BEGIN", "START")) or not self.commits_by_itself(known[0]):
                    entry[1] = True
        except Exception:
            pass
        return dbapi.Driver.executed(
            self, cursor, query, parameters, start, end, frame, known, batch, rows
        )

    def ended(self, connection):
        entry = self.connections.get(connection)
        if entry is not None:
            entry[1] = False


# -- pg8000, oracledb, mysql-connector-python, aiomysql: classes in Python
# ---------------------------------------------


class _Pg8000(TransactionTrackingDriver):
    def connection_of(self, cursor):
        return cursor._c  # its `connection` warns the caller that it is not a part of PEP 249

    def in_transaction(self, connection):
        return bool(getattr(connection, "_in_transaction", False))


def install_pg8000(module):
    """pg8000's PEP 249 cursors."""
    driver = _Pg8000("postgresql")
    wrapping.wrap_cursor(module.Cursor, driver, ("operation", "args"), ("operation", "param_sets"))
    wrapping.wrap_endings(module.Connection, driver)


def install_oracledb(module):
    """python-oracledb: plain cursors. (Its asynchronous ones ask through the same methods,
    awaited.)
    """
    driver = _Oracle("oracle")
    wrapping.wrap_cursor(
        module.Cursor, driver, ("statement", "parameters"), ("statement", "parameters")
    )
    wrapping.wrap_endings(module.Connection, driver)
    if hasattr(module, "AsyncCursor"):
        wrapping.wrap_cursor(
            module.AsyncCursor,
            driver,
            ("statement", "parameters"),
            ("statement", "parameters"),
            is_async=True,
        )


class _Oracle(TransactionTrackingDriver):
    def commits_by_itself(self, connection):
        return bool(connection.autocommit)


class _Connector(TransactionTrackingDriver):
    def connection_of(self, cursor):
        connection = cursor._connection
        return connection.__repr__.__self__ if isinstance(connection, ProxyType) else connection

    def in_transaction(self, connection):
        # by the status that each answer brings along
        return bool(getattr(connection, "in_transaction", False))


def install_connector(module):
    """mysql-connector-python: its cursors in Python, and those around the part in C."""
    driver = _Connector("mysql")
    for cls in list(vars(module).values()):
        own = (
            isinstance(cls, type) and cls.__module__ == module.__name__ and "Cursor" in cls.__name__
        )
        if own and "Abstract" not in cls.__name__:
            wrapping.wrap_cursor(cls, driver, ("operation", "params"), ("operation", "seq_params"))


def install_aiomysql(module):
    """aiomysql."""
    driver = _MySQL((module.SSCursor,))
    module.Cursor._askless_open = None
    for cls in (module.Cursor, module.SSCursor):
        wrapping.wrap_cursor(cls, driver, ("query", "args"), ("query", "args"), is_async=True)


# -- asyncmy, apsw: subclasses
# -----------------------------------------------------------------------------------------


def _recording(base, is_async=False):
    """A subclass whose methods are there to be wrapped."""
    body = {"_askless_open": None}
    for name in (*_METHODS, "__aiter__", "__anext__"):
        plain = getattr(base, name, None)
        if plain is not None:
            body[name] = _calling(plain, is_async and name not in ("__aiter__",))
    return class_like(type(base.__name__, (base,), body), base)


def _calling(plain, is_async):
    if is_async:

        @wraps(plain)
        async def call(self, *args, **kwargs):
            return await plain(self, *args, **kwargs)

    else:

        @wraps(plain)
        def call(self, *args, **kwargs):
            return plain(self, *args, **kwargs)

    return call


def install_asyncmy(module):
    """asyncmy: the cursor class that a connection is reported to use."""
    from asyncmy import cursors

    driver = _MySQL((cursors.SSCursor,))
    known = {}

    def recording(base):
        if base not in known:
            known[base] = _recording(base, True)
            wrapping.wrap_cursor(
                known[base], driver, ("query", "args"), ("query", "args"), is_async=True
            )
        return known[base]

    for name in ("connect", "create_pool"):
        plain = getattr(module, name)
        setattr(module, name, _with_cursor_class(plain, recording, cursors.Cursor))


def _with_cursor_class(plain, recording, default):
    @wraps(plain)
    def connect(*args, **kwargs):
        if recorder.active:
            base = kwargs.get("cursor_cls") or default
            if isinstance(base, type) and issubclass(base, default):
                kwargs["cursor_cls"] = recording(base)
        return plain(*args, **kwargs)

    return connect


class _Apsw(TransactionTrackingDriver):
    def in_transaction(self, connection):
        return bool(connection.in_transaction)

    def rows(self, cursor):
        return 0

    def streams(self, cursor):
        return True

    def executed(self, cursor, query, parameters, start, end, frame, known, batch=0, rows=None):
        return dbapi.Driver.executed(
            self, cursor, query, parameters, start, end, frame, known, batch, rows
        )


def install_apsw(module):
    """apsw: its public hook for new connections, which names the class of their cursors."""
    driver = _Apsw("sqlite")
    names = ("statements", "bindings"), ("statements", "sequenceofbindings")

    def description(self):  # raises once a statement is through, where PEP 249 has None
        try:
            return self.get_description() or None
        except module.Error:
            return None

    recording = _recording(module.Cursor)
    recording.description = property(description)
    wrapping.wrap_cursor(recording, driver, *names)

    def connected(connection):
        if recorder.active:
            connection.cursor_factory = recording

    module.connection_hooks.append(connected)


# -- duckdb: one class that is both connection and cursor
# --------------------------------------------------------------


class _Duck(TransactionTrackingDriver):
    def connection_of(self, cursor):
        return cursor

    def commits_by_itself(self, connection):
        return True

    def rows(self, cursor):
        return 0

    def streams(self, cursor):
        return True


def install_duckdb(module):
    """duckdb's `execute` and what fetches rows in Python. Relations, which are run late and fetched
    as frames, are not.
    """
    driver = _Duck("duckdb")
    cls = module.DuckDBPyConnection
    wrapping.wrap_cursor(cls, driver, ("query", "parameters"), ("query", "parameters"))
    for name in ("execute", "executemany", "fetchone", "fetchmany", "fetchall"):
        setattr(module, name, _on_default(module, name))


def _on_default(module, name):
    """A function of the module: the method of its default connection, which `connection=`
    replaces.
    """
    plain = getattr(module, name)

    @wraps(plain)
    def call(*args, connection=None, **kwargs):
        chosen = connection if connection is not None else module.default_connection()
        return getattr(chosen, name)(*args, **kwargs)

    return call


# -- pyodbc, pymssql: stand-ins
# ----------------------------------------------------------------------------------------


class _Passing:
    """Stands in for an object whose class can't be changed: everything it does not do itself is
    passed on.
    """

    __slots__ = (
        "__weakref__",
        "_askless_driver",
        "_askless_open",
        "_askless_owner",
        "_askless_real",
    )

    def __init__(self, real, driver, owner=None):
        for name, value in (("real", real), ("driver", driver), ("owner", owner), ("open", None)):
            object.__setattr__(self, "_askless_" + name, value)

    @property
    def __class__(self):
        return type(self._askless_real)

    def __getattr__(self, name):
        return getattr(self._askless_real, name)

    def __setattr__(self, name, value):
        if name.startswith("_askless_"):
            object.__setattr__(self, name, value)
        else:
            setattr(self._askless_real, name, value)

    def __enter__(self):
        self._askless_real.__enter__()
        return self

    def __exit__(self, *details):
        return self._askless_real.__exit__(*details)


class _Connection(_Passing):
    def cursor(self, *args, **kwargs):
        return _Cursor(self._askless_real.cursor(*args, **kwargs), self._askless_driver, self)

    def execute(self, *args, **kwargs):  # pyodbc's short cut
        return self.cursor().execute(*args, **kwargs)

    def commit(self):
        return self._askless_real.commit()

    def rollback(self):
        return self._askless_real.rollback()


class _Cursor(_Passing):
    def execute(self, *args, **kwargs):
        result = self._askless_real.execute(*args, **kwargs)
        return self if result is self._askless_real else result

    def executemany(self, *args, **kwargs):
        return self._askless_real.executemany(*args, **kwargs)

    def fetchone(self):
        return self._askless_real.fetchone()

    def fetchmany(self, *args, **kwargs):
        return self._askless_real.fetchmany(*args, **kwargs)

    def fetchall(self):
        return self._askless_real.fetchall()

    def __iter__(self):
        return self

    def __next__(self):
        return self._askless_real.__next__()


class _StandIn(TransactionTrackingDriver):
    """pyodbc takes the parameters one by one as well: `execute(sql, 1, 2)`."""

    opened = dbapi.Driver.opened
    keep = dbapi.Driver.keep

    def connection_of(self, cursor):
        return cursor._askless_owner

    def commits_by_itself(self, connection):
        given = getattr(connection, "autocommit", False)
        return given is True  # pyodbc's attribute; pymssql has a method of that name

    def executed(self, cursor, query, parameters, start, end, frame, known, batch=0, rows=None):
        if parameters is not None and not isinstance(parameters, (list, tuple, dict)):
            parameters = (parameters,)
        return TransactionTrackingDriver.executed(
            self, cursor, query, parameters, start, end, frame, known, batch, rows
        )


_stand_in = _StandIn("mssql")


def install_stand_in(module):
    """pyodbc and pymssql, whose classes are in C."""
    plain = module.connect

    @wraps(plain)
    def connect(*args, **kwargs):
        connection = plain(*args, **kwargs)
        return _Connection(connection, _stand_in) if recorder.active else connection

    module.connect = connect


wrapping.wrap_cursor(_Cursor, _stand_in, ("sql", "params"), ("sql", "params"))
wrapping.wrap_endings(_Connection, _stand_in)
