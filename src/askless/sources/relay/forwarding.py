"""Forwards bytes between clients and a server, at once and in both directions, and puts a copy
aside.

The beginning of a connection goes through the protocol's `Opening`, which alone may change or
answer something. From then on a chunk is written to the other side before anything else is done
with it.
"""

from __future__ import annotations

import asyncio
import errno
import json
import os
import socket
import ssl
from collections.abc import Callable
from pathlib import Path
from time import perf_counter_ns
from typing import Any, NamedTuple

from askless.sources.relay.relay_buffer import CLIENT, CLOSED, OPENED, SERVER, BufferWriter
from askless.sources.wire import Opening, Step, Wire

_FLUSH_S, _FLUSH_BYTES = 0.02, 1 << 18
_CONNECT_S = 10.0
_CLOSE_S = 2.0
_BACKLOG = 1024  # connections that may wait to be accepted


class Address(NamedTuple):
    """A TCP address, or the path of a unix socket."""

    host: str
    port: int = 0
    path: str = ""

    def __str__(self) -> str:
        if self.path:
            return self.path
        return f"[{self.host}]:{self.port}" if ":" in self.host else f"{self.host}:{self.port}"


class Settings(NamedTuple):
    """What the relay is to do. `near` is the TLS that clients are served, `far` that which the
    server is spoken to with.
    """

    listen: Address
    to: Address
    near: ssl.SSLContext | None = None
    far: ssl.SSLContext | None = None


class Counts:
    """What has passed: connections by how they went."""

    def __init__(self) -> None:
        self.open = self.away = 0
        self.unread: dict[str, int] = {}  # passed on and not read, by reason
        self.refused: dict[str, int] = {}


def _count(counts: dict[str, int], why: str) -> None:
    counts[why] = counts.get(why, 0) + 1


class Stream(asyncio.Protocol):
    """One side of an open connection: what comes is passed to the other side, and put aside."""

    __slots__ = ("kind", "number", "other", "owner", "said_all", "spool", "transport", "twin")

    def __init__(self, owner: Forwarder, kind: int, number: int, transport: Any) -> None:
        self.owner = owner
        self.spool = owner.spool
        self.kind = kind
        self.number = number
        self.transport = transport
        self.other: Any = None  # the transport of the other side
        self.twin: Stream  # and the other side itself
        self.said_all = False

    def data_received(self, data: bytes, now: Callable[[], int] = perf_counter_ns) -> None:
        """Bytes came. As `Forwarder.put`, written out: this is what every chunk costs."""
        self.other.write(data)
        if self.number:
            spool = self.spool
            spool.waiting.append((self.kind, self.number, now(), data))
            spool.size += len(data)
            if spool.size >= _FLUSH_BYTES:
                self.owner.flush()
            elif not self.owner.scheduled:
                self.owner.schedule()

    def eof_received(self) -> bool:
        """This side has said all: the other one may go on, unless it has, too."""
        self.said_all = True
        if self.twin.said_all:
            self.other.close()
            return False
        _end_of(self.other)
        return not isinstance(self.transport.get_extra_info("sslcontext"), ssl.SSLContext)

    def connection_lost(self, error: Exception | None) -> None:
        """This side is gone, and with it the other."""
        self.other.close()
        self.owner.closed(self.number, self.kind)

    def pause_writing(self) -> None:
        """This side is slow: no more is read from the other."""
        if not self.other.is_closing():
            self.other.pause_reading()

    def resume_writing(self) -> None:
        """This side has caught up."""
        if not self.other.is_closing():
            self.other.resume_reading()


def _address_of(transport: Any) -> str:
    """Where a client is; "" for one on this machine's sockets."""
    peer = transport.get_extra_info("peername")
    return f"{peer[0]}:{peer[1]}" if isinstance(peer, tuple) else ""


def _is_heard(path: str) -> bool:
    """Whether someone listens on a unix socket, a database server for one."""
    with socket.socket(socket.AF_UNIX) as probe:
        return probe.connect_ex(path) == 0


def _end_of(transport: Any) -> None:
    if not transport.is_closing():
        transport.write_eof() if transport.can_write_eof() else transport.close()


class ConnectionStart(asyncio.Protocol):
    """One side of a connection that has just begun."""

    def __init__(self, pair: PendingConnection, kind: int) -> None:
        self.pair = pair
        self.kind = kind

    def connection_made(self, transport: Any) -> None:
        """This side is there."""
        self.pair.there(self.kind, transport)

    def data_received(self, data: bytes) -> None:
        """Bytes came."""
        self.pair.came(self.kind, data)

    def eof_received(self) -> bool:
        """This side gives up."""
        return False

    def connection_lost(self, error: Exception | None) -> None:
        """This side is gone."""
        self.pair.gone()


