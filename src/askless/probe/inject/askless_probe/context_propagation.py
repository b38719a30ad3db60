"""Requests go with the work that they hand to threads and thread pools. (asyncio's tasks carry them
by themselves.)
"""

from _thread import get_ident
from functools import wraps
from sys import _getframe

from . import recorder, stack

_current = recorder.current
_lent = stack.lent


class Working:
    """A block in which this thread works for a request and for the lines that wait for it."""

    __slots__ = ("before", "place", "request", "token")

    def __init__(self, request, place):
        self.request = request
        self.place = place

    def __enter__(self):
        me = get_ident()
        self.token = _current.set(self.request)
        self.before = _lent.get(me)
        _lent[me] = self.place

    def __exit__(self, *details):
        _current.reset(self.token)
        if self.before is None:
            _lent.pop(get_ident(), None)
        else:
            _lent[get_ident()] = self.before


def carried(function):
    """The function, to be run for the request that is current now and the lines that hand it over,
    on whatever thread.
    """
    request = _current.get()
    place = stack.path(_getframe(2))

    @wraps(function, assigned=())
    def run(*args, **kwargs):
        with Working(request, place):
            return function(*args, **kwargs)

    return run


def install_threading(module):
    """A thread started inside a request works for that request."""
    plain = module.Thread.start

    @wraps(plain)
    def start(self):
        request = _current.get() if recorder.active else None
        if request is None or "run" in vars(self):
            return plain(self)
        run = self.run

        def carried_run():
            vars(self).pop("run", None)
            _current.set(request)
            run()

        self.run = carried_run
        try:
            return plain(self)
        except BaseException:
            vars(self).pop("run", None)
            raise

    module.Thread.start = start


def install_executor(module):
    """What is submitted to a thread pool works for the request that submitted it, on whichever
    thread.
    """
    plain = module.ThreadPoolExecutor.submit

    @wraps(plain)
    def submit(self, fn, /, *args, **kwargs):
        if not recorder.active or not callable(fn):
            return plain(self, fn, *args, **kwargs)
        return plain(self, carried(fn), *args, **kwargs)

    module.ThreadPoolExecutor.submit = submit


def install_pool(module):
    """The same for multiprocessing's pool of threads."""
    cls = module.ThreadPool
    for name in (
        "apply",
        "apply_async",
        "map",
        "map_async",
        "imap",
        "imap_unordered",
        "starmap",
        "starmap_async",
    ):
        setattr(cls, name, _submitting(getattr(cls, name)))


def _submitting(plain):
    @wraps(plain)
    def submit(self, func, *args, **kwargs):
        if recorder.active and callable(func):
            func = carried(func)
        return plain(self, func, *args, **kwargs)

    return submit
