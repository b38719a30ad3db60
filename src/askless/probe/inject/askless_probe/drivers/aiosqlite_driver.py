"""aiosqlite: `sqlite3` on a thread of its own. The thread's queries belong to the request and line that wait for them."""

from _thread import get_ident
from functools import wraps
from sys import _getframe

from .. import recorder, stack


def _lent(function, request, place):
    """The function, run for a request and a line that wait elsewhere."""

    def run(*args, **kwargs):
        me = get_ident()
        token = recorder.current.set(request)
        stack.lent[me] = place
        try:
            return function(*args, **kwargs)
        finally:
            stack.lent.pop(me, None)
            recorder.current.reset(token)

    return run


def install(module):
    """Wrap the one way by which aiosqlite hands work to its thread."""
    plain = module.Connection._execute

    @wraps(plain)
    async def execute(self, fn, *args, **kwargs):
        if not recorder.active:
            return await plain(self, fn, *args, **kwargs)
        me = get_ident()
        run = _lent(fn, recorder.current.get(), stack.walk(_getframe(1)))
        mark = recorder.pending_load.pop(me, None) if recorder.pending_load else None
        if mark is not None:
            inner = run

            def run(*args, **kwargs):
                recorder.pending_load[get_ident()] = mark
                try:
                    return inner(*args, **kwargs)
                finally:
                    recorder.pending_load.pop(get_ident(), None)

        return await plain(self, run, *args, **kwargs)

    module.Connection._execute = execute
