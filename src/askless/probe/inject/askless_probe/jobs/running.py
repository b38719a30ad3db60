"""What the hooks of job queues share: a function that is one job each time it is called."""

from functools import wraps

from .. import recorder


def is_outermost():
    """Whether a job that begins now is a request of its own: it is no part of another one, as eager jobs are."""
    around = recorder.around()
    return recorder.active and (around is None or around.kind == "block")


def begun(name):
    """Begin the request of a job; None where it is part of another."""
    try:
        return recorder.begin("job", "job " + str(name)) if is_outermost() else None
    except Exception as error:
        recorder.complain("can't tell jobs apart: %s: %s" % (type(error).__name__, error))
        return None


def recorded(function, name_of):
    """A function, each call of it a job; `name_of(*args, **kwargs)` names it."""

    @wraps(function)
    def run(*args, **kwargs):
        opened = begun(_named(name_of, args, kwargs))
        try:
            return function(*args, **kwargs)
        finally:
            if opened is not None:
                recorder.end(*opened)

    return run


def recorded_coroutine(function, name_of):
    """The same for a coroutine function."""

    @wraps(function)
    async def run(*args, **kwargs):
        opened = begun(_named(name_of, args, kwargs))
        try:
            return await function(*args, **kwargs)
        finally:
            if opened is not None:
                recorder.end(*opened)

    return run


def _named(name_of, args, kwargs):
    try:
        return name_of(*args, **kwargs)
    except Exception:
        return "without a name"
