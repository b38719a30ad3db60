"""Wire protocols: what a client and a server say to each other, read from their bytes. A new
protocol is a folder and a line.

All of it is pure: bytes in, records out; no sockets, clocks or files. A connection is read in two
steps. Its `Opening` sees the beginning, up to the end of the authentication, and passes on what may
be passed on; nothing of it is ever recorded. What comes after that is given to a `Session`, which
tells the queries.
"""

from __future__ import annotations

from collections.abc import Mapping
from importlib import import_module
from typing import Any, NamedTuple, Protocol

from askless.core.records.traffic import QuerySeen

# System -> module, which has its `PROTOCOL`. Adding a protocol touches its own folder and this
# table.
REGISTRY = {
    "postgresql": "askless.sources.wire.postgresql",
    "mysql": "askless.sources.wire.mysql",
    "mariadb": "askless.sources.wire.mysql",
}

# what an opening found out that the session must know; plain values, to be sent anywhere
Facts = dict[str, Any]


class Unreadable(Exception):
    """Bytes that the protocol does not allow, or that are not read here. Never raised to anyone who
    forwards them.
    """

    def __init__(self, why: str, offset: int = 0) -> None:
        super().__init__(f"{why} at byte {offset}" if offset else why)
        self.why = why
        self.offset = offset


class CompletedQuery(NamedTuple):
    """A query that has ended, and what its connection was to the server then.

    `application`: what the session calls itself. `in_transaction`: whether a transaction is open
    after the query.
    """

    query: QuerySeen
    application: str
    in_transaction: bool


class Step(NamedTuple):
    """What to pass on of a connection's beginning: to the server and to the client."""

    to_server: bytes = b""
    to_client: bytes = b""


NOTHING = Step()


class Opening(Protocol):
    """The beginning of a connection. `state` says how far it is.

    - "opening": give it what comes, and pass on what it gives
    - "tls": the client begins with TLS now, and `rest` is the beginning of it; go on with what comes out of it
    - "far-tls": begin with TLS towards the server, and `resume`
    - "open": authenticated; what comes from now on is passed on as it is, and goes to a session
    - "unread": passed on as it is, and not read: a replication, a cancel request, or what is not understood (`why`)
    - "refused": the client is reported why, and the connection ends
    """

    state: str
    why: str
    facts: Facts
    rest: bytes
    # once open: what came after the beginning from the client and from the server
    early: tuple[bytes, bytes]

    def client(self, data: bytes) -> Step:
        """Bytes came from the client."""

    def server(self, data: bytes) -> Step:
        """Bytes came from the server."""

    def resume(self) -> Step:
        """TLS towards the server has begun."""

    def refusal(self, text: str) -> bytes:
        """What the client is reported where the server can't be reached, in the protocol's own
        words.
        """


class Session(Protocol):
    """An open connection. Times are those at which the bytes came, in nanoseconds on one clock.

    Any split of the two streams gives the same queries. Both methods raise Unreadable for what is
    not a message; anyone who calls them stops there, or says `lost` and goes on.
    """

    nameless: int  # executions of statements that were prepared before anybody read

    def client(self, data: bytes, at_ns: int) -> list[CompletedQuery]:
        """Bytes came from the client; the queries that end with them."""

    def server(self, data: bytes, at_ns: int) -> list[CompletedQuery]:
        """Bytes came from the server; the queries that end with them."""

    def lost(self) -> None:
        """Bytes are missing: what is unfinished is forgotten; reading goes on at a border of
        messages that can be said.
        """

    def ended(self, at_ns: int) -> list[CompletedQuery]:
        """The connection is gone; queries that it cut off."""


class Wire(Protocol):
    """One protocol."""

    port: int
    client_first: bool  # whether the client speaks first
    # the request for TLS to a server, which answers S; b"" where it is asked for otherwise
    tls_request: bytes
    # environment variables by which clients find a server: "host", "port" -> name
    variables: Mapping[str, str]

    def opening(self, tls: bool = False, watching: bool = False, far_tls: bool = False) -> Opening:
        """The beginning of a connection. `tls`: it is served to clients; `far_tls`: wanted towards
        the server.

        `watching`: nothing can be changed or answered, as what both sides say has been said.
        """

    def session(self, connection: int, facts: Facts) -> Session:
        """A session that an opening has led to."""


def load(system: str) -> Wire:
    """The protocol of a system. Raises KeyError for one that has none."""
    result: Wire = import_module(REGISTRY[system]).PROTOCOL
    return result
