"""Strict mode: raises at the line where the same relation is loaded lazily again and again in one
request.

It works only if the recorder runs and was reported to (`askless capture app --strict`, `pytest
--asks-strict`): in production there is no recorder, and so no strict mode.
"""

import sys

from . import recorder, stack

watching = False
_least = 3
_routes = ()
_accepted = ()


class RepeatedLoad(RuntimeError):
    """One relation is loaded again and again from one line: an n-plus-one in the making."""

    __module__ = "askless"  # where programs import it from


def configure(settings):
    """Begin to watch. `settings`: {"least": 3, "routes": [...], "accepted": [{"model": ...,
    "relation": ..., ...}]}.
    """
    global watching, _least, _routes, _accepted
    _least = int(settings.get("least", 3))
    _routes = tuple(settings.get("routes", ()))
    _accepted = tuple(settings.get("accepted", ()))
    watching = True


def check(load):
    """A lazy load is about to be sent: raise where it is one too many."""
    request = recorder.current.get()
    if request is None or request.finish is not None:
        return
    key = stack.walk(sys._getframe(2))
    orm, kind, model, relation, target, many = load
    counts = request.seen
    if counts is None:
        counts = request.seen = {}
    seen = (model, relation, key[:2])
    times = counts[seen] = counts.get(seen, 0) + 1
    if times < _least or not _matters(request.route, model, relation):
        return
    where = "an unknown line"
    if key:
        file, line, function = stack.resolve(key[0], key[1])
        where = "%s:%d in %s" % (file, line, function)
    raise RepeatedLoad(
        "%s.%s is loaded for the %s time in %s, one query for each object, at %s. Load it for all "
        "of them where the "
        "%s objects are read, or accept it in askless.toml with a reason and an end date."
        % (model, relation or target, _ordinal(times), request.route, where, model)
    )


def _ordinal(number):
    return {2: "second", 3: "third"}.get(number, "%dth" % number)


def _matters(route, model, relation):
    if _routes and not any(part in route for part in _routes):
        return False
    for known in _accepted:
        named = known.get("model") in ("", None, model) and known.get("relation") in (
            "",
            None,
            relation,
        )
        if named and known.get("route", "") in route:
            return False
    return True
