"""Reads files of packets into a capture: segments to streams, streams to messages, messages to
requests.
"""

from __future__ import annotations

import socket
from collections.abc import Hashable, Sequence
from pathlib import Path
from typing import NamedTuple
from urllib.parse import urlsplit

from askless.capture.sampling import SamplingWriter
from askless.core.errors import AskLessError
from askless.core.formatting import plural
from askless.core.systems import called
from askless.sources import Reporter, wire
from askless.sources.attribution.grouper import GroupingOptions, RequestGrouper
from askless.sources.packets.frames import SkippedPackets, segments
from askless.sources.packets.tcp_streams import Streams
from askless.sources.recording.connection_recorder import ConnectionRecorder
from askless.sources.wire import Opening, Wire

_EXAMPLE = "write it like 10.0.0.7:5432 or mysql://10.0.0.7:3306"
_PROGRESS_EVERY = 20_000  # segments


class Server(NamedTuple):
    """The server whose connections are read. No `hosts`: any with this port."""

    system: str
    hosts: frozenset[bytes]
    port: int

    def is_it(self, end: Hashable) -> bool:
        """Whether an end of a connection is the server."""
        return (
            isinstance(end, tuple)
            and end[1] == self.port
            and (not self.hosts or end[0] in self.hosts)
        )


def server_of(word: str | None) -> Server:
    """Raises AskLessError: no-server, bad-server."""
    if not word:
        raise AskLessError(
            "no-server",
            "the database server is not specified",
            f"name it with --server: {_EXAMPLE}",
        )
    try:
        parts = urlsplit(word if "://" in word else "//" + word)
        port = parts.port
    except ValueError as error:
        raise AskLessError("bad-server", f"--server takes HOST:PORT: {error}", _EXAMPLE) from None
    known = called(parts.scheme.lower(), wire.REGISTRY)
    system = known.name if known is not None else ""
    if not parts.scheme:
        system = next((name for name in wire.REGISTRY if wire.load(name).port == port), "")
    if not system:
        raise AskLessError(
            "bad-server",
            f"--server {word} does not identify the database system",
            "add it before the host: postgresql://HOST:PORT, mysql:// or mariadb://",
        )
    return Server(system, _addresses(parts.hostname), port or wire.load(system).port)


def _addresses(host: str | None) -> frozenset[bytes]:
    if not host or host == "*":
        return frozenset()
    try:
        addresses = socket.getaddrinfo(host, None, type=socket.SOCK_STREAM)
    except (OSError, UnicodeError):  # a name that can't even be asked for
        raise AskLessError(
            "bad-server", f"--server names an unknown host: {host}", _EXAMPLE
        ) from None
    return frozenset(
        socket.inet_pton(family, str(place[0]).split("%")[0])
        for family, _, _, _, place in addresses
    )


def read(
    files: Sequence[Path], server: Server, folder: Path, apart: GroupingOptions, voice: Reporter
) -> None:
    """Read files of packets into a folder. Raises AskLessError: see `frames.segments`, and
    nothing-passed.
    """
    odd = SkippedPackets()
    watcher: PacketRecorder | None = None
    count = at_ns = 0
    try:
        for path in files:
            for segment in segments(path, odd):
                at_ns = max(at_ns, segment.at_ns)
                if watcher is None:
                    watcher = PacketRecorder(
                        wire.load(server.system), server, folder, apart, segment.at_ns
                    )
                watcher.streams.segment(segment)
                count += 1
                if count % _PROGRESS_EVERY == 0:
                    voice.progress(f"reading {path.name}: {plural(count, 'segment')}")
    finally:
        voice.progress("")
        if watcher is not None:
            watcher.close(at_ns, odd)
    for path, why in odd.torn.items():
        voice.note(f"note: {path.name}: {why}; the rest of the file was not read")
    for why, times in odd.counts.items():
        voice.note(f"note: {plural(times, 'packet')} skipped: {why}")
    if watcher is None or not watcher.began_ever:
        raise AskLessError(
            "nothing-passed",
            f"none of {plural(count, 'segment')} goes to or from port {server.port}",
            "check --server: it must be the server's address in the packets",
        )
    watcher.tell(voice)


def _address(end: Hashable) -> str:
    """An end of a connection as people write it."""
    if not isinstance(end, tuple):
        return ""
    host, port = end
    family = socket.AF_INET if len(host) == 4 else socket.AF_INET6
    return f"{socket.inet_ntop(family, host)}:{port}"


class PacketRecorder:
    """Listens to the streams, and gives what comes after each connection's beginning to its
    session.
    """

    def __init__(
        self, protocol: Wire, server: Server, folder: Path, apart: GroupingOptions, at_ns: int
    ) -> None:
        self.wire = protocol
        writer = SamplingWriter(
            folder / "packets.askless.jsonl",
            "packets",
            server.system,
            "",
            at_ns / 1e9,
            at_ns,
            sparing=apart.sparing,
        )
        telling = RequestGrouper(apart, writer, lambda at_s: int(at_s * 1e9))
        self.conversations = ConnectionRecorder(protocol, writer, telling, forgiving=True)
        self.streams = Streams(server.is_it, self)
        self.openings: dict[int, Opening] = {}
        self.clients: dict[int, str] = {}
        self.unread: dict[str, int] = {}
        self.began_ever = 0
        self.began_before = 0  # connections that were open already

    def began(self, number: int, client: Hashable, whole: bool, at_ns: int) -> None:
        """See `Listener`."""
        self.began_ever += 1
        self.clients[number] = _address(client)
        if whole:
            self.openings[number] = self.wire.opening(watching=True)
            return
        self.began_before += 1
        self.conversations.opened(number, {"client": self.clients[number]}, at_ns)
        self.conversations.sessions[number].lost()

    def said(self, number: int, client: bool, data: bytes, at_ns: int) -> None:
        """See `Listener`."""
        opening = self.openings.get(number)
        if opening is None:
            self.conversations.said(number, client, data, at_ns)
            return
        opening.client(data) if client else opening.server(data)
        if opening.state == "open":
            del self.openings[number]
            self.conversations.opened(
                number, opening.facts | {"client": self.clients[number]}, at_ns
            )
            for is_client, early in zip((True, False), opening.early, strict=True):
                if early:
                    self.conversations.said(number, is_client, early, at_ns)
        elif opening.state != "opening":
            del self.openings[number]
            self.unread[opening.why] = self.unread.get(opening.why, 0) + 1

    def lost(self, number: int) -> None:
        """See `Listener`."""
        if self.openings.pop(number, None) is not None:  # what both sides agreed on is not known
            self.unread["its start is incomplete"] = (
                self.unread.get("its start is incomplete", 0) + 1
            )
        self.conversations.lost(number)

    def ended(self, number: int, at_ns: int) -> None:
        """See `Listener`."""
        self.openings.pop(number, None)
        self.clients.pop(number, None)
        self.conversations.closed(number, at_ns)

    def close(self, at_ns: int, odd: SkippedPackets) -> None:
        """There are no more packets. A file that was not read to its end may have held any number
        of queries.
        """
        self.streams.close(at_ns)
        for path, why in odd.torn.items():
            self.conversations.writer.lost(1, "end of a file", f"{path.name}: {why}")
        self.conversations.close(at_ns, "had gaps or truncated packets")

    def tell(self, voice: Reporter) -> None:
        """Say what could not be read."""
        for why, times in self.unread.items():
            voice.note(f"note: {plural(times, 'connection')} not read: {why}")
        if self.began_before:
            voice.note(
                f"note: {plural(self.began_before, 'connection')} started before the recording: "
                "read from the first message boundary"
            )
