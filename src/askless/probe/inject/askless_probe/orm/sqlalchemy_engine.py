"""SQLAlchemy over a driver that is not known itself: its statements by the engine's public events.

What these can't tell is missing: rows where the driver does not count them ahead, and the keys that
results hold.
"""

from sys import _getframe
from time import perf_counter_ns as clock

from .. import recorder
from ..drivers import dbapi

# Drivers, as dialects call them, that are recorded by themselves.
KNOWN = frozenset((
    "pysqlite", "pysqlite_numeric", "aiosqlite", "psycopg", "psycopg_async", "psycopg2", "asyncpg",
    "pymysql", "mysqldb", "aiomysql", "asyncmy", "mysqlconnector", "pg8000", "oracledb",
    "oracledb_async", "pyodbc", "pymssql", "duckdb_engine",
))  # fmt: skip
_START = "_askless_start"
_listening = []  # the classes whose events are heard
_listen = None  # hears the engine's events too: once a driver is met that is not known


def _number(connection):
    info = connection.info
    if "askless" not in info:
        info["askless"] = recorder.new_connection(connection.dialect.name)
    return info["askless"]


def _before(cursor, statement, parameters, context):
    try:
        if recorder.active and context is not None and context.dialect.driver not in KNOWN:
            if not _listening:
                _listen()
            setattr(context, _START, clock())
    except Exception as problem:
        recorder.warn_unrecorded(problem)


def _before_no_params(cursor, statement, context):
    _before(cursor, statement, (), context)


def _record(connection, cursor, statement, parameters, context, executemany, error=None):
    start = getattr(context, _START, None)
    if start is None:
        return
    setattr(context, _START, None)
    try:
        sets = list(parameters) if executemany and parameters else []
        given = sets[0] if sets else () if executemany else parameters
        description = getattr(cursor, "description", None)
        names = [(column[0],) for column in description] if description else None
        rows = max(getattr(cursor, "rowcount", 0) or 0, 0)
        frame, number, inside = _getframe(1), _number(connection), connection.in_transaction()
        dbapi.add(
            statement,
            dbapi.copied(given),
            start,
            clock(),
            rows,
            frame,
            number,
            inside,
            names,
            error,
            len(sets),
        )
    except Exception as problem:
        recorder.warn_unrecorded(problem)


def _after(connection, cursor, statement, parameters, context, executemany):
    _record(connection, cursor, statement, parameters, context, executemany)


def _failed(context):
    try:
        execution = context.execution_context
        if context.connection is not None and execution is not None:
            text = "%s: %s" % (
                type(context.original_exception).__name__,
                context.original_exception,
            )
            many = bool(getattr(execution, "executemany", False))
            cursor = getattr(execution, "cursor", None)
            _record(
                context.connection,
                cursor,
                context.statement,
                context.parameters,
                execution,
                many,
                text,
            )
    except Exception as problem:
        recorder.warn_unrecorded(problem)


def install(module):
    """Listen on every engine: to its dialect's events, as to listen to its own takes time of each
    connection.
    """
    global _listen
    from sqlalchemy import event

    def listen():
        _listening.append(module.Engine)
        event.listen(module.Engine, "after_cursor_execute", _after)
        event.listen(module.Engine, "handle_error", _failed)

    _listen = listen
    event.listen(module.Engine, "do_execute", _before)
    event.listen(module.Engine, "do_executemany", _before)
    event.listen(module.Engine, "do_execute_no_params", _before_no_params)
