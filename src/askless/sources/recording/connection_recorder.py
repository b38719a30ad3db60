"""Turns what passes on connections into a capture: sessions read, requests are distinguished, a
writer writes.

What the relay and the reader of packets share. Connections go by numbers of the source's choice.
"""

from __future__ import annotations

import struct

from askless.capture.writing import CaptureWriter
from askless.core.errors import MALFORMED, described
from askless.core.formatting import plural
from askless.sources.attribution.grouper import RequestGrouper
from askless.sources.wire import CompletedQuery, Facts, Session, Unreadable, Wire


class ConnectionRecorder:
    """The open connections of a source. `forgiving`: after what can't be read it looks for the next
    border of messages.
    """

    def __init__(
        self, wire: Wire, writer: CaptureWriter, requests: RequestGrouper, forgiving: bool = False
    ) -> None:
        self.wire = wire
        self.writer = writer
        self.requests = requests
        self.forgiving = forgiving
        self.sessions: dict[int, Session] = {}
        self.cut: set[int] = set()  # connections that lost something
        self.unreadable: dict[str, int] = {}
        self.nameless = 0
        self.broken = 0
        self.broken_reason = ""

    def opened(self, number: int, facts: Facts, at_ns: int) -> None:
        """A connection is open: what comes now are messages."""
        self.sessions[number] = self.wire.session(number, facts)
        self.requests.opened(number, facts, at_ns)

    def said(self, number: int, client: bool, data: bytes, at_ns: int) -> None:
        """One side of a connection has said something."""
        session = self.sessions.get(number)
        if session is None:
            return
        try:
            seen = session.client(data, at_ns) if client else session.server(data, at_ns)
        except Unreadable as error:
            if self.forgiving:
                self.lost(number)
            else:
                self._give_up(number, str(error), at_ns)
            return
        except (*MALFORMED, struct.error) as error:
            # Bytes are what anybody sends: what no one foresaw costs its connection, and is
            # counted.
            self.broken += 1
            self.broken_reason = self.broken_reason or described(error)
            self._give_up(number, "its messages have an unknown form", at_ns)
            return
        if seen:
            self._tell(number, seen)

    def lost(self, number: int) -> None:
        """Bytes of a connection are missing."""
        if number in self.sessions:
            self.cut.add(number)
            self.sessions[number].lost()

    def closed(self, number: int, at_ns: int) -> None:
        """A connection is gone."""
        session = self.sessions.pop(number, None)
        if session is not None:
            self._tell(number, session.ended(at_ns))
            self.nameless += session.nameless
            self.requests.closed(number, at_ns)

    def _tell(self, number: int, seen: list[CompletedQuery]) -> None:
        for one in seen:
            self.requests.seen(number, one)

    def _give_up(self, number: int, why: str, at_ns: int) -> None:
        """A connection can't be read any further."""
        self.unreadable[why] = self.unreadable.get(why, 0) + 1
        self.nameless += self.sessions.pop(number).nameless
        self.requests.closed(number, at_ns)

    def close(self, at_ns: int, lost: str) -> None:
        """The traffic is over. `lost` says how bytes went missing, if they did."""
        for number in list(self.sessions):
            self.closed(number, at_ns)
        self.requests.close()
        for why, count in self.unreadable.items():
            self.writer.note(f"{plural(count, 'connection')} could not be read completely: {why}")
        if self.cut:
            self.writer.lost(
                len(self.cut), "incomplete connections", f"{lost}: some queries are missing"
            )
        if self.broken:
            self.writer.lost(self.broken, "incomplete connections", self.broken_reason)
        if self.nameless:
            self.writer.note(
                f"{plural(self.nameless, 'query')} ran statements that were prepared before "
                "recording began; they were skipped"
            )
        self.writer.close()
