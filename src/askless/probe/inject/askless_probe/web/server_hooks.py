"""What the hooks of servers share: an application in the place of another, and the request of a
framework of its own.
"""

from functools import wraps

from .. import recorder
from . import routes

# where requests of one connection follow one another, the one before is not a part of this one
INSIDE = ("block", "http")


def replace_application(owner, function, place, name, recorded):
    """Make a server's function take `recorded(application)` for the application it is given, at a
    place or by name.
    """
    plain = getattr(owner, function)

    def seen(application):
        return recorded(application) if callable(application) else application

    @wraps(plain)
    def call(*args, **kwargs):
        if len(args) > place:
            args = (*args[:place], seen(args[place]), *args[place + 1 :])
        elif name in kwargs:
            kwargs[name] = seen(kwargs[name])
        return plain(*args, **kwargs)

    setattr(owner, function, call)


def opened(server, method, path, target, headers, inside=INSIDE):
    """Begin the request of a server that is neither WSGI nor ASGI; None if it is part of another.
    Never raises.

    `target` is the path with its query; `headers` are looked up in any case.
    """
    try:
        if not recorder.is_outermost(inside):
            return None
        warm_up = bool(headers.get("X-Ask-Less-Warm-Up"))
        trace = headers.get("traceparent")
        return recorder.begin("http", routes.guessed(method, path), target, warm_up, trace)
    except Exception as error:
        recorder.warn_once(
            "can't tell the requests of %s apart: %s: %s" % (server, type(error).__name__, error)
        )
        return None
