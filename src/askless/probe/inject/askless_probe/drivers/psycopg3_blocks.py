"""psycopg 3's blocks: COPY, streams and transactions, each wrapped from its beginning to its end."""

from contextlib import asynccontextmanager, contextmanager
from functools import wraps
from sys import _getframe
from time import perf_counter_ns as clock

from .. import recorder
from ..fields import DURATION_NS
from . import dbapi, wrapping


def _copy(plain, driver):
    @contextmanager
    @wraps(plain)
    def copy(self, *args, **kwargs):
        if not recorder.active:
            with plain(self, *args, **kwargs) as given:
                yield given
            return
        query, parameters = wrapping.split(args, kwargs, "statement", "params")
        known, start, frame = driver.before(self), clock(), _getframe(2)
        try:
            with plain(self, *args, **kwargs) as given:
                yield given
        except BaseException as error:
            driver.failed(self, query, parameters, start, error, frame, known)
            raise
        driver.executed(self, query, parameters, start, clock(), frame, known)
        driver.keep(self, None)

    return copy


def _copy_async(plain, driver):
    @asynccontextmanager
    @wraps(plain)
    async def copy(self, *args, **kwargs):
        if not recorder.active:
            async with plain(self, *args, **kwargs) as given:
                yield given
            return
        query, parameters = wrapping.split(args, kwargs, "statement", "params")
        known, start, frame = driver.before(self), clock(), _getframe(2)
        try:
            async with plain(self, *args, **kwargs) as given:
                yield given
        except BaseException as error:
            driver.failed(self, query, parameters, start, error, frame, known)
            raise
        driver.executed(self, query, parameters, start, clock(), frame, known)
        driver.keep(self, None)

    return copy


def _stream(plain, driver):
    @wraps(plain)
    def stream(self, *args, **kwargs):
        rows = plain(self, *args, **kwargs)
        if not recorder.active:
            return rows
        return _streamed(self, rows, wrapping.split(args, kwargs, "query", "params"), _getframe(1))

    def _streamed(self, rows, asked, frame):
        known, start = driver.before(self), clock()
        record = None
        count = 0
        for row in rows:
            if record is None:
                record = driver.executed(self, asked[0], asked[1], start, clock(), frame, known, rows=0)
            count += 1
            if record is not None:
                driver.fetched(self, (record, True), (row,), 0, False)
            yield row
        if record is None:
            driver.executed(self, asked[0], asked[1], start, clock(), frame, known, rows=0)
        else:
            record[DURATION_NS] = clock() - start
        driver.keep(self, None)

    return stream


def _stream_async(plain, driver):
    @wraps(plain)
    async def stream(self, *args, **kwargs):
        asked, frame = wrapping.split(args, kwargs, "query", "params"), _getframe(1)
        known, start = driver.before(self), clock()
        record = None
        async for row in plain(self, *args, **kwargs):
            if record is None and recorder.active:
                record = driver.executed(self, asked[0], asked[1], start, clock(), frame, known, rows=0)
            if record is not None:
                driver.fetched(self, (record, True), (row,), 0, False)
            yield row
        if record is None:
            if recorder.active:
                driver.executed(self, asked[0], asked[1], start, clock(), frame, known, rows=0)
        else:
            record[DURATION_NS] = clock() - start
        driver.keep(self, None)

    return stream


def _words(transaction, leaving, failed):
    """What a transaction block sends when it is entered or left."""
    outer, name = getattr(transaction, "_outer_transaction", True), transaction.savepoint_name
    if not leaving:
        return (["BEGIN"] if outer else []) + (["SAVEPOINT"] if name else [])
    if outer:
        return ["ROLLBACK"] if failed else ["COMMIT"]
    return ["ROLLBACK TO", "RELEASE"] if failed else ["RELEASE"]


def _noted(driver, transaction, leaving, failed, start, frame):
    try:
        end = clock()
        for word in _words(transaction, leaving, failed):
            dbapi.control(word, start, end, frame, driver.number(transaction.connection))
            start = end
    except Exception as error:
        recorder.missed(error)


def _block(cls, driver):
    """`with connection.transaction():`"""
    enter, leave = cls.__enter__, cls.__exit__

    @wraps(enter)
    def entered(self):
        start = clock()
        result = enter(self)
        if recorder.active:
            _noted(driver, self, False, False, start, _getframe(1))
        return result

    @wraps(leave)
    def left(self, kind, problem, trace):
        start = clock()
        result = leave(self, kind, problem, trace)
        if recorder.active:
            _noted(driver, self, True, kind is not None, start, _getframe(1))
        return result

    cls.__enter__, cls.__exit__ = entered, left


def _block_async(cls, driver):
    enter, leave = cls.__aenter__, cls.__aexit__

    @wraps(enter)
    async def entered(self):
        start = clock()
        result = await enter(self)
        if recorder.active:
            _noted(driver, self, False, False, start, _getframe(1))
        return result

    @wraps(leave)
    async def left(self, kind, problem, trace):
        start = clock()
        result = await leave(self, kind, problem, trace)
        if recorder.active:
            _noted(driver, self, True, kind is not None, start, _getframe(1))
        return result

    cls.__aenter__, cls.__aexit__ = entered, left


def install(module, driver):
    """Wrap what psycopg shows in public."""
    module.Cursor.copy = _copy(module.Cursor.copy, driver)
    module.AsyncCursor.copy = _copy_async(module.AsyncCursor.copy, driver)
    module.Cursor.stream = _stream(module.Cursor.stream, driver)
    module.AsyncCursor.stream = _stream_async(module.AsyncCursor.stream, driver)
    _block(module.Transaction, driver)
    _block_async(module.AsyncTransaction, driver)
