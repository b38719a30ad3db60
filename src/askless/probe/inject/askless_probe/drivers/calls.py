"""What wrappers share, plain or awaited: the arguments of a call, and whether it is an inner
one.
"""

from .. import recorder
from .dbapi import Counted

BUSY = object()  # kept on a cursor while an outer call of it is recorded


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
    """Whether this call is an inner one of a call that is being recorded, or no one records."""
    if not recorder.active or driver.opened(cursor) is BUSY:
        return True
    if driver.follows or not recorder.is_left_out():
        return False
    driver.keep(cursor, None)  # a query of a request that is omitted: nothing of it is kept
    recorder.take()
    return True


def counted_call(args, kwargs, names):
    """The arguments of an executemany with its parameter sets counted as they pass."""
    query, sets = split(args, kwargs, *names)
    counted = Counted(sets if sets is not None else ())
    if len(args) > 1:
        args = (args[0], counted.values) + args[2:]
    else:
        kwargs = {
            name: counted.values if name in names[1:] else value for name, value in kwargs.items()
        }
    return query, counted, args, kwargs


def rows_of(given, one):
    return ((given,) if given is not None else ()) if one else given
