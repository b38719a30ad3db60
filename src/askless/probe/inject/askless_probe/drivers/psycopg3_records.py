"""What psycopg 3's client-side cursors leave after: a record for each query, filled while its rows
are fetched.

A query by key takes psycopg little more than twenty microseconds, so the way through `execute` and
`fetchone` is kept short: what a connection's cursors are reading is kept on the connection, by the
cursor's id.
"""

from _thread import get_ident

from .. import recorder
from ..fields import DESCRIPTION, DURATION_NS, ROWS, SAMPLE
from ..recorder import SAMPLE_ROWS
from ..stack import walk
from . import dbapi

_OPEN_MOST = 16  # results half read that are remembered for one connection
_current = recorder.current.get
_pending = recorder.pending.get


class _Connection:
    """What is kept of a connection: its number, and by cursor id [record, rows fetched so far]."""

    __slots__ = ("number", "reading")

    def __init__(self):
        self.number = recorder.new_connection("postgresql")
        self.reading = {}


def mark_of(connection):
    known = connection._askless = _Connection()
    return known


def passed_over(cursor):
    """Whether this is a query of a request that is omitted: then nothing of it is kept."""
    request = _current()
    if request is None or not request.left_out:
        return False
    connection = cursor.connection
    try:
        reading = connection._askless.reading
        if reading:
            reading.pop(id(cursor), None)
    except AttributeError:
        mark_of(connection)
    if _pending() is not None:
        recorder.take()
    return True


def _has_begun(driver, connection, query, start, frame, number):
    """Whether a query has begun a transaction by itself."""
    inside = connection.pgconn.transaction_status != 0 and not driver._begins(query)
    if inside:
        dbapi.control("BEGIN", start, start, frame, number)
    return inside


def _hold(reading, cursor, record):
    """Keep the record of a result that is about to be fetched."""
    if len(reading) >= _OPEN_MOST and id(cursor) not in reading:
        reading.clear()
    reading[id(cursor)] = [record, 0]


def executed(driver, cursor, connection, query, params, start, end, idle, frame):
    """A query has run."""
    try:
        known = connection._askless
    except AttributeError:
        known = mark_of(connection)
    inside = not idle or _has_begun(driver, connection, query, start, frame, known.number)
    text = query if type(query) is str else driver.text(query, cursor)
    result = cursor.pgresult
    rows = cursor.rowcount
    names = None
    # in a pipeline there is no result yet
    fields = result.nfields if result is not None else rows < 0
    if fields and result is not None and text not in recorder.writer.described:
        names = dbapi.names_of(cursor)
    request = _current() or recorder.outside or recorder.current_request()
    thread = get_ident()
    record = [
        text,
        params if type(params) is tuple else dbapi.copied(params),
        start,
        end - start,
        rows,
        walk(frame),
        None,
        known.number,
        inside,
        names,
        recorder.take() if _pending() is not None else None,
        thread,
        None,
        0,
    ]
    recorder.add(request, record, end)
    if fields:
        _hold(known.reading, cursor, record)
    elif recorder.echo is not None:
        recorder.echo.show(record)


def reading_of(cursor):
    """What a cursor is reading: [record, rows fetched], or None."""
    try:
        return cursor.connection._askless.reading.get(id(cursor))
    except AttributeError:
        return None


def fetched(cursor, entry, rows, duration, one):
    """Rows have been handed over (`one`: a single row, or None)."""
    record = entry[0]
    record[DURATION_NS] += duration
    if record[ROWS] < 0:
        _learn(cursor, record)
    count = (0 if rows is None else 1) if one else len(rows)
    if count:
        sample = record[SAMPLE]
        if sample is None:
            sample = record[SAMPLE] = []
        if len(sample) < SAMPLE_ROWS:
            if one:
                sample.append(rows if type(rows) is tuple else dbapi.plain_row(rows))
            else:
                sample += [
                    row if type(row) is tuple else dbapi.plain_row(row)
                    for row in rows[: SAMPLE_ROWS - len(sample)]
                ]
        entry[1] += count
    if not count or entry[1] >= record[ROWS]:
        _done(cursor, record)


def _done(cursor, record):
    cursor.connection._askless.reading.pop(id(cursor), None)
    if recorder.echo is not None:
        recorder.echo.show(record)


def _learn(cursor, record):
    """What a pipeline tells only when its rows are fetched."""
    record[ROWS] = max(cursor.rowcount, 0)
    if record[DESCRIPTION] is None and cursor.description is not None:
        record[DESCRIPTION] = [(column.name,) for column in cursor.description]
