"""Lines of code that build or evaluate queries of whatever model they are given."""

from __future__ import annotations

import re
from collections.abc import Iterable

from askless.core.aggregation.summary import RouteStats
from askless.core.records.model import CallSite

_INSTALLED = re.compile(r".*[/\\](?:site|dist)-packages[/\\](.+)")

Line = tuple[str, int]


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


def _caller(place: CallSite) -> CallSite | None:
    """What called the line: a comprehension is called by the line that it is on."""
    above = place.caller
    while above is not None and (above.file, above.line) == (place.file, place.line):
        above = above.caller
    return above
