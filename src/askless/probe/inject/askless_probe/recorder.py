"""The recorder's state: requests under way, the records of their queries, and when these are
written.

A record is a list with the fields of `fields`. The driver hooks append it to the current request
when a query has run and go on filling it while rows are fetched; it is encoded when the request
ends or when enough have gathered.
"""

import sys
from contextvars import ContextVar
from time import perf_counter_ns

from . import credentials
from .fields import ERROR, PARAMETERS, TEXT
from .stack import built

SAMPLE_ROWS = 32  # rows of a result that are looked at closely
PENDING_MAX = 64  # records that may wait in one request before they are written
# `flushed_ns` of a request that has ended: anyone who adds to it then comes by `full`
ENDED = -(1 << 62)
# how often what is omitted is reported: what a killed program does not tell is less
TELL_NS, TELL_MOST = 1_000_000_000, 100
FLUSH_NS = 250_000_000  # and how long the records of an open request may wait while queries go on

current = ContextVar("askless_request", default=None)
active = False
writer = None
echo = None
outside = None  # the request that queries outside all requests belong to
open_requests = {}  # id -> Request, so that a stopping process can write them
connections = {}  # number -> the database system it speaks to
# What the ORM said of the query it is about to send: a matter of the task, not of the thread, if
# both differ.
pending = ContextVar("askless_pending_load", default=None)
models = {}  # (orm, model) -> function that describes it, called once, when a query first names it
watched = []  # modules of interest that the program has imported, in order
unknown = []  # and those that would be of interest, if they were known
serves = False  # whether a socket of the program's listens
spent_ns = 0  # in writing
_sampled = _sampled_ns = 0
mentioned = set()  # (orm, model) of those that are described though no query is about them
memory = None  # the module that watches it, if that was wished for
spare = None  # what is omitted, where anything may be: see `sparing`
tracking = False  # whether to note which objects and columns the application reads
_last_request = 0
_last_connection = 0
_complained = set()
_harmless = set()  # texts that carry no password
_HARMLESS_MOST = 20_000


class Request:
    """One request under way."""

    __slots__ = (
        "finish",
        "ident",
        "kind",
        "route",
        "path",
        "status",
        "start_ns",
        "flushed_ns",
        "records",
        "warm_up",
        "announced",
        "prefix",
        "written",
        "uses",
        "seen",
        "queued",
        "task",
        "errands",
        "held_bytes",
        "memory_bytes",
        "spared",
        "left_out",
        "held",
        "taken",
        "more",
        "more_ns",
    )

    def __init__(self, kind, route, path="", warm_up=False):
        global _last_request
        _last_request += 1
        self.ident = _last_request
        self.kind = kind
        self.route = route
        self.path = path
        self.status = 0
        self.records = []
        self.warm_up = warm_up
        self.announced = False
        self.queued = False  # whether the writer knows that records wait
        self.prefix = ""  # of a mounted application's routes
        self.written = 0  # records written so far
        self.uses = None  # what became of results, if that is tracked
        self.seen = None  # lazy loads by line, in strict mode
        self.task = None  # of asyncio's, that it was opened in
        self.held_bytes = self.memory_bytes = 0  # where memory is tracked
        self.errands = []  # what was waited for next to the queries, not written yet
        # whether something may be omitted; whether it waits for being slow
        self.spared = self.held = False
        self.left_out = 0  # why all of it is: see `sparing`; 0 for not at all
        self.taken = self.more = self.more_ns = 0  # queries kept, those beyond the most, their time
        # ends the request, once the application has returned and only its response is open
        self.finish = None
        self.start_ns = self.flushed_ns = perf_counter_ns()

    def retell(self):
        """From here on it is reported in another file, as if it began there."""
        self.announced = self.queued = False
        self.written = 0
        self.uses = None


def switch_on(new_writer, new_echo=None, track_use=False, new_memory=None, new_spare=None):
    """Record from now on. `new_writer` takes what ended, `new_echo` shows it (None: no one wants to
    see it).
    """
    global active, writer, echo, outside, tracking, memory, spare
    memory = new_memory
    spare = new_spare
    writer = new_writer
    echo = new_echo
    tracking = track_use
    outside = None
    active = True


