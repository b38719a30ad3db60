"""Wrappers around the methods of cursors and connections that are awaited. Their plain twins are
made of this file.

Change it here, then run `probe/make-twins`.
"""

from functools import wraps
from sys import _getframe
from time import perf_counter_ns as clock

from .. import recorder
from ..fields import DURATION_NS, ROWS, SAMPLE
from ..recorder import SAMPLE_ROWS
from .calls import BUSY, busy, counted_call, rows_of, split
from .dbapi import control

_PORTION = 32  # rows of an iteration that are counted and timed together


def execute_wrapper(plain, driver, names):
    """`execute`, recorded."""

    @wraps(plain)
    async def execute(self, *args, **kwargs):
        if busy(driver, self):
            return await plain(self, *args, **kwargs)
        known = driver.before(self)
        driver.keep(self, BUSY)
        start = clock()
        try:
            result = await plain(self, *args, **kwargs)
        except BaseException as error:
            driver.keep(self, None)
            query, parameters = split(args, kwargs, *names)
            driver.failed(self, query, parameters, start, error, _getframe(1), known)
            raise
        end = clock()
        driver.keep(self, None)
        query, parameters = split(args, kwargs, *names)
        driver.executed(self, query, parameters, start, end, _getframe(1), known)
        return result

    return execute


def many_wrapper(plain, driver, names):
    """`executemany`, one query with its number of parameter sets."""

    @wraps(plain)
    async def executemany(self, *args, **kwargs):
        if busy(driver, self) or not (len(args) > 1 or any(name in kwargs for name in names[1:])):
            return await plain(self, *args, **kwargs)
        query, counted, args, kwargs = counted_call(args, kwargs, names)
        known = driver.before(self)
        driver.keep(self, BUSY)
        start = clock()
        try:
            result = await plain(self, *args, **kwargs)
        except BaseException as error:
            driver.keep(self, None)
            driver.failed(self, query, counted.first, start, error, _getframe(1), known)
            raise
        end = clock()
        driver.keep(self, None)
        if counted.count:
            driver.executed(
                self, query, counted.first, start, end, _getframe(1), known, counted.count
            )
        return result

    return executemany


def fetch_wrapper(plain, driver, one):
    """`fetchone` (with `one`), `fetchmany` or `fetchall`, timed."""

    @wraps(plain)
    async def fetch(self, *args, **kwargs):
        opened = driver.opened(self)
        if opened is None or opened is BUSY:
            return await plain(self, *args, **kwargs)
        driver.keep(self, BUSY)
        start = clock()
        try:
            given = await plain(self, *args, **kwargs)
        finally:
            driver.keep(self, opened)
        rows = rows_of(given, one)
        driver.fetched(self, opened, rows, clock() - start, not rows)
        return given

    return fetch


def iter_wrapper(plain, driver):
    """`__aiter__`, whose rows are counted and sampled; timed in portions."""

    @wraps(plain)
    def iterate(self):
        opened = driver.opened(self)
        rows = plain(self)
        if rows is self or opened is None or opened is BUSY:
            return rows
        return _iterated(self, rows, opened, driver)

    return iterate


def next_wrapper(plain, driver):
    """`__anext__` of a cursor that is its own iterator: each row is counted, the first ones are
    sampled.
    """

    @wraps(plain)
    async def following(self):
        opened = driver.opened(self)
        if opened is None or opened is BUSY:
            return await plain(self)
        driver.keep(self, BUSY)
        start = clock()
        try:
            row = await plain(self)
        except StopAsyncIteration:
            driver.keep(self, opened)
            driver.fetched(self, opened, (), clock() - start, True)
            raise
        except BaseException:
            driver.keep(self, opened)
            raise
        driver.keep(self, opened)
        record, adds = opened
        sample = record[SAMPLE]
        if sample is not None and len(sample) >= SAMPLE_ROWS:
            record[DURATION_NS] += clock() - start
            if adds:
                record[ROWS] += 1
        else:
            driver.fetched(self, opened, (row,), clock() - start, False)
        return row

    return following


async def _iterated(cursor, rows, opened, driver):
    record = opened[0]
    portion = []
    spent = 0
    step = rows.__anext__
    while True:
        driver.keep(cursor, BUSY)
        start = clock()
        try:
            row = await step()
        except StopAsyncIteration:
            break
        finally:
            if driver.opened(cursor) is BUSY:
                driver.keep(cursor, opened)
        spent += clock() - start
        portion.append(row)
        if len(portion) == _PORTION or record[SAMPLE] is None:
            driver.fetched(cursor, opened, portion, spent, False)
            portion, spent = [], 0
        yield row
        now = driver.opened(cursor)
        # the program has executed something else meanwhile
        if now is not opened and now is not None:
            opened = now
            record = opened[0] if now is not BUSY else record
    driver.fetched(cursor, opened, portion, spent, True)


def ending_wrapper(plain, driver, word):
    """A connection's `commit` or `rollback`; recorded where it has something to end."""

    @wraps(plain)
    async def end(self, *args, **kwargs):
        if not recorder.active or not driver.in_transaction(self):
            return await plain(self, *args, **kwargs)
        start = clock()
        result = await plain(self, *args, **kwargs)
        try:
            driver.ended(self)
            control(word, start, clock(), _getframe(1), driver.number(self))
        except Exception as error:
            recorder.warn_unrecorded(error)
        return result

    return end
