"""What the application waits for next to its queries: calls over HTTP, mail, other programs, sleep.

Noted where it took a millisecond or more, with the line that waited. Of a URL the host alone is
kept. Anyone who waits inside of another's wait (a call that sleeps between two tries) is a part of
it.
"""

from _thread import get_ident
from sys import _getframe
from time import perf_counter_ns

from . import recorder, stack
from .wrapper_metadata import like

LEAST_NS = 1_000_000
MOST = 500  # that wait in one request before its queries are written: of more than that no one asks


def note(kind, what, start_ns, frame):
    """An errand has ended. Never raises."""
    end_ns = perf_counter_ns()
    if end_ns - start_ns < LEAST_NS or not recorder.active:
        return
    try:
        request = recorder.around() or recorder.outside
        if request is None:
            return
        errands, thread = request.errands, get_ident()
        while errands and errands[-1][2] >= start_ns and errands[-1][5] == thread:
            errands.pop()
        if len(errands) < MOST:
            errands.append((kind, what, start_ns, end_ns - start_ns, stack.walk(frame), thread))
    except Exception as error:
        recorder.warn_once(
            "what the program waited for could not be noted: %s: %s" % (type(error).__name__, error)
        )


class OpenWait:
    """Stands in for a function written in C: unlike one written in Python it is not a method where
    it is in a class.
    """

    def __init__(self, plain, kind):
        self._plain = plain
        self._kind = kind
        self.__name__ = plain.__name__
        self.__qualname__ = plain.__qualname__
        self.__module__ = plain.__module__
        self.__doc__ = plain.__doc__
        self.__text_signature__ = getattr(plain, "__text_signature__", None)
        self.__self__ = getattr(plain, "__self__", None)

    def __call__(self, *args, **kwargs):
        start_ns = perf_counter_ns()
        try:
            return self._plain(*args, **kwargs)
        finally:
            note(self._kind, "", start_ns, _getframe(1))

    def __repr__(self):
        return repr(self._plain)

    def __reduce__(self):
        return self.__name__


def _noting(cls, name, kind, what):
    """Note each call of a method; `what` says of its object and arguments what it deals with."""
    plain = vars(cls)[name]

    @like(plain)
    def method(self, *args, **kwargs):
        start_ns = perf_counter_ns()
        try:
            return plain(self, *args, **kwargs)
        finally:
            note(kind, _told(what, self, args), start_ns, _getframe(1))

    setattr(cls, name, method)


def _noting_async(cls, name, kind, what):
    plain = vars(cls)[name]

    @like(plain)
    async def method(self, *args, **kwargs):
        start_ns = perf_counter_ns()
        frame = _getframe(0).f_back or _getframe(0)
        try:
            return await plain(self, *args, **kwargs)
        finally:
            note(kind, _told(what, self, args), start_ns, frame)

    setattr(cls, name, method)


def _told(what, subject, args):
    try:
        return str(what(subject, args))[:200]
    except Exception:
        return ""


def install_time(module):
    """time.sleep."""
    module.sleep = OpenWait(module.sleep, "sleep")


def install_asyncio(module):
    """asyncio.sleep."""
    plain = module.sleep

    @like(plain)
    async def sleep(delay, *args, **kwargs):
        start_ns = perf_counter_ns()
        frame = _getframe(0).f_back or _getframe(0)
        try:
            return await plain(delay, *args, **kwargs)
        finally:
            note("sleep", "", start_ns, frame)

    module.sleep = module.tasks.sleep = sleep


def install_http_client(module):
    """http.client, which urllib and the packages over it go through: from the first word to the
    answer's head.
    """
    connection = module.HTTPConnection
    put, answer = connection.putrequest, connection.getresponse

    @like(put)
    def putrequest(self, method, *args, **kwargs):
        self._askless_began = method, perf_counter_ns()
        return put(self, method, *args, **kwargs)

    @like(answer)
    def getresponse(self, *args, **kwargs):
        try:
            return answer(self, *args, **kwargs)
        finally:
            method, start_ns = getattr(self, "_askless_began", ("", perf_counter_ns()))
            note("http", "%s %s" % (method, self.host), start_ns, _getframe(1))

    connection.putrequest, connection.getresponse = putrequest, getresponse


def _asked(client, args):
    return "%s %s" % (args[0].method, args[0].url.host)


def install_httpx(module):
    """httpx, which brings a client of its own."""
    _noting(module.Client, "send", "http", _asked)
    _noting_async(module.AsyncClient, "send", "http", _asked)


def install_aiohttp(module):
    """aiohttp's client."""
    from urllib.parse import urlsplit

    _noting_async(
        module.ClientSession,
        "_request",
        "http",
        lambda self, args: "%s %s" % (args[0], urlsplit(str(args[1])).hostname),
    )


def install_smtplib(module):
    """Mail that is handed to a server."""
    _noting(module.SMTP, "sendmail", "mail", lambda self, args: getattr(self, "_host", ""))


def install_subprocess(module):
    """Programs that are waited for."""

    def name(process, args):
        first = process.args if isinstance(process.args, str) else process.args[0]
        return str(first).split()[0].replace("\\", "/").rsplit("/", 1)[-1]

    _noting(module.Popen, "wait", "program", name)
    _noting(module.Popen, "communicate", "program", name)
