"""Puts the segments of TCP connections back into streams: out of order, sent again, or missing.
Pure.

As in RFC 9293: bytes are numbered modulo 2**32, SYN and FIN count as one each.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable
from typing import NamedTuple, Protocol

FIN, SYN, RST, ACK = 0x01, 0x02, 0x04, 0x10
_WAITING_MOST = 128  # segments that wait for one that is missing
_WAITING_MOST_NS = 500_000_000  # and how long an answer waits for what it answers
_HALF = 1 << 31


class Segment(NamedTuple):
    """A segment. `data` may be shorter than `length`: recorders cut packets off."""

    source: Hashable
    target: Hashable
    sequence: int
    acknowledged: int
    flags: int
    data: bytes
    length: int
    at_ns: int


class Listener(Protocol):
    """Who is reported what passes. Connections go by numbers from 1."""

    def began(self, number: int, client: Hashable, whole: bool, at_ns: int) -> None:
        """A connection of a client is there; whether its beginning was seen."""

    def said(self, number: int, client: bool, data: bytes, at_ns: int) -> None:
        """The next bytes of one side."""

    def lost(self, number: int) -> None:
        """Bytes of one side are missing before what it says next."""

    def ended(self, number: int, at_ns: int) -> None:
        """A connection is gone."""


class _Side:
    """One direction of a connection."""

    __slots__ = ("finished", "next", "waiting")

    def __init__(self) -> None:
        self.next: int | None = None  # the number of the byte that is expected
        self.waiting: dict[
            int, tuple[bytes, int]
        ] = {}  # number -> (bytes, how many there were) of what came too early
        self.finished = False


class _Connection:
    """Both directions. `held` are segments that answer what was not seen yet: recorders write
    packets out of order, too.
    """

    __slots__ = ("client", "held", "number", "server")

    def __init__(self, number: int) -> None:
        self.number = number
        self.client, self.server = _Side(), _Side()
        self.held: list[tuple[bool, Segment]] = []


class Streams:
    """All connections to one server."""

    def __init__(self, is_server: Callable[[Hashable], bool], listener: Listener) -> None:
        self._is_server = is_server
        self._listener = listener
        self._connections: dict[tuple[Hashable, Hashable], _Connection] = {}
        self._numbers = 0

    def _connection_of(
        self, segment: Segment, key: tuple[Hashable, Hashable], from_client: bool
    ) -> _Connection | None:
        """The connection of a segment, begun if it is not known; None if nothing of it counts."""
        connection = self._connections.get(key)
        if from_client and segment.flags & SYN and not segment.flags & ACK:
            if connection is not None and connection.client.next == (segment.sequence + 1) % 2**32:
                return None  # sent again
            return self._begin(key, True, segment.at_ns)
        if connection is None and (segment.length or segment.flags & SYN):
            return self._begin(key, bool(segment.flags & SYN), segment.at_ns)
        return connection

    def segment(self, segment: Segment) -> None:
        """A segment was seen; it may belong to no one."""
        from_client = self._is_server(segment.target)
        if not from_client and not self._is_server(segment.source):
            return
        key = (segment.source, segment.target) if from_client else (segment.target, segment.source)
        connection = self._connection_of(segment, key, from_client)
        if connection is None:
            return
        side, other = connection.client, connection.server
        if not from_client:
            side, other = other, side
        if segment.flags & SYN:
            side.next = (segment.sequence + 1) % 2**32
        elif segment.length:
            if self._is_early(other, segment):
                self._hold(connection, from_client, segment)
            else:
                self._data(connection, side, from_client, segment)
                self._release(connection)
        if segment.flags & RST:
            self._end(key, segment.at_ns)
        elif segment.flags & FIN:
            side.finished = True
            if other.finished:
                self._end(key, segment.at_ns)

    def close(self, at_ns: int) -> None:
        """There are no more segments."""
        for key in list(self._connections):
            self._end(key, at_ns)

    def _begin(self, key: tuple[Hashable, Hashable], whole: bool, at_ns: int) -> _Connection:
        if key in self._connections:
            self._end(key, at_ns)
        self._numbers += 1
        connection = self._connections[key] = _Connection(self._numbers)
        self._listener.began(connection.number, key[0], whole, at_ns)
        return connection

    def _end(self, key: tuple[Hashable, Hashable], at_ns: int) -> None:
        connection = self._connections.pop(key)
        while connection.held:
            self._give_up(connection, at_ns)
        for side, is_client in ((connection.client, True), (connection.server, False)):
            while side.waiting:
                self._skip(connection, side, is_client, at_ns)
        self._listener.ended(connection.number, at_ns)

    def _data(
        self, connection: _Connection, side: _Side, is_client: bool, segment: Segment
    ) -> None:
        if side.next is None:
            side.next = segment.sequence
        ahead = _distance(segment.sequence, side.next)
        if ahead > 0:
            known = side.waiting.get(segment.sequence)
            if known is None or known[1] < segment.length:
                side.waiting[segment.sequence] = (segment.data, segment.length)
            if len(side.waiting) > _WAITING_MOST:
                self._skip(connection, side, is_client, segment.at_ns)
            return
        self._give(
            connection,
            side,
            is_client,
            (segment.sequence, segment.data, segment.length),
            segment.at_ns,
        )
        self._drain(connection, side, is_client, segment.at_ns)

    def _give(
        self,
        connection: _Connection,
        side: _Side,
        is_client: bool,
        piece: tuple[int, bytes, int],
        at_ns: int,
    ) -> None:
        """Say what is new in a piece that begins where it is expected, or before."""
        assert side.next is not None
        sequence, data, length = piece
        known = -_distance(sequence, side.next)
        if known >= length:
            return
        side.next = (sequence + length) % 2**32
        fresh = data[known:]
        if fresh:
            self._listener.said(connection.number, is_client, fresh, at_ns)
        if len(data) < length:
            self._listener.lost(connection.number)

    def _drain(self, connection: _Connection, side: _Side, is_client: bool, at_ns: int) -> None:
        """Say what has waited for what is there now."""
        while side.waiting:
            assert side.next is not None
            first = min(side.waiting, key=lambda number: _distance(number, side.next or 0))
            if _distance(first, side.next) > 0:
                return
            data, length = side.waiting.pop(first)
            self._give(connection, side, is_client, (first, data, length), at_ns)

    def _skip(self, connection: _Connection, side: _Side, is_client: bool, at_ns: int) -> None:
        """Give up what is missing."""
        assert side.next is not None
        side.next = min(side.waiting, key=lambda number: _distance(number, side.next or 0))
        self._listener.lost(connection.number)
        self._drain(connection, side, is_client, at_ns)

    @staticmethod
    def _is_early(other: _Side, segment: Segment) -> bool:
        """Whether a segment acknowledges what the other side has not said yet, as far as it was
        seen.
        """
        if not segment.flags & ACK or other.next is None:
            return False
        return _distance(segment.acknowledged, other.next) > other.finished

    def _hold(self, connection: _Connection, is_client: bool, segment: Segment) -> None:
        """Keep a segment until that comes which it answers, or it is plain that it was not
        recorded.
        """
        held = connection.held
        held.append((is_client, segment))
        if len(held) <= _WAITING_MOST and segment.at_ns - held[0][1].at_ns <= _WAITING_MOST_NS:
            return
        self._give_up(connection, segment.at_ns)

    def _give_up(self, connection: _Connection, at_ns: int) -> None:
        """What the first held segment answers will not come."""
        from_client, first = connection.held[0]
        other = connection.server if from_client else connection.client
        if other.waiting:
            self._skip(connection, other, not from_client, at_ns)
        else:
            other.next = first.acknowledged
            self._listener.lost(connection.number)
        self._release(connection)

    def _release(self, connection: _Connection) -> None:
        """Take what is no longer early, in order."""
        held = connection.held
        while held:
            is_client, segment = held[0]
            side, other = (
                (connection.client, connection.server)
                if is_client
                else (connection.server, connection.client)
            )
            if self._is_early(other, segment):
                return
            del held[0]
            self._data(connection, side, is_client, segment)


def _distance(number: int, other: int) -> int:
    """How far one number is after another, negative where it is before it."""
    return (number - other + _HALF) % 2**32 - _HALF