def open_now():
    """Open the capture's file while this process still may."""
    try:
        if active and writer.file < 0:
            writer.begin_file()
    except Exception as error:
        stop("%s: %s" % (type(error).__name__, error))


def restart_writer():
    """Begin a new file, in which everything is reported again."""
    for request in open_requests.values():
        request.retell()
    writer.restart()


def is_left_out():
    """Whether the request that this code runs in is omitted: then a driver need not look at its
    query.
    """
    request = current.get()
    return request is not None and request.left_out != 0


def warn_once(text):
    """Say once, on stderr and in the capture, what can't be recorded. Never raises."""
    if text in _complained:
        return
    _complained.add(text)
    try:
        sys.stderr.write("askless: %s (the program goes on as without it)\n" % text)
        if writer is not None:
            writer.note(text)
    except Exception:
        pass


def warn_unrecorded(error):
    """One query could not be recorded; the next ones are. Said once for each kind of reason."""
    warn_once("a query could not be recorded: %s: %s" % (type(error).__name__, error))


def stop(reason):
    """Stop recording for good in this process."""
    global active
    active = False
    warn_once("recording stopped: " + reason)


def take():
    """What the ORM said of the query that is recorded now, its place known; said once, and so is
    where it was built.
    """
    load = pending.get()
    pending.set(None)
    if built.get() is not None:
        built.set(None)
    return load


def put_aside():
    """What the ORM said, if another statement goes ahead of its query; `pending.set` gives it
    back.
    """
    load = pending.get()
    if load is not None:
        pending.set(None)
    return load


def mention(orm, name):
    """A model that no query is about, but that takes part: it is described with what is written
    next.
    """
    mentioned.add((orm, name))


def new_connection(system):
    """A small number for a connection to a database of this system, unique in this process."""
    global _last_connection
    _last_connection += 1
    connections[_last_connection] = system
    return _last_connection


def current_request():
    """The request that a query asked now belongs to; outside all requests, the process's own."""
    request = current.get()
    if request is None:
        request = outside or _open_outside()
    return request


def _open_outside():
    global outside
    argv = getattr(sys, "argv", None) or [""]
    name = argv[0].replace("\\", "/").rsplit("/", 1)[-1]
    outside = Request("program", name if name not in ("", "-c", "-") else "python")
    outside.start_ns = outside.flushed_ns = writer.clock_ns
    open_requests[outside.ident] = outside
    if spare is not None:
        spare.begin(outside, None, None)
    writer.tail.put_request(outside)
    return outside


def around():
    """The open request that this code runs in; None outside of all, and where it has ended:
    contexts outlive requests.
    """
    request = current.get()
    return None if request is None or request.flushed_ns == ENDED else request


def is_outermost(inside=("block",)):
    """Whether what begins now is a request of its own: someone records, and only a request of these
    kinds is around.
    """
    request = around()
    return active and (request is None or request.kind in inside)


def begin(kind, route, path="", warm_up=False, trace=None):
    """Open a request and make it the current one; returns `(request, token)` for `end`. `trace` is
    its `traceparent`.
    """
    request = Request(kind, route, path, warm_up)
    open_requests[request.ident] = request
    if active:
        if spare is not None:
            spare.begin(request, around(), trace)
        if not request.spared or not (request.left_out or request.held):
            writer.tail.put_request(request)
        if memory is not None:
            memory.begin(request)
    return request, current.set(request)


