"""Lines of code that build or evaluate queries of whatever model they are given."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping

from askless.core.aggregation.shape_stats import ShapeStats
from askless.core.aggregation.summary import RouteStats
from askless.core.records.model import CallSite, Load

_INSTALLED = re.compile(r".*[/\\](?:site|dist)-packages[/\\](.+)")

Line = tuple[str, int]
LEVELS_MOST = 4  # of a call's lines at which a change is weighed


def packages_of(file: str) -> list[str]:
    """The folders and the module of an installed file, outermost first: its package, and those
    within it, which may be on the path as well. [] for a file of the application's own.
    """
    installed = _INSTALLED.match(file)
    if installed is None:
        return []
    return re.split(r"[/\\]", installed[1].removesuffix(".py"))


def package_of(file: str) -> str:
    """The installed package that a file belongs to; '' for the application's own."""
    return next(iter(packages_of(file)), "")


def models_by_line(routes: Iterable[RouteStats]) -> dict[Line, set[str]]:
    """The models of the queries of each line that reads several: of a line of the application's
    own only if it depends on the caller which, as one line may hold two queries.
    """
    by_caller: dict[Line, dict[CallSite | None, set[str]]] = {}
    for route in routes:
        for stats in route.loaded_shapes():
            # A shape that is looked up for objects, too, is no query that these lines have built.
            if all(load.kind == "query" and load.target for load in stats.loads):
                for place in stats.places:
                    if place.file.startswith("<"):  # a text that was evaluated is no line of a file
                        continue
                    callers = by_caller.setdefault((place.file, place.line), {})
                    models = callers.setdefault(_caller(place), set())
                    models.update(load.target for load in stats.loads)
    return {
        line: models
        for line, callers in by_caller.items()
        if len(models := set().union(*callers.values())) > 1
        and (package_of(line[0]) or any(one != models for one in callers.values()))
    }


def readers_by_line(routes: Iterable[RouteStats]) -> dict[Line, dict[str, set[str]]]:
    """The routes that read a column ("vessel.flag"), an eagerly loaded relation ("Vessel.calls") or
    a joined model ("Vessel/Owner") of what the queries of each line load, or of lines that it
    calls: one line may send several shapes.
    """
    readers: dict[Line, dict[str, set[str]]] = {}
    for route in routes:
        for stats in route.loaded_shapes():
            read = {name for totals in stats.used.values() for name in totals.columns}
            read |= _relations_read(stats)
            places = (*stats.places, *places_of_root(stats.load, route)) if read else ()
            lines = {line for place in places for line in _lines(place)}
            for line in lines:
                of_line = readers.setdefault(line, {})
                for name in read:
                    of_line.setdefault(name, set()).add(route.route)
    return readers


def _relations_read(stats: ShapeStats) -> set[str]:
    load = stats.load
    touched = {model for model, totals in stats.used.items() if totals.touched}
    if load is None or not touched:
        return set()
    if load.kind == "eager":
        return {f"{load.model}.{load.relation}"}
    return {f"{load.target}/{model}" for model in touched if model != load.target}


def places_of_root(load: Load | None, route: RouteStats) -> dict[CallSite, int]:
    """Where the query is built whose options load a relation eagerly: the only one of its model. {}
    where there are several, or none.
    """
    if load is None or load.kind != "eager":
        return {}
    roots = [
        stats
        for stats in route.loaded_shapes()
        if (root := stats.load) is not None
        and (root.orm, root.kind, root.target) == (load.orm, "query", load.model)
    ]
    return dict(roots[0].places) if len(roots) == 1 else {}


def _lines(place: CallSite) -> set[Line]:
    return {(one.file, one.line) for one in place.path()[:LEVELS_MOST]}


def levels_of(places: Mapping[CallSite, int]) -> Iterator[dict[CallSite, int]]:
    """The lines of a query, then those that call them, and so on, as long as all are known."""
    for _ in range(LEVELS_MOST):
        yield dict(places)
        callers: dict[CallSite, int] = {}
        for place, count in places.items():
            if place.caller is None:
                return
            callers[place.caller] = callers.get(place.caller, 0) + count
        places = callers


def _caller(place: CallSite) -> CallSite | None:
    """What called the line: a comprehension is called by the line that it is on."""
    above = place.caller
    while above is not None and (above.file, above.line) == (place.file, place.line):
        above = above.caller
    return above
