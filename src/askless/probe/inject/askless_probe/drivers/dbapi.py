"""What the drivers of PEP 249 share: a `Driver` says how one differs, and takes a query's steps to
its record.

A query is recorded when `execute` returns; fetches add their time, and rows where these come as
they are fetched.
"""

from _thread import get_ident
from time import perf_counter_ns as clock

from .. import recorder
from ..fields import DESCRIPTION, DURATION_NS, ROWS, SAMPLE
from ..recorder import SAMPLE_ROWS
from ..stack import walk

_current = recorder.current.get
_pending = recorder.pending.get


def add(
    text,
    parameters,
    start,
    end,
    rows,
    frame,
    connection,
    in_transaction,
    description=None,
    error=None,
    batch=0,
):
    """Add the record of a query to the current request; the record, for fetches to go on
    filling.
    """
    request = _current() or recorder.current_request()
    thread = get_ident()
    place = walk(frame)
    load = recorder.take() if _pending() is not None else None
    record = [text, parameters, start, end - start, rows, place, None, connection, in_transaction]
    record += (description, load, thread, error, batch)
    recorder.add(request, record, end)
    return record


def control(word, start, end, frame, connection):
    """Add a transaction's BEGIN, COMMIT or the like; what the ORM said is for the query after
    it.
    """
    load = recorder.put_aside()
    record = add(word, (), start, end, 0, frame, connection, word != "BEGIN")
    if load is not None:
        recorder.pending.set(load)
    if recorder.echo is not None:
        recorder.echo.show(record)


def copied(parameters):
    """Parameters as they are now: the program may change a list or dict that it passed.

    No code of the program's own runs here: what is neither tuple, list nor dict is not looked into.
    """
    if parameters is None:
        return ()
    if isinstance(parameters, tuple):
        return tuple.__getitem__(parameters, slice(None))
    if isinstance(parameters, list):
        return tuple(list.__getitem__(parameters, slice(None)))
    if isinstance(parameters, dict):
        return dict.copy(parameters)
    return ("<not read: %s>" % type(parameters).__name__,)


def names_of(cursor):
    """The names of a result's columns, in the form of `description`."""
    return [(column[0],) for column in cursor.description]


class Counted:
    """The parameter sets of an executemany: counted, the first one kept, an iterator left an
    iterator.
    """

    def __init__(self, values):
        self.first = ()
        self.count = 0
        if type(values) in (list, tuple):
            self.values = values
            self.count = len(values)
            self.first = values[0] if values else ()
        elif hasattr(values, "__aiter__"):
            self.values = values
        else:
            self.values = self._pass(values)

    def _pass(self, values):
        for value in values:
            if not self.count:
                self.first = value
            self.count += 1
            yield value


