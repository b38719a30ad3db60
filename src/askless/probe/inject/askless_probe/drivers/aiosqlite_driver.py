"""aiosqlite: `sqlite3` on a thread of its own. The thread's queries belong to the request and line
that wait for them.
"""

from functools import wraps
from sys import _getframe

from .. import recorder, stack
from ..context_propagation import Working


def _lent(function, request, place, said):
    """The function, run for a request, a line and an ORM's load that wait elsewhere."""

    def run(*args, **kwargs):
        with Working(request, place):
            recorder.pending.set(said[0])
            try:
                return function(*args, **kwargs)
            finally:
                said[0] = recorder.take()

    return run


def install(module):
    """Wrap the one way by which aiosqlite hands work to its thread."""
    plain = module.Connection._execute

    @wraps(plain)
    async def execute(self, fn, *args, **kwargs):
        if not recorder.active:
            return await plain(self, fn, *args, **kwargs)
        said = [recorder.take()]
        run = _lent(fn, recorder.current.get(), stack.path(_getframe(1)), said)
        try:
            return await plain(self, run, *args, **kwargs)
        finally:
            # where this step (making a cursor, say) was not the query itself
            recorder.pending.set(said[0])

    module.Connection._execute = execute