class _TargetLookup(asyncio.Protocol):
    """Waits for a server's first answer."""

    def __init__(self, answer: asyncio.Future[bytes]) -> None:
        self.answer = answer
        answer.add_done_callback(lambda done: done.exception())  # no one need wait for it

    def data_received(self, data: bytes) -> None:
        """The answer came."""
        if not self.answer.done():
            self.answer.set_result(data)

    def connection_lost(self, error: Exception | None) -> None:
        """The server is gone before it has answered."""
        if not self.answer.done():
            self.answer.set_exception(error or ConnectionResetError("it has closed the connection"))


class PendingConnection:
    """A connection from its first byte until it is open: the opening decides what is passed on."""

    def __init__(self, owner: Forwarder) -> None:
        self.owner = owner
        self.near: Any = None
        self.far: Any = None
        self.opening: Opening = owner.wire.opening(
            tls=owner.settings.near is not None, far_tls=owner.settings.far is not None
        )
        self.waiting = b""  # for the server, until it is there
        # what the client is reported once it has said what it wants: the server can't be reached
        self.away = b""
        self.ended = False
        self.encrypting = False
        self.held: list[
            bytes
        ] = []  # what the client said once TLS was there, and before anybody was reported so
        self.task: asyncio.Task[None] | None = None

    def there(self, kind: int, transport: Any) -> None:
        """One side is there; a client that has come wants the server."""
        if kind == SERVER:
            self.far = transport
            return
        self.near = transport
        self.owner.counts.open += 1
        self.task = self.owner.loop.create_task(self._connect())

    async def _connect(self) -> None:
        try:
            await asyncio.wait_for(
                self.owner.reach(lambda: ConnectionStart(self, SERVER)), _CONNECT_S
            )
        except (TimeoutError, OSError, ssl.SSLError, ConnectionError, UnicodeError) as error:
            self.owner.counts.away += 1
            reason = str(error) or "it does not answer"
            self.away = self.opening.refusal(
                f"the server at {self.owner.settings.to} can't be reached: {reason}"
            )
            if self.waiting or not self.owner.wire.client_first:
                self._turn_away(self.away)
            return
        if self.ended:
            self.far.close()
        elif self.waiting:
            self.far.write(self.waiting)
            self.waiting = b""

    def came(self, kind: int, data: bytes) -> None:
        """Bytes came from one side."""
        if self.encrypting and kind == CLIENT:
            self.held.append(data)
            return
        step = self.opening.client(data) if kind == CLIENT else self.opening.server(data)
        self._pass(step)
        state = self.opening.state
        if state == "tls":
            # what comes from now on is for the layer of TLS, which goes on reading
            self.near.pause_reading()
            self.encrypting = True
            self.task = self.owner.loop.create_task(self._encrypt())
        elif state == "far-tls":
            self.far.pause_reading()
            self.task = self.owner.loop.create_task(self._encrypt_far())
        elif state == "refused":
            _count(self.owner.counts.refused, self.opening.why)
            self._turn_away(b"")
        elif self.away and self.waiting:
            self._turn_away(self.away)
        elif state in ("open", "unread") and self.far is not None:
            self._go_on()

    def _pass(self, step: Step) -> None:
        if step.to_server:
            if self.far is None:
                self.waiting += step.to_server
            else:
                self.far.write(step.to_server)
        if step.to_client:
            self.near.write(step.to_client)

    def _turn_away(self, message: bytes) -> None:
        """Tell the client why, and close once it has had the time to read it: what is unread cuts a
        connection short.
        """
        if not self.near.is_closing():
            self.near.write(message)
            _end_of(self.near)
            self.owner.loop.call_later(_CLOSE_S, self.near.close)

    async def _encrypt(self) -> None:
        """The client begins with TLS."""
        self.opening.state = "opening"
        rest, self.opening.rest = self.opening.rest, b""
        settings, loop = self.owner.settings, self.owner.loop
        assert settings.near is not None
        starting = loop.create_task(
            loop.start_tls(
                self.near, ConnectionStart(self, CLIENT), settings.near, server_side=True
            )
        )
        try:
            if rest:  # what came before anybody knew that it was TLS
                for _ in range(2):  # until the layer of TLS is in place
                    await asyncio.sleep(0)
                layer = self.near.get_protocol()
                layer.get_buffer(len(rest))[: len(rest)] = rest
                layer.buffer_updated(len(rest))
            self.near = await starting
        except (OSError, ssl.SSLError, ConnectionError):
            self.gone()
            return
        self.encrypting = False
        held, self.held = self.held, []
        for data in held:
            self.came(CLIENT, data)

    async def _encrypt_far(self) -> None:
        """The server waits for TLS."""
        settings = self.owner.settings
        assert settings.far is not None
        self.opening.state = "waiting"
        try:
            # what fails must not end the pair: the client is reported first
            layer = _TargetLookup(self.owner.loop.create_future())
            host = settings.to.host
            encrypted = await self.owner.loop.start_tls(
                self.far, layer, settings.far, server_hostname=host
            )
            assert encrypted is not None
            encrypted.set_protocol(ConnectionStart(self, SERVER))
            self.far = encrypted
        except (OSError, ssl.SSLError, ConnectionError, UnicodeError) as error:
            self.owner.counts.away += 1
            self._turn_away(
                self.opening.refusal(f"no TLS with the server at {settings.to}: {error}")
            )
            return
        self._pass(self.opening.resume())

    def _go_on(self) -> None:
        """Both sides pass on by themselves from now on."""
        number = 0
        if self.opening.state == "open":
            number = self.owner.opened(self.opening.facts | {"client": _address_of(self.near)})
            for kind, data in zip((CLIENT, SERVER), self.opening.early, strict=True):
                if data:
                    self.owner.put(kind, number, data)
        else:
            _count(self.owner.counts.unread, self.opening.why)
        near = Stream(self.owner, CLIENT, number, self.near)
        far = Stream(self.owner, SERVER, number, self.far)
        near.other, far.other = self.far, self.near
        near.twin, far.twin = far, near
        self.near.set_protocol(near)
        self.far.set_protocol(far)

    def gone(self) -> None:
        """A side is gone before the connection was open."""
        if self.ended:
            return
        self.ended = True
        self.owner.counts.open -= 1
        for transport in (self.near, self.far):
            if transport is not None:
                transport.close()


