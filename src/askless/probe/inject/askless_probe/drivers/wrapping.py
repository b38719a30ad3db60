"""Wrappers around the methods of cursors and connections, plain and async: types stay what they are.

`wrap_cursor` wraps those methods that a class defines itself; what is recorded is the driver's affair (`dbapi.Driver`).
"""

from functools import wraps
from sys import _getframe
from time import perf_counter_ns as clock

from .. import recorder
from ..fields import SAMPLE
from .dbapi import Counted, control


def split(args, kwargs, *names):
    """Query and parameters of a call, by position or by name."""
    query = args[0] if args else kwargs.get(names[0])
    if len(args) > 1:
        return query, args[1]
    for name in names[1:]:
        if name in kwargs:
            return query, kwargs[name]
    return query, None


def busy(driver, cursor):
    """Whether this call is an inner one of a call that is being recorded, or nobody records."""
    return not recorder.active or driver.opened(cursor) is BUSY


BUSY = object()  # kept on a cursor while an outer call of it is recorded


def execute_wrapper(plain, driver, names):
    """`execute`, recorded."""

    @wraps(plain)
    def execute(self, *args, **kwargs):
        if busy(driver, self):
            return plain(self, *args, **kwargs)
        known = driver.before(self)
        driver.keep(self, BUSY)
        start = clock()
        try:
            result = plain(self, *args, **kwargs)
        except Exception as error:
            query, parameters = split(args, kwargs, *names)
            driver.keep(self, None)
            driver.failed(self, query, parameters, start, error, _getframe(1), known)
            raise
        except BaseException:
            driver.keep(self, None)
            raise
        end = clock()
        driver.keep(self, None)
        query, parameters = split(args, kwargs, *names)
        driver.executed(self, query, parameters, start, end, _getframe(1), known)
        return result

    return execute


def execute_wrapper_async(plain, driver, names):
    """The same for a coroutine."""

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


def _counted_call(args, kwargs, names):
    """The arguments of an executemany with its parameter sets counted as they pass."""
    query, sets = split(args, kwargs, *names)
    counted = Counted(sets if sets is not None else ())
    if len(args) > 1:
        args = (args[0], counted.values) + args[2:]
    else:
        kwargs = {name: counted.values if name in names[1:] else value for name, value in kwargs.items()}
    return query, counted, args, kwargs


def many_wrapper(plain, driver, names):
    """`executemany`, one query with its number of parameter sets."""

    @wraps(plain)
    def executemany(self, *args, **kwargs):
        if busy(driver, self) or not (len(args) > 1 or any(name in kwargs for name in names[1:])):
            return plain(self, *args, **kwargs)
        query, counted, args, kwargs = _counted_call(args, kwargs, names)
        known = driver.before(self)
        driver.keep(self, BUSY)
        start = clock()
        try:
            result = plain(self, *args, **kwargs)
        except BaseException as error:
            driver.keep(self, None)
            driver.failed(self, query, counted.first, start, error, _getframe(1), known)
            raise
        end = clock()
        driver.keep(self, None)
        if counted.count:
            driver.executed(self, query, counted.first, start, end, _getframe(1), known, counted.count)
        return result

    return executemany


def many_wrapper_async(plain, driver, names):
    """The same for a coroutine."""

    @wraps(plain)
    async def executemany(self, *args, **kwargs):
        if busy(driver, self) or not (len(args) > 1 or any(name in kwargs for name in names[1:])):
            return await plain(self, *args, **kwargs)
        query, counted, args, kwargs = _counted_call(args, kwargs, names)
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
            driver.executed(self, query, counted.first, start, end, _getframe(1), known, counted.count)
        return result

    return executemany


def _rows_of(given, one):
    return ((given,) if given is not None else ()) if one else given


def fetch_wrapper(plain, driver, one):
    """`fetchone` (with `one`), `fetchmany` or `fetchall`, timed."""

    @wraps(plain)
    def fetch(self, *args, **kwargs):
        opened = driver.opened(self)
        if opened is None or opened is BUSY:
            return plain(self, *args, **kwargs)
        driver.keep(self, BUSY)
        start = clock()
        try:
            given = plain(self, *args, **kwargs)
        finally:
            driver.keep(self, opened)
        rows = _rows_of(given, one)
        driver.fetched(self, opened, rows, clock() - start, not rows)
        return given

    return fetch