class Driver:
    """How one driver differs from the others."""

    system = ""
    learns_later = False  # whether a row count of -1 means one that is known once rows are fetched
    begins_by_itself = True  # sends BEGIN ahead of the first query of a transaction
    follows = False  # whether it has to see every statement, to know whether a transaction is open

    def text(self, query, cursor):
        """The statement as text."""
        if type(query) is str:
            return query
        if isinstance(query, (bytes, bytearray)):
            return bytes(query).decode("utf-8", "replace")
        return str.__str__(query) if isinstance(query, str) else "<%s>" % type(query).__name__

    def in_transaction(self, connection):
        """Whether a transaction is open, as far as the client knows."""
        return False

    def ended(self, connection):
        """A commit or rollback of the connection has gone through: for drivers that follow
        transactions themselves.
        """

    def rows(self, cursor):
        """Rows of the result, or changed; -1 where that can't be said yet."""
        return cursor.rowcount

    def streams(self, cursor):
        """Whether rows come only as they are fetched."""
        return False

    # What a cursor is reading: (record, whether fetches add rows), kept on the cursor itself where
    # it has room.

    def opened(self, cursor):
        """What the cursor is reading, or None."""
        return cursor._askless_open

    def keep(self, cursor, opened):
        """Remember what the cursor is reading."""
        cursor._askless_open = opened

    def number(self, connection):
        """The connection's number; given when it is first used."""
        try:
            return connection._askless_id
        except AttributeError:
            number = connection._askless_id = recorder.new_connection(self.system)
            return number

    # The steps that every wrapper goes through. None of them raises.

    def before(self, cursor):
        """Connection and transaction state ahead of a query."""
        try:
            connection = cursor.connection
            return connection, self.in_transaction(connection)
        except Exception:
            return None, False

    def _has_begun(self, connection, query, start, frame, number):
        """Whether a query has begun a transaction by itself."""
        inside = self.in_transaction(connection) and not self._begins(query)
        if inside and self.begins_by_itself:
            control("BEGIN", start, start, frame, number)
        return inside

    def executed(self, cursor, query, parameters, start, end, frame, known, batch=0, rows=None):
        """A query has run."""
        try:
            connection, inside = known
            number = self.number(connection)
            if not inside:
                inside = self._has_begun(connection, query, start, frame, number)
            text = self.text(query, cursor)
            described = cursor.description is not None
            names = None
            if described and not recorder.writer.knows(text):
                names = names_of(cursor)
            streams = self.streams(cursor)
            if rows is None:
                rows = 0 if streams else self.rows(cursor)
            if type(parameters) is not tuple:
                parameters = copied(parameters)
            adds = streams
            if rows < 0 and not self.learns_later:
                rows, adds = 0, True
            record = add(
                text, parameters, start, end, rows, frame, number, inside, names, None, batch
            )
            # In a pipeline there is no result yet: whether there will be one shows when it is
            # fetched.
            self.keep(cursor, (record, adds) if described or streams or rows < 0 else None)
            if recorder.echo is not None and not described:
                recorder.echo.show(record)
            return record
        except Exception as error:
            recorder.warn_unrecorded(error)

    def _begins(self, query):
        head = query[:9] if isinstance(query, (str, bytes)) else ""
        if isinstance(head, bytes):
            head = head.decode("ascii", "replace")
        return head.lstrip()[:5].upper() in ("BEGIN", "START", "SAVEP")

    def failed(self, cursor, query, parameters, start, problem, frame, known):
        """A query has ended in an error; the error goes on to the program."""
        try:
            connection, inside = known
            number = self.number(connection)
            if (
                not inside
                and self.begins_by_itself
                and self.in_transaction(connection)
                and not self._begins(query)
            ):
                control("BEGIN", start, start, frame, number)
                inside = True
            text = "%s: %s" % (type(problem).__name__, str(problem).strip())
            record = add(
                self.text(query, cursor),
                copied(parameters),
                start,
                clock(),
                0,
                frame,
                number,
                inside,
                error=text,
            )
            self.keep(cursor, None)
            if recorder.echo is not None:
                recorder.echo.show(record)
        except Exception as error:
            recorder.warn_unrecorded(error)

    def fetched(self, cursor, opened, rows, duration, ended):
        """Rows have been handed over."""
        try:
            record, adds = opened
            record[DURATION_NS] += duration
            if adds:
                record[ROWS] += len(rows)
            elif record[ROWS] < 0:
                record[ROWS] = max(self.rows(cursor), len(rows))
            if (
                record[DESCRIPTION] is None
                and record[SAMPLE] is None
                and cursor.description is not None
            ):
                record[DESCRIPTION] = names_of(cursor)
            sample = record[SAMPLE]
            if rows and (sample is None or len(sample) < SAMPLE_ROWS):
                taken = [plain_row(row) for row in rows[: SAMPLE_ROWS - len(sample or ())]]
                record[SAMPLE] = taken if sample is None else sample + taken
            if ended:
                self.keep(cursor, None)
                if recorder.echo is not None:
                    recorder.echo.show(record)
        except Exception as error:
            recorder.warn_unrecorded(error)


def plain_row(row):
    """A row as a plain tuple; an object of the program's own is not looked into."""
    if type(row) is tuple:
        return row
    if isinstance(row, dict):
        return tuple(dict.values(row))
    return row
