"""What the drivers of PEP 249 share: their cursors' methods are wrapped where they are, so that types stay what they are.

A driver is a `Driver` with what differs; `wrap_cursor` and `wrap_connection` do the rest, for plain and for async
classes. A query is recorded when `execute` returns; fetches add their time, and rows where these come as they are
fetched.
"""

from _thread import get_ident
from functools import wraps
from sys import _getframe
from time import perf_counter_ns as clock

from .. import recorder
from ..recorder import FLUSH_NS, PENDING_MAX, SAMPLE_ROWS
from ..stack import walk

_current = recorder.current.get
_pending = recorder.pending.get


def add(text, parameters, start, end, rows, frame, connection, in_transaction, description=None, error=None, batch=0):
    """Add the record of a query to the current request; the record, for fetches to go on filling."""
    request = _current() or recorder.here()
    thread = get_ident()
    load = recorder.take() if _pending() is not None else None
    place = walk(frame)
    record = [text, parameters, start, end - start, rows, place, None, connection, in_transaction]
    record += (description, load, thread, error, batch)
    pending = request.records
    pending.append(record)
    if len(pending) >= PENDING_MAX or end - request.flushed_ns > FLUSH_NS:
        recorder.full(request, end)
    return record


def control(word, start, end, frame, connection):
    """Add a transaction's BEGIN, COMMIT or the like; what the ORM said is for the query after it."""
    load = _pending()
    if load is not None:
        recorder.take()
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


class Counted:
    """The parameter sets of an executemany: counted, the first one kept, an iterator left an iterator."""

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
    begins_by_itself = True  # sends BEGIN ahead of the first query of a transaction

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

    def rows(self, cursor):
        """Rows of the result, or changed; -1 where that can't be told yet."""
        return cursor.rowcount

    def streams(self, cursor):
        """Whether rows come only as they are fetched."""
        return False

    # What a cursor is reading: (record, whether fetches add rows), kept on the cursor itself where it has room.

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

    def executed(self, cursor, query, parameters, start, end, frame, known, batch=0, rows=None):
        """A query has run."""
        try:
            connection, inside = known
            number = self.number(connection)
            if not inside:
                inside = self.in_transaction(connection) and not self._begins(query)
                if inside and self.begins_by_itself:
                    control("BEGIN", start, start, frame, number)
            text = self.text(query, cursor)
            described = cursor.description is not None
            names = None
            if described and not recorder.writer.knows(text):
                names = [(column[0],) for column in cursor.description]
            streams = self.streams(cursor)
            if rows is None:
                rows = 0 if streams else self.rows(cursor)
            if type(parameters) is not tuple:
                parameters = copied(parameters)
            record = add(text, parameters, start, end, rows, frame, number, inside, names, None, batch)
            # In a pipeline there is no result yet: whether there will be one shows when it is fetched.
            self.keep(cursor, (record, streams) if described or streams or rows < 0 else None)
            if recorder.echo is not None and not described:
                recorder.echo.show(record)
            return record
        except Exception as error:
            recorder.missed(error)

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
            if not inside and self.begins_by_itself and self.in_transaction(connection) and not self._begins(query):
                control("BEGIN", start, start, frame, number)
                inside = True
            text = "%s: %s" % (type(problem).__name__, str(problem).strip())
            record = add(
                self.text(query, cursor), copied(parameters), start, clock(), 0, frame, number, inside, error=text
            )
            self.keep(cursor, None)
            if recorder.echo is not None:
                recorder.echo.show(record)
        except Exception as error:
            recorder.missed(error)

    def fetched(self, cursor, opened, rows, duration, ended):
        """Rows have been handed over."""
        try:
            record, adds = opened
            record[3] += duration
            if adds:
                record[4] += len(rows)
            elif record[4] < 0:
                record[4] = max(self.rows(cursor), len(rows))
            if record[9] is None and record[6] is None and cursor.description is not None:
                record[9] = [(column[0],) for column in cursor.description]
            sample = record[6]
            if rows and (sample is None or len(sample) < SAMPLE_ROWS):
                taken = [_values(row) for row in rows[: SAMPLE_ROWS - len(sample or ())]]
                record[6] = taken if sample is None else sample + taken
            if ended:
                self.keep(cursor, None)
                if recorder.echo is not None:
                    recorder.echo.show(record)
        except Exception as error:
            recorder.missed(error)


def _values(row):
    """A row as a plain tuple; an object of the program's own is not looked into."""
    if type(row) is tuple:
        return row
    if isinstance(row, dict):
        return tuple(dict.values(row))
    return row


def _split(args, kwargs, *names):
    """Query and parameters of a call, by position or by name."""
    query = args[0] if args else kwargs.get(names[0])
    if len(args) > 1:
        return query, args[1]
    for name in names[1:]:
        if name in kwargs:
            return query, kwargs[name]
    return query, None


def _busy(driver, cursor):
    """Whether this call is an inner one of a call that is being recorded, or nobody records."""
    return not recorder.active or driver.opened(cursor) is BUSY


BUSY = object()  # kept on a cursor while an outer call of it is recorded


def execute_wrapper(plain, driver, names):
    """`execute`, recorded."""

    @wraps(plain)
    def execute(self, *args, **kwargs):
        if _busy(driver, self):
            return plain(self, *args, **kwargs)
        known = driver.before(self)
        driver.keep(self, BUSY)
        start = clock()
        try:
            result = plain(self, *args, **kwargs)
        except Exception as error:
            query, parameters = _split(args, kwargs, *names)
            driver.keep(self, None)
            driver.failed(self, query, parameters, start, error, _getframe(1), known)
            raise
        except BaseException:
            driver.keep(self, None)
            raise
        end = clock()
        driver.keep(self, None)
        query, parameters = _split(args, kwargs, *names)
        driver.executed(self, query, parameters, start, end, _getframe(1), known)
        return result

    return execute


def execute_wrapper_async(plain, driver, names):
    """The same for a coroutine."""

    @wraps(plain)
    async def execute(self, *args, **kwargs):
        if _busy(driver, self):
            return await plain(self, *args, **kwargs)
        known = driver.before(self)
        driver.keep(self, BUSY)
        start = clock()
        try:
            result = await plain(self, *args, **kwargs)
        except BaseException as error:
            driver.keep(self, None)
            query, parameters = _split(args, kwargs, *names)
            driver.failed(self, query, parameters, start, error, _getframe(1), known)
            raise
        end = clock()
        driver.keep(self, None)
        query, parameters = _split(args, kwargs, *names)
        driver.executed(self, query, parameters, start, end, _getframe(1), known)
        return result

    return execute


def _counted_call(args, kwargs, names):
    """The arguments of an executemany with its parameter sets counted as they pass."""
    query, sets = _split(args, kwargs, *names)
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
        if _busy(driver, self) or not (len(args) > 1 or any(name in kwargs for name in names[1:])):
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
        if _busy(driver, self) or not (len(args) > 1 or any(name in kwargs for name in names[1:])):
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
        if len(portion) == _PORTION or record[6] is None:
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


def ending_wrapper(plain, driver, word, always=False):
    """A connection's `commit` or `rollback`; recorded where it has something to end (or `always` sends)."""

    @wraps(plain)
    def end(self, *args, **kwargs):
        if not recorder.active or not (always or driver.in_transaction(self)):
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