def fetch_wrapper_async(plain, driver, one):
    """The same for a coroutine."""

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
        rows = _rows_of(given, one)
        driver.fetched(self, opened, rows, clock() - start, not rows)
        return given

    return fetch


_PORTION = 32  # rows of an iteration that are counted and timed together
_END = object()


def iter_wrapper(plain, driver):
    """`__iter__`, whose rows are counted and sampled; timed in portions."""

    @wraps(plain)
    def iterate(self):
        opened = driver.opened(self)
        rows = plain(self)
        if opened is None or opened is BUSY:
            return rows
        return _iterated(self, rows, opened, driver)

    return iterate


def _iterated(cursor, rows, opened, driver):
    record = opened[0]
    portion = []
    spent = 0
    while True:
        driver.keep(cursor, BUSY)
        start = clock()
        try:
            row = next(rows, _END)
        finally:
            if driver.opened(cursor) is BUSY:
                driver.keep(cursor, opened)
        spent += clock() - start
        if row is _END:
            break
        portion.append(row)
        if len(portion) == _PORTION or record[SAMPLE] is None:
            driver.fetched(cursor, opened, portion, spent, False)
            portion, spent = [], 0
        yield row
        now = driver.opened(cursor)
        if now is not opened and now is not None:  # the program has executed something else meanwhile
            opened = now
            record = opened[0] if now is not BUSY else record
    driver.fetched(cursor, opened, portion, spent, True)


def iter_wrapper_async(plain, driver):
    """`__aiter__`, the same."""

    @wraps(plain)
    def iterate(self):
        opened = driver.opened(self)
        rows = plain(self)
        if opened is None or opened is BUSY:
            return rows
        return _iterated_async(self, rows, opened, driver)

    return iterate


async def _iterated_async(cursor, rows, opened, driver):
    portion = []
    start = clock()
    spent = 0
    step = rows.__anext__  # the cursor may be its own iterator, whose __aiter__ is ours
    while True:
        try:
            row = await step()
        except StopAsyncIteration:
            break
        spent += clock() - start
        portion.append(row)
        if len(portion) == _PORTION:
            driver.fetched(cursor, opened, portion, spent, False)
            portion, spent = [], 0
        yield row
        start = clock()
    driver.fetched(cursor, opened, portion, spent + clock() - start, True)


_SYNC = (execute_wrapper, many_wrapper, fetch_wrapper)
_ASYNC = (execute_wrapper_async, many_wrapper_async, fetch_wrapper_async)


def wrap_cursor(cls, driver, names=("query", "params"), many=("query", "params_seq"), is_async=False):
    """Record what goes through a cursor class: wraps those of its methods that it defines itself."""
    execute, executemany, fetch = _ASYNC if is_async else _SYNC
    own = vars(cls)
    if "execute" in own:
        cls.execute = execute(own["execute"], driver, names)
    if "executemany" in own:
        cls.executemany = executemany(own["executemany"], driver, many)
    for name in ("fetchone", "fetchmany", "fetchall"):
        if name in own:
            setattr(cls, name, fetch(own[name], driver, name == "fetchone"))
    if "__iter__" in own and not is_async:
        cls.__iter__ = iter_wrapper(own["__iter__"], driver)
    if "__aiter__" in own and is_async:
        cls.__aiter__ = iter_wrapper_async(own["__aiter__"], driver)


def ending_wrapper(plain, driver, word):
    """A connection's `commit` or `rollback`; recorded where it has something to end."""

    @wraps(plain)
    def end(self, *args, **kwargs):
        if not recorder.active or not driver.in_transaction(self):
            return plain(self, *args, **kwargs)
        start = clock()
        result = plain(self, *args, **kwargs)
        try:
            control(word, start, clock(), _getframe(1), driver.number(self))
        except Exception as error:
            recorder.missed(error)
        return result

    return end


def ending_wrapper_async(plain, driver, word):
    """The same for a coroutine."""

    @wraps(plain)
    async def end(self, *args, **kwargs):
        if not recorder.active or not driver.in_transaction(self):
            return await plain(self, *args, **kwargs)
        start = clock()
        result = await plain(self, *args, **kwargs)
        try:
            control(word, start, clock(), _getframe(1), driver.number(self))
        except Exception as error:
            recorder.missed(error)
        return result

    return end