def end(request, token, status=0):
    """Close a request and write what it asked."""
    try:
        current.reset(token)
    except ValueError:  # ended in another context than it began in, as generators may be
        current.set(None)
    request.status = status or request.status
    open_requests.pop(request.ident, None)
    if not active:
        return
    request.flushed_ns = ENDED
    try:
        if memory is not None:
            memory.end(request)
        if echo is not None:
            echo.catch_up(request.records)
        now_ns = perf_counter_ns()
        if spare is not None and (now_ns >= spare.next_tell or spare.untold >= TELL_MOST):
            spare.next_tell = now_ns + TELL_NS
            writer.tell_left_out()
        if request.spared and spare.ended(request, now_ns):
            return
        writer.write(request, ended_ns=now_ns)
        if outside is not None and outside.records and request is not outside:
            writer.write(outside)  # of a program that starts, and then serves till it is killed
    except Exception as error:
        stop("%s: %s" % (type(error).__name__, error))


def add(request, record, now_ns):
    """Add the record of a query to a request. Called by drivers when the query has run, at
    `now_ns`.
    """
    if record[0] not in _harmless:
        _look_for_credentials(record)
    if request.spared and spare.takes(request, record, now_ns):
        return
    pending = request.records
    pending.append(record)
    writer.tail.put(request, record)
    waiting = len(pending)
    if waiting >= PENDING_MAX or now_ns - request.flushed_ns > FLUSH_NS:
        full(request, now_ns)
    elif waiting == 1:
        _sample_cost(perf_counter_ns() - now_ns)


def _look_for_credentials(record):
    """Take passwords and keys out of a new text, and values with them. Whatever is in doubt is not
    recorded.
    """
    text = record[TEXT]
    try:
        clean = credentials.cleaned(text)
    except Exception:
        clean = credentials.MASK
    if clean is text or clean == text:
        if len(_harmless) >= _HARMLESS_MOST:
            _harmless.clear()
        _harmless.add(text)
        return
    record[TEXT] = clean
    if record[PARAMETERS]:
        record[PARAMETERS] = (None,) * len(record[PARAMETERS])
    if record[ERROR]:
        record[ERROR] = str(record[ERROR]).split(":")[0][:80]


def _sample_cost(ns):
    """What the first query of a batch cost, from its end to here, stands for the others."""
    global _sampled, _sampled_ns
    _sampled += 1
    _sampled_ns += ns


def spent(queries, before_ns=0):
    """About the time that recording so many queries has taken, in ns; `before_ns` is what writing
    had taken before.
    """
    return spent_ns - before_ns + (_sampled_ns * queries // _sampled if _sampled else 0)


def full(request, now_ns):
    """Write the records that wait in a request which goes on, once enough have gathered."""
    if not active:
        del request.records[:], request.errands[:]
        return
    if request.flushed_ns == ENDED:
        _belated(request)
        return
    request.flushed_ns = now_ns
    try:
        writer.write(request)
    except Exception as error:
        stop("%s: %s" % (type(error).__name__, error))


def _belated(request):
    """What a thread or task still asks for a request that has ended is counted with the queries
    outside of requests.
    """
    around = outside or _open_outside()
    around.records.extend(request.records)
    del request.records[:]
    if len(around.records) >= PENDING_MAX:
        full(around, perf_counter_ns())


def _flush(request, final):
    if final and request.finish is not None:
        request.finish()
    elif request.spared and (request.left_out or request.held) and request is not outside:
        if final:
            spare.ended(request, perf_counter_ns())
    else:
        if echo is not None:
            echo.catch_up(request.records)
        writer.write(request, keep_open=not final)


def flush_all(final):
    """Write everything that waits; with `final`, end the process's own request too and close the
    file.
    """
    if not active:
        return
    try:
        for request in list(open_requests.values()):
            _flush(request, final)
        if final:
            if unknown and writer.file < 0:
                writer.begin_file()  # nothing was recorded, and here is why
            if outside is not None:
                writer.end(outside, perf_counter_ns())
            writer.close()
        writer.settle()
    except Exception as error:
        stop("%s: %s" % (type(error).__name__, error))


def after_fork():
    """In a forked child: forget what the parent has recorded and begin a file of our own."""
    global outside
    if not active:
        return
    for request in open_requests.values():
        request.records = []
        request.errands = []
        request.retell()
    for ident in [
        ident for ident, request in open_requests.items() if request is not current.get()
    ]:
        del open_requests[ident]
    outside = None
    writer.restart()
