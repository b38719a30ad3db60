"""What a request is for a source that sees connections: known from comments, by the session's name,
by connections or pauses.

Pure: queries with their times go in, in order of their ends; requests go to a `Grouping`. A
transaction is never cut, and a BEGIN belongs to what comes after it.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable
from typing import NamedTuple

import msgspec

from askless.core.records.model import PAUSED
from askless.core.records.traffic import QuerySeen
from askless.core.sql.shape import Shaper
from askless.core.sql.structure_store import structure_of
from askless.sources.attribution.comments import Tags, strip_tags
from askless.sources.attribution.options import PAUSE_MS
from askless.sources.attribution.request_facts import RequestAttribution, RequestHints
from askless.sources.wire import CompletedQuery, Facts

# what is waited for before it is decided what a request is
_DECIDE_QUERIES, _DECIDE_NS = 2000, 5_000_000_000
_SHORT_LIVED_NS = 10_000_000_000
_CONNECTIONS_LEAST = 3
# a request that is known from a trace has ended when nothing of it came for so long
_IDLE_NS = 5_000_000_000
_HELD_MOST = 50
_TRACE = "trace"  # begins the mark of a request that several connections may serve
_TABLES_NAMED = 3


class Window(NamedTuple):
    """When something is known to have been asked for: a visit of ours, say."""

    route: str
    start_ns: int
    end_ns: int
    status: int = 0
    warm_up: bool = False


class _Connection:
    """What is known of a connection."""

    __slots__ = (
        "application",
        "client",
        "closed_ns",
        "held",
        "inside",
        "last_ns",
        "mark",
        "opened_ns",
        "queries",
        "renamed",
        "tag",
    )

    def __init__(self, facts: Facts, at_ns: int) -> None:
        self.client = str(facts.get("client", ""))  # its address
        self.application = str(facts.get("application_name", ""))
        self.opened_ns = self.last_ns = at_ns
        self.closed_ns = 0
        self.inside = False
        self.queries = self.renamed = 0
        self.mark: Hashable | None = None
        self.tag: Hashable | None = None
        self.held: list[QuerySeen] = []  # control traffic that waits for what it belongs to

    @property
    def is_shared(self) -> bool:
        """Whether other connections may serve the same request: it is known from a trace."""
        return isinstance(self.mark, tuple) and self.mark[0] == _TRACE


class _Tagged(NamedTuple):
    """A query whose comment was read."""

    number: int
    seen: CompletedQuery
    query: QuerySeen
    tags: Tags | None
    control: bool


def _untagged(query: QuerySeen) -> tuple[QuerySeen, Tags | None]:
    """A query without the comment that tags it, at the place which that names; and what it says."""
    text, tags = strip_tags(query.text)
    return (
        query if tags is None else msgspec.structs.replace(query, text=text, place=tags.place)
    ), tags


class RequestBoundaries:
    """Gives each query to a request, in one of the ways of `ways`."""

    def __init__(
        self,
        grouping: RequestAttribution,
        system: str,
        way: str = "auto",
        pause_ms: float = PAUSE_MS,
        note: Callable[[str], None] | None = None,
    ) -> None:
        self.way = way
        self._grouping = grouping
        self._pause_ns = int(pause_ms * 1e6)
        self._note = note
        self._shaper = Shaper(system)
        self._system = system
        self._connections: dict[int, _Connection] = {}
        self._waiting: list[_Tagged] = []
        self._ended: list[_Connection] = []  # connections that closed before it was decided
        self._most_open = 0
        self._marks = 0
        self._last: dict[Hashable, int] = {}  # open requests -> when they did something last
        self._tables: dict[Hashable, list[str]] = {}  # of open requests that nothing names
        self._swept_ns = 0

    # -- what happens
    # ------------------------------------------------------------------------------------------------

    def opened(self, number: int, facts: Facts, at_ns: int) -> None:
        """A connection is there."""
        self._connections[number] = _Connection(facts, at_ns)
        self._most_open = max(self._most_open, len(self._connections) - len(self._ended))

    def seen(self, number: int, seen: CompletedQuery) -> None:
        """A query has ended."""
        query, tags = _untagged(seen.query)
        tagged = _Tagged(number, seen, query, tags, self._shaper.shape(query.text).noise)
        if self.way != "auto":
            self._place(tagged)
            return
        connection = self._connections[number]
        connection.queries += not tagged.control
        if seen.application != connection.application:
            connection.application = seen.application
            connection.renamed += 1
        self._waiting.append(tagged)
        first = self._waiting[0].query.start_ns
        if len(self._waiting) >= _DECIDE_QUERIES or query.start_ns - first > _DECIDE_NS:
            self._decide()

    def closed(self, number: int, at_ns: int) -> None:
        """A connection is gone."""
        connection = self._connections.get(number)
        if connection is None:
            return
        connection.closed_ns = at_ns
        if self.way == "auto":
            self._ended.append(connection)
            if len(self._ended) >= _CONNECTIONS_LEAST * 3:
                self._decide()
        else:
            self._forget(number, connection)

    def close(self) -> None:
        """The traffic is over."""
        if self.way == "auto":
            self._decide()
        for number, connection in list(self._connections.items()):
            self._forget(number, connection)
        for mark in list(self._last):
            self._end(mark)
        self._grouping.close()

    # -- what a request is
    # -------------------------------------------------------------------------------------------

    def _decide(self) -> None:
        """Choose a way by what was seen so far, say so, and give out what has waited."""
        self.way, why = self._best()
        if self._note is not None and self._waiting:
            self._note(
                f"queries are grouped into requests by {_WORDS[self.way]}: {why}. --request-by "
                "selects another method"
            )
        waiting, self._waiting = self._waiting, []
        for tagged in waiting:
            self._place(tagged)
        for number, connection in [(n, c) for n, c in self._connections.items() if c.closed_ns]:
            self._forget(number, connection)
        self._ended.clear()

    def _best(self) -> tuple[str, str]:
        queries = [tagged for tagged in self._waiting if not tagged.control]
        named = sum(tagged.tags is not None and tagged.tags.names_request for tagged in queries)
        if named and 2 * named >= len(queries):
            return (
                "comment",
                f"{named} of {len(queries)} statements name their request in a comment",
            )
        if any(connection.renamed >= 2 for connection in self._connections.values()):
            return "application", "sessions change their application name"
        ended = [c for c in self._ended if c.queries]
        short = sum(c.closed_ns - c.opened_ns < _SHORT_LIVED_NS for c in ended)
        if (
            len(ended) >= _CONNECTIONS_LEAST
            and short == len(ended)
            and self._most_open * 2 <= len(self._connections)
        ):
            return (
                "connection",
                f"{len(ended)} connections were opened and closed one after the other",
            )
        return "pause", "nothing identifies requests, and connections are persistent"

    def _place(self, tagged: _Tagged) -> None:
        number, seen, query, tags, control = tagged
        connection = self._connections[number]
        tag = self._tag(connection, seen, tags)
        if connection.mark is None or self._is_new(connection, query, tag):
            if control and tag is None:
                connection.held.append(query)
                if len(connection.held) > _HELD_MOST:
                    self._give_up_held(number, connection)
                return
            self._begin(number, connection, tag, tags)
        mark = connection.mark
        assert mark is not None
        trace = tags.trace if tags is not None else ""
        hints = RequestHints(
            number, mark, self._route(connection, tags), self._kind, connection.client, trace
        )
        for held in connection.held:
            self._grouping.query(hints, held)
        connection.held.clear()
        self._grouping.query(hints, query)
        connection.inside = seen.in_transaction
        connection.last_ns = self._last[mark] = query.start_ns + query.duration_ns
        if not control and mark in self._tables and len(self._tables[mark]) < _TABLES_NAMED:
            self._name(self._tables[mark], query.text)
        self._sweep(connection.last_ns)

    @property
    def _kind(self) -> str:
        return {"pause": PAUSED, "connection": "connection"}.get(self.way, "marked")

    def _tag(
        self, connection: _Connection, seen: CompletedQuery, tags: Tags | None
    ) -> Hashable | None:
        """What names the request of a query, by the chosen way; None if nothing does."""
        if self.way == "comment" and tags is not None and tags.names_request:
            return tags.trace or tags.route
        if self.way == "application":
            return seen.application
        return None

    def _is_new(self, connection: _Connection, query: QuerySeen, tag: Hashable | None) -> bool:
        """Whether a query begins another request than the one that its connection is in."""
        if tag is not None and tag != connection.tag:
            return True
        if connection.inside or self.way == "connection":
            return False
        return query.start_ns - connection.last_ns > self._pause_ns and not connection.is_shared

    def _begin(
        self, number: int, connection: _Connection, tag: Hashable | None, tags: Tags | None
    ) -> None:
        shared = tags is not None and bool(tags.trace) and self.way == "comment"
        if connection.mark is not None and not connection.is_shared:
            self._end(connection.mark)
        self._marks += 1
        connection.mark = (_TRACE, tag) if shared else ("request", self._marks)
        connection.tag = tag
        if tag is None and connection.mark not in self._tables:
            self._tables[connection.mark] = []

    def _route(self, connection: _Connection, tags: Tags | None) -> str:
        if self.way == "comment" and tags is not None and tags.route:
            return tags.route
        if self.way == "application" and connection.tag:
            return str(connection.tag)
        return ""

    def _name(self, tables: list[str], text: str) -> None:
        structure = structure_of(self._shaper.shape(text).text, self._system)
        main = structure.main if structure is not None else ""
        if main and main not in tables:
            tables.append(main)

    # -- ends
    # --------------------------------------------------------------------------------------------------------

    def _end(self, mark: Hashable) -> None:
        tables = self._tables.pop(mark, [])
        self._grouping.end(mark, self._last.pop(mark, 0), route=", ".join(tables))

    def _give_up_held(self, number: int, connection: _Connection) -> None:
        for held in connection.held:
            self._grouping.query(RequestHints(number), held)
        connection.held.clear()

    def _forget(self, number: int, connection: _Connection) -> None:
        self._connections.pop(number, None)
        if (
            connection.mark is not None
            and not connection.is_shared
            and connection.mark in self._last
        ):
            self._end(connection.mark)
        self._give_up_held(number, connection)
        self._grouping.session_ended(number, connection.closed_ns)

    def _sweep(self, now_ns: int) -> None:
        """End what nothing came of for long, so that memory does not grow."""
        if now_ns - self._swept_ns < _IDLE_NS:
            return
        self._swept_ns = now_ns
        inside = {
            connection.mark
            for connection in self._connections.values()
            if connection.inside or self.way == "connection"
        }
        for mark in [
            m
            for m, last in self._last.items()
            if now_ns - last > _IDLE_NS + self._pause_ns and m not in inside
        ]:
            self._end(mark)
            for connection in self._connections.values():
                if connection.mark == mark:
                    connection.mark = connection.tag = None


class WindowGrouper:
    """Requests that are known by their times: each window takes the queries that began in it.

    Windows must be said in order, each after the queries that began in it.
    """

    def __init__(self, grouping: RequestAttribution) -> None:
        self._grouping = grouping
        self._waiting: list[tuple[int, QuerySeen, bool]] = []
        self._numbers = 0

    def seen(self, number: int, seen: CompletedQuery) -> None:
        """A query has ended."""
        query, _ = _untagged(seen.query)
        self._waiting.append((number, query, seen.in_transaction))

    def window(self, window: Window) -> None:
        """A request is over."""
        self._waiting.sort(key=lambda waiting: waiting[1].start_ns)
        rest = []
        # connections in a transaction of the window's: what ends it belongs to it, too
        inside: set[int] = set()
        self._numbers += 1
        self._grouping.begin(self._numbers, window.route, window.start_ns, warm_up=window.warm_up)
        for number, query, goes_on in self._waiting:
            if query.start_ns < window.start_ns:
                self._grouping.query(RequestHints(number), query)
            elif query.start_ns <= window.end_ns or number in inside:
                (inside.add if goes_on else inside.discard)(number)
                self._grouping.query(RequestHints(number, self._numbers), query)
            else:
                rest.append((number, query, goes_on))
        self._grouping.end(self._numbers, window.end_ns, window.status)
        self._grouping.release()
        self._waiting = rest

    def opened(self, number: int, facts: Facts, at_ns: int) -> None:
        """A connection is there: of no interest."""

    def closed(self, number: int, at_ns: int) -> None:
        """A connection is gone: what was asked over it may still wait for its window."""

    def close(self) -> None:
        """The traffic is over."""
        for number, query, _ in self._waiting:
            self._grouping.query(RequestHints(number), query)
        self._grouping.close()


_WORDS = {
    "comment": "the comments of statements",
    "application": "the application name that sessions set",
    "connection": "connections",
    "pause": "pauses of connections",
}
