"""What the hooks of job queues share: a function that is one job each time it is called."""

from functools import wraps

from ..marking import Part


def job(name):
    """A block that is one job, unless it is part of another request, as eager jobs are."""
    return Part("job", "job %s" % name)


def recorded(function, name_of):
    """A function, each call of it a job; `name_of(*args, **kwargs)` names it."""

    @wraps(function)
    def run(*args, **kwargs):
        with job(_named(name_of, args, kwargs)):
            return function(*args, **kwargs)

    return run


def recorded_coroutine(function, name_of):
    """The same for a coroutine function."""

    @wraps(function)
    async def run(*args, **kwargs):
        with job(_named(name_of, args, kwargs)):
            return await function(*args, **kwargs)

    return run


def _named(name_of, args, kwargs):
    try:
        return name_of(*args, **kwargs)
    except Exception:
        return "without a name"
