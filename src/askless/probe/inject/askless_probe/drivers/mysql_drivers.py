"""PyMySQL and mysqlclient: cursors of one design, wrapped where they are.

Whether a transaction is open is known from the server's status where the driver keeps it, else
followed by the words that go through the connection.
"""

from functools import wraps
from sys import _getframe
from time import perf_counter_ns as clock

from .. import recorder
from ..wrapper_metadata import like
from . import calls, dbapi, wrapping

_IN_TRANSACTION = 1  # SERVER_STATUS_IN_TRANS of the protocol


class _MySQL(dbapi.Driver):
    system = "mysql"
    begins_by_itself = False
    follows = True

    def __init__(self, streaming):
        self.streaming = streaming

    def number(self, connection):
        try:
            return connection._askless_id
        except AttributeError:
            system = "mysql"
            try:
                if "mariadb" in str(connection.get_server_info()).lower():
                    system = "mariadb"
            except Exception:
                pass
            number = connection._askless_id = recorder.new_connection(system)
            return number

    def before(self, cursor):
        # Once closed, a cursor has no connection any more; PyMySQL raises for it only when it is
        # used.
        connection = cursor.connection
        try:
            return connection, self.in_transaction(connection)
        except Exception:
            return connection, False

    def in_transaction(self, connection):
        status = getattr(connection, "server_status", None)
        if status is not None:
            return bool(status & _IN_TRANSACTION)
        return getattr(connection, "_askless_inside", False)

    def executed(self, cursor, query, parameters, start, end, frame, known, batch=0, rows=None):
        if getattr(known[0], "server_status", None) is None:
            self._follow(known[0], query)
        return dbapi.Driver.executed(
            self, cursor, query, parameters, start, end, frame, known, batch, rows
        )

    def _follow(self, connection, query):
        """mysqlclient keeps no status: a transaction is open after BEGIN, and without autocommit
        after any query.
        """
        word = dbapi.Driver.text(self, query, None).lstrip()[:8].upper()
        try:
            if word.startswith(("COMMIT", "ROLLBACK")):
                connection._askless_inside = False
            elif word.startswith(("BEGIN", "START")) or not connection.get_autocommit():
                connection._askless_inside = True
        except Exception:
            pass

    def streams(self, cursor):
        return isinstance(cursor, self.streaming)


def _control(plain, driver, word):
    """A connection's own `commit`, `rollback` or `begin`, which always asks the server."""

    @like(plain)
    def control(self, *args, **kwargs):
        if not recorder.active:
            return plain(self, *args, **kwargs)
        start = clock()
        result = plain(self, *args, **kwargs)
        try:
            if getattr(self, "server_status", None) is None:
                self._askless_inside = word == "BEGIN"
            dbapi.control(word, start, clock(), _getframe(1), driver.number(self))
        except Exception as error:
            recorder.warn_unrecorded(error)
        return result

    return control


def _procedure(plain, driver):
    """`callproc`: one query."""

    @wraps(plain)
    def callproc(self, procname, args=()):
        if calls.busy(driver, self):
            return plain(self, procname, args)
        known = driver.before(self)
        driver.keep(self, calls.BUSY)
        text = "CALL %s(%s)" % (procname, ", ".join(["%s"] * len(args)))
        start = clock()
        try:
            result = plain(self, procname, args)
        except Exception as error:
            driver.keep(self, None)
            driver.failed(self, text, args, start, error, _getframe(1), known)
            raise
        driver.keep(self, None)
        driver.executed(self, text, args, start, clock(), _getframe(1), known)
        return result

    return callproc


def install_pymysql(module):
    """PyMySQL."""
    from pymysql import connections, cursors

    driver = _MySQL((cursors.SSCursor,))
    cursors.Cursor._askless_open = None
    for cls in (cursors.Cursor, cursors.SSCursor):
        wrapping.wrap_cursor(cls, driver, ("query", "args"), ("query", "args"))
    cursors.Cursor.callproc = _procedure(cursors.Cursor.callproc, driver)
    for word in ("commit", "rollback", "begin"):
        plain = getattr(connections.Connection, word)
        setattr(connections.Connection, word, _control(plain, driver, word.upper()))


def install_mysqlclient(module):
    """mysqlclient."""
    from MySQLdb import connections, cursors

    driver = _MySQL((cursors.CursorUseResultMixIn,))
    cursors.BaseCursor._askless_open = None
    for cls in (cursors.BaseCursor, cursors.CursorStoreResultMixIn, cursors.CursorUseResultMixIn):
        wrapping.wrap_cursor(cls, driver, ("query", "args"), ("query", "args"))
    cursors.BaseCursor.callproc = _procedure(cursors.BaseCursor.callproc, driver)
    base = connections.Connection
    base.begin = _control(base.begin, driver, "BEGIN")
    for word in ("commit", "rollback"):  # inherited from the part in C
        plain = getattr(base, word)

        setattr(base, word, like(plain, base.__module__)(_control(plain, driver, word.upper())))
