"""psycopg 3's client-side cursors where they are awaited. Their plain twins are made of this file.

Change it here, then run `probe/make-twins`.
"""

from functools import wraps
from sys import _getframe
from time import perf_counter_ns as clock

from .. import recorder
from ..fields import DURATION_NS, ROWS, SAMPLE
from ..recorder import SAMPLE_ROWS
from .psycopg3_records import executed, fetched, passed_over


def execute_wrapper(plain, driver):
    """`execute` of a client-side cursor."""

    @wraps(plain)
    async def execute(self, query, params=None, **options):
        if not recorder.active or passed_over(self):
            return await plain(self, query, params, **options)
        connection = self.connection
        idle = connection.pgconn.transaction_status == 0
        start = clock()
        try:
            result = await plain(self, query, params, **options)
        except BaseException as error:
            driver.failed(self, query, params, start, error, _getframe(1), (connection, not idle))
            raise
        end = clock()
        try:
            executed(driver, self, connection, query, params, start, end, idle, _getframe(1))
        except Exception as error:
            recorder.warn_unrecorded(error)
        return result

    return execute


def fetch_wrapper(plain, one):
    """`fetchone` (with `one`), `fetchmany` or `fetchall` of a client-side cursor."""

    @wraps(plain)
    async def fetch(self, *args, **kwargs):
        try:
            reading = self.connection._askless.reading
        except AttributeError:
            return await plain(self, *args, **kwargs)
        entry = reading.get(id(self))
        if entry is None:
            return await plain(self, *args, **kwargs)
        start = clock()
        rows = await plain(self, *args, **kwargs)
        duration = clock() - start
        record = entry[0]
        # the only row: nothing is left
        if one and record[ROWS] == 1 and type(rows) is tuple and recorder.echo is None:
            record[DURATION_NS] += duration
            record[SAMPLE] = [rows]
            reading.pop(id(self), None)
            return rows
        try:
            fetched(self, entry, rows, duration, one)
        except Exception as error:
            recorder.warn_unrecorded(error)
        return rows

    return fetch


def next_wrapper(plain):
    """`__anext__` of a client-side cursor: of the rows after the sampled ones, one in 32 is timed
    for all of them.
    """

    @wraps(plain)
    async def following(self):
        try:
            entry = self.connection._askless.reading[id(self)]
        except (AttributeError, KeyError):
            return await plain(self)
        count = entry[1]
        if count >= SAMPLE_ROWS and count & 31 and count + 1 < entry[0][ROWS]:
            entry[1] = count + 1
            return await plain(self)
        start = clock()
        row = None
        try:
            row = await plain(self)
            return row
        finally:
            try:
                fetched(
                    self, entry, row, (clock() - start) * (32 if count >= SAMPLE_ROWS else 1), True
                )
            except Exception as error:
                recorder.warn_unrecorded(error)

    return following
