"""Wraps cursor classes, plain and async: types stay what they are.

`wrap_cursor` wraps those methods that a class defines itself; what is recorded is the driver's
affair (`dbapi.Driver`).
"""

from . import wrapping_async, wrapping_sync


def wrap_cursor(
    cls, driver, names=("query", "params"), many=("query", "params_seq"), is_async=False
):
    """Record what goes through a cursor class: wraps those of its methods that it defines
    itself.
    """
    twin = wrapping_async if is_async else wrapping_sync
    own = vars(cls)
    if "execute" in own:
        cls.execute = twin.execute_wrapper(own["execute"], driver, names)
    if "executemany" in own:
        cls.executemany = twin.many_wrapper(own["executemany"], driver, many)
    for name in ("fetchone", "fetchmany", "fetchall"):
        if name in own:
            setattr(cls, name, twin.fetch_wrapper(own[name], driver, name == "fetchone"))
    iterates, steps = ("__aiter__", "__anext__") if is_async else ("__iter__", "__next__")
    if steps in own:  # it is its own iterator, and stays that
        setattr(cls, steps, twin.next_wrapper(own[steps], driver))
    elif iterates in own:
        setattr(cls, iterates, twin.iter_wrapper(own[iterates], driver))


def wrap_endings(cls, driver, is_async=False):
    """Record a connection's `commit` and `rollback`."""
    twin = wrapping_async if is_async else wrapping_sync
    for word in ("commit", "rollback"):
        setattr(cls, word, twin.ending_wrapper(getattr(cls, word), driver, word.upper()))
