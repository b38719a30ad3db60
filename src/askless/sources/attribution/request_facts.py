"""Which request a query belongs to: decided here for all sources that see traffic from outside, by
what they know of it.

In this order: the request that the query itself names (a trace's number, a mark in a comment); the
request that holds the query's session (a connection that one request uses at a time); else a
request of the session's own, for all queries that no one claimed. Silence decides nothing: an
application may be quiet for long inside a transaction, or build its page between a SELECT and the
COMMIT.
"""

from __future__ import annotations

from collections.abc import Hashable
from operator import attrgetter

import msgspec

from askless.core.records.traffic import QuerySeen, Receiver, RequestBegan, RequestEnded

UNCLAIMED = "outside of requests"
_TOGETHER_MOST = 64
_start_of = attrgetter("start_ns")


class RequestHints(msgspec.Struct, frozen=True):
    """What a source knows of where a query belongs. `mark` names a request, `session` the
    connection it came over.

    `route`, `kind`, `path` and `trace` (its trace's id) are the request's, if the query says it.
    """

    session: Hashable
    mark: Hashable | None = None
    route: str = ""
    kind: str = "http"
    path: str = ""
    trace: str = ""


class RequestAttribution:
    """Gives each query to its request, and the requests to a receiver. A request's number is given
    out here.
    """

    def __init__(self, receiver: Receiver) -> None:
        self._receiver = receiver
        self._numbers = 0
        self._by_mark: dict[Hashable, int] = {}
        self._by_session: dict[Hashable, int] = {}  # sessions that a request holds
        self._unclaimed: dict[Hashable, int] = {}  # sessions -> the request for what no one claimed
        self._waiting: dict[
            int, list[QuerySeen]
        ] = {}  # of open requests: told together, which a capture holds in one line
        self._last_ns: dict[int, int] = {}  # open requests -> the end of what they did last

    def begin(
        self,
        mark: Hashable,
        route: str,
        start_ns: int,
        session: Hashable | None = None,
        warm_up: bool = False,
    ) -> None:
        """A request is known to begin. With `session`, what comes over it belongs to the request
        until that ends.
        """
        number = self._open(route, start_ns, "http", warm_up)
        self._by_mark[mark] = number
        if session is not None:
            self._by_session[session] = number

    def query(self, hints: RequestHints, event: QuerySeen) -> None:
        """A query came."""
        number = self._number(hints, event)
        self._last_ns[number] = max(self._last_ns[number], event.start_ns + event.duration_ns)
        waiting = self._waiting.get(number)
        if waiting is None:
            waiting = self._waiting[number] = []
        waiting.append(event)
        if len(waiting) >= _TOGETHER_MOST:
            self._tell(number)

    def flush(self) -> None:
        """Say what waits, of requests that go on, too."""
        for number in list(self._waiting):
            self._tell(number)

    def _tell(self, number: int) -> None:
        waiting = self._waiting.pop(number, None)
        if waiting:
            waiting.sort(key=_start_of)
            self._receiver.queries(number, waiting)

    def end(self, mark: Hashable, end_ns: int, status: int = 0, route: str = "") -> None:
        """A request is known to end; its sessions are free again. What never began is passed
        over.
        """
        number = self._by_mark.pop(mark, None)
        if number is None:
            return
        self._close(number, end_ns, status, route)
        self._by_session = {
            session: held for session, held in self._by_session.items() if held != number
        }

    def release(self) -> None:
        """No session is held by a request any more."""
        self._by_session.clear()

    def session_ended(self, session: Hashable, end_ns: int) -> None:
        """A connection is gone, and with it the request of what no one claimed on it."""
        self._by_session.pop(session, None)
        number = self._unclaimed.pop(session, None)
        if number is not None:
            self._close(number, end_ns)

    def close(self) -> None:
        """The traffic is over: what is still open ends with the last thing that it did."""
        for number, last_ns in list(self._last_ns.items()):
            self._close(number, last_ns)
        self._by_mark.clear()
        self._by_session.clear()
        self._unclaimed.clear()

    def _number(self, hints: RequestHints, event: QuerySeen) -> int:
        if hints.mark is not None:
            known = self._by_mark.get(hints.mark)
            if known is None:
                known = self._by_mark[hints.mark] = self._open(
                    hints.route or UNCLAIMED,
                    event.start_ns,
                    hints.kind,
                    path=hints.path,
                    trace=hints.trace,
                )
            self._by_session[hints.session] = known  # its BEGIN and COMMIT carry no mark
            return known
        held = self._by_session.get(hints.session, self._unclaimed.get(hints.session))
        if held is None:
            held = self._unclaimed[hints.session] = self._open(UNCLAIMED, event.start_ns, "program")
        return held

    def _open(
        self,
        route: str,
        start_ns: int,
        kind: str,
        warm_up: bool = False,
        path: str = "",
        trace: str = "",
    ) -> int:
        self._numbers += 1
        self._last_ns[self._numbers] = start_ns
        began = RequestBegan(
            self._numbers, route, start_ns, kind, path=path, warm_up=warm_up, trace=trace
        )
        self._receiver.request_began(began)
        return self._numbers

    def _close(self, number: int, end_ns: int, status: int = 0, route: str = "") -> None:
        self._tell(number)
        last_ns = self._last_ns.pop(number)
        self._receiver.request_ended(RequestEnded(number, max(end_ns, last_ns), route, status))
