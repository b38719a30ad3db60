"""A project's own terms for what a capture holds: other names of routes, and further statements
that are noise.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence

import msgspec

from askless.core.records.model import CaptureTables, Request


class RouteName(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The name of all routes whose whole name a regular expression matches."""

    matches: str
    name: str


class Noise(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Statements that no one's code wrote: regular expressions, looked for in a statement's shape
    (lower case, `?` for values).
    """

    statements: tuple[str, ...] = ()


class ProjectRules:
    """Applies a project's terms to requests. Raises re.error for what is not a regular
    expression.
    """

    def __init__(self, routes: Sequence[RouteName] = (), noise: Noise = Noise()) -> None:  # noqa: B008  (frozen)
        self._routes = [(re.compile(route.matches), route.name) for route in routes]
        self._noise = (
            re.compile("|".join(f"(?:{one})" for one in noise.statements))
            if noise.statements
            else None
        )
        self._known: dict[str, str] = {}
        # of whose statements so many were looked at
        self._marked: tuple[CaptureTables | None, int] = (None, 0)

    def applied(self, requests: Iterable[Request]) -> Iterator[Request]:
        """The requests, in these terms."""
        if not self._routes and self._noise is None:
            yield from requests
            return
        tables = None
        for request in requests:
            if request.tables is not tables:
                self._rename_left_out(tables)
                tables = request.tables
            self._mark(request.tables)
            request.route = self.route(request.route)
            yield request
        self._rename_left_out(tables)

    def _rename_left_out(self, tables: CaptureTables | None) -> None:
        if tables is not None:
            tables.left_out = [(self.route(name), counts) for name, counts in tables.left_out]

    def route(self, name: str) -> str:
        """What the project calls a route."""
        known = self._known.get(name)
        if known is None:
            names = (called for pattern, called in self._routes if pattern.fullmatch(name))
            known = self._known[name] = next(names, name)
        return known

    def _mark(self, tables: CaptureTables) -> None:
        """Mark statements as noise, each once: those of a file come one after the other."""
        if self._noise is None:
            return
        of, looked = self._marked
        if of is not tables:
            looked = 0
        if looked == len(tables.statements):
            return
        for statement in list(tables.statements.values())[looked:]:
            if not statement.shape.noise and self._noise.search(statement.shape.text):
                statement.shape = msgspec.structs.replace(statement.shape, noise=True)
        self._marked = tables, len(tables.statements)
