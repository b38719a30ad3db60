"""One request as the patterns see it: its shapes that came at least twice, and the totals of its
route.
"""

from __future__ import annotations

from askless.core.aggregation.shape_stats import ShapeStats
from askless.core.aggregation.summary import RouteStats
from askless.core.records.model import Request


class Group:
    """The executions of one shape in one request, if there are at least two, failed ones
    omitted.
    """

    __slots__ = ("indices", "stats")

    def __init__(self, stats: ShapeStats, indices: list[int]) -> None:
        self.stats = stats
        self.indices = indices


class RequestView:
    """One request as the patterns see it. `claimed` are digests of shapes that a finding explains
    already.

    `routes` is how many there are so far: what is remembered of each is less, the more there are.
    """

    __slots__ = ("claimed", "groups", "request", "route", "routes", "writes")

    def __init__(
        self, route: RouteStats, request: Request, groups: list[Group], routes: int = 1
    ) -> None:
        self.route = route
        self.routes = routes
        self.request = request
        self.groups = groups
        self.claimed: set[str] = set()
        # (query, table), once a pattern has asked for them
        self.writes: list[tuple[int, str]] | None = None
