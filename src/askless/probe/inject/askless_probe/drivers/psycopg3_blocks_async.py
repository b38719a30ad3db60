"""psycopg 3's blocks where they are awaited: COPY, streams and transactions. Their plain twins are
made of this file.

Change it here, then run `probe/make-twins`.
"""

from contextlib import asynccontextmanager
from functools import wraps
from sys import _getframe
from time import perf_counter_ns as clock

from .. import recorder
from ..fields import DURATION_NS
from .calls import split
from .psycopg3_transactions import noted


def copy_wrapper(plain, driver):
    """`with cursor.copy(...)`."""

    @asynccontextmanager
    @wraps(plain)
    async def copy(self, *args, **kwargs):
        if not recorder.active:
            async with plain(self, *args, **kwargs) as given:
                yield given
            return
        query, parameters = split(args, kwargs, "statement", "params")
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


def stream_wrapper(plain, driver):
    """`cursor.stream(...)`."""

    @wraps(plain)
    def stream(self, *args, **kwargs):
        rows = plain(self, *args, **kwargs)
        if not recorder.active:
            return rows
        return _streamed(driver, self, rows, split(args, kwargs, "query", "params"), _getframe(1))

    return stream


async def _streamed(driver, cursor, rows, call, frame):
    known, start = driver.before(cursor), clock()
    record = None
    async for row in rows:
        if record is None:
            record = driver.executed(cursor, call[0], call[1], start, clock(), frame, known, rows=0)
        if record is not None:
            driver.fetched(cursor, (record, True), (row,), 0, False)
        yield row
    if record is None:
        driver.executed(cursor, call[0], call[1], start, clock(), frame, known, rows=0)
    else:
        record[DURATION_NS] = clock() - start
    driver.keep(cursor, None)


def wrap_block(cls, driver):
    """`with connection.transaction():`"""
    enter, leave = cls.__aenter__, cls.__aexit__

    @wraps(enter)
    async def entered(self):
        start = clock()
        result = await enter(self)
        if recorder.active:
            noted(driver, self, False, False, start, _getframe(1))
        return result

    @wraps(leave)
    async def left(self, kind, problem, trace):
        start = clock()
        result = await leave(self, kind, problem, trace)
        if recorder.active:
            noted(driver, self, True, kind is not None, start, _getframe(1))
        return result

    cls.__aenter__, cls.__aexit__ = entered, left