class Forwarder:
    """The relay: listens, connects, passes on. All of it in one event loop."""

    def __init__(
        self, wire: Wire, settings: Settings, spool: BufferWriter, bell: Callable[[], None]
    ) -> None:
        self.wire = wire
        self.settings = settings
        self.spool = spool
        self.counts = Counts()
        self.loop: asyncio.AbstractEventLoop = None  # type: ignore[assignment]
        self._bell = bell
        self._numbers = 0
        self.scheduled = False
        self._server: asyncio.AbstractServer | None = None

    async def start(self) -> Address:
        """Listen; the address that clients go to. Raises OSError."""
        self.loop = asyncio.get_running_loop()
        listen = self.settings.listen

        def begin() -> ConnectionStart:
            return ConnectionStart(PendingConnection(self), CLIENT)

        if listen.path:
            # the loop itself would put its own in the place of any socket
            if _is_heard(listen.path):
                raise OSError(errno.EADDRINUSE, os.strerror(errno.EADDRINUSE))
            self._server = await self.loop.create_unix_server(begin, listen.path, backlog=_BACKLOG)
            Path(listen.path).chmod(0o600)
            return listen
        server = await self.loop.create_server(begin, listen.host, listen.port, backlog=_BACKLOG)
        self._server = server
        return listen._replace(port=server.sockets[0].getsockname()[1])

    async def reach(self, protocol: Callable[[], asyncio.Protocol]) -> None:
        """Connect to the server, by TLS where that is wanted. Raises OSError, ssl.SSLError."""
        to, far = self.settings.to, self.settings.far
        if to.path:
            await self.loop.create_unix_connection(protocol, to.path)
        elif far is None or not self.wire.tls_request:
            await self.loop.create_connection(protocol, to.host, to.port)
        else:
            asking = _TargetLookup(self.loop.create_future())
            transport, _ = await self.loop.create_connection(lambda: asking, to.host, to.port)
            transport.write(self.wire.tls_request)
            if await asking.answer != b"S":
                transport.close()
                raise OSError("it has no TLS, which sslmode in --to asks for")
            encrypted = await self.loop.start_tls(transport, asking, far, server_hostname=to.host)
            assert encrypted is not None
            inner = protocol()
            encrypted.set_protocol(inner)
            inner.connection_made(encrypted)

    async def stop(self) -> None:
        """Take no more connections, and write what has gathered."""
        if self._server is not None:
            self._server.close()
        if self.settings.listen.path:
            Path(self.settings.listen.path).unlink(missing_ok=True)
        await asyncio.sleep(0)
        self.flush()

    def opened(self, facts: dict[str, Any]) -> int:
        """A connection is authenticated; its number."""
        self._numbers += 1
        self.put(OPENED, self._numbers, json.dumps(facts).encode())
        return self._numbers

    def closed(self, number: int, kind: int) -> None:
        """A side of a connection is gone; the first of the two tells."""
        if kind == CLIENT:
            self.counts.open -= 1
        if number:
            self.put(CLOSED, number, b"")

    def put(self, kind: int, number: int, data: bytes) -> None:
        """Put something aside for the reader."""
        self.spool.waiting.append((kind, number, perf_counter_ns(), data))
        self.spool.size += len(data)
        if not self.scheduled:
            self.schedule()

    def schedule(self) -> None:
        """Give the reader what gathers, a little later."""
        self.scheduled = True
        self.loop.call_later(_FLUSH_S, self._flush_later)

    def _flush_later(self) -> None:
        self.scheduled = False
        self.flush()

    def flush(self) -> None:
        """Give the reader what has gathered."""
        if self.spool.flush():
            self._bell()
