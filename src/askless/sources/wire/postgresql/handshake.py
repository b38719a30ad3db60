"""The beginning of a PostgreSQL connection: encryption, start-up, authentication. It is passed on
and never recorded.
"""

from __future__ import annotations

from struct import Struct

from askless.sources.wire import NOTHING, Facts, Step

_INT = Struct(">i")
_TWO = Struct(">ii")
TLS, GSS, CANCEL = 80877103, 80877104, 80877102
TLS_REQUEST = _TWO.pack(8, TLS)
# what a server says before it lets a client in, and how long that may be
_BEFORE, _BEFORE_MOST = b"RENv", 1 << 20
_SASL = 10  # of an authentication request: what follows are the names of mechanisms
# of a mechanism that binds the password to the certificate of the very connection
_BINDING = b"-PLUS"
_BOUND = (
    "the client binds its password to the TLS of the relay, and the server to its own: connect "
    "with channel_binding=disable (PGCHANNELBINDING=disable)"
)
_STARTUP_MOST = 10_000  # bytes: what the server itself allows
_TLS_HELLO = 0x16


def error_message(text: str, code: str = "08006") -> bytes:
    """An ErrorResponse that ends a connection. 08006 is connection_failure in appendix A of the
    documentation.
    """
    body = b"".join(
        kind + value.encode("utf-8", "replace") + b"\0"
        for kind, value in (
            (b"S", "FATAL"),
            (b"V", "FATAL"),
            (b"C", code),
            (b"M", "askless: " + text),
        )
    )
    return b"E" + _INT.pack(len(body) + 5) + body + b"\0"


class Opening:
    """See `askless.sources.wire.Opening`."""

    def __init__(self, tls: bool, watching: bool = False) -> None:
        self.state = "opening"
        self.why = ""
        self.facts: Facts = {}
        self.early = (b"", b"")
        self.rest = b""
        self._tls = tls
        self._watching = watching
        # encryptions that the client has asked for, and the server has not yet answered
        self._asked = 0
        self._started = False
        self._unbound = False  # whether mechanisms that bind were taken out of the server's offer
        self._from_client = b""
        self._from_server = b""
        self._held = b""  # what the client sent that is not a part of the authentication

    def client(self, data: bytes) -> Step:
        """See `Opening`."""
        self._from_client += data
        return self._messages() if self._started else self._start()

    def _start(self) -> Step:
        """The start-up packet, and requests for encryption before it."""
        waiting = self._from_client
        if waiting and waiting[0] == _TLS_HELLO:
            if self._tls:
                self.state, self._tls = "tls", False
                self.rest, self._from_client = waiting, b""
                return NOTHING
            return self._refuse(
                "a client starts with TLS immediately, but the relay has no certificate: --tls-cert"
            )
        if len(waiting) < 8:
            return NOTHING
        length, code = _TWO.unpack_from(waiting)
        if not 8 <= length <= _STARTUP_MOST:
            return self._refuse("a client does not use the PostgreSQL protocol")
        if len(waiting) < length:
            return NOTHING
        if code in (TLS, GSS):
            self._from_client = waiting[length:]
            if self._watching:
                self._asked += 1
                return NOTHING
            if code == TLS and self._tls:
                self.state, self._tls = "tls", False
                self.rest, self._from_client = self._from_client, b""
                return Step(to_client=b"S")
            more = self._start()
            return Step(more.to_server, b"N" + more.to_client)
        self._started = True
        if code == CANCEL:
            return self._pass("a request to cancel")
        if code >> 16 != 3:
            return self._pass(f"version {code >> 16}.{code & 0xFFFF} of the protocol")
        self.facts = _parameters(waiting[8:length])
        if self.facts.get("replication", "false") not in ("false", "off", "no", "0"):
            return self._pass("a replication connection")
        self._from_client = waiting[length:]
        return Step(waiting[:length]) if not self._from_client else self._messages(waiting[:length])

    def _messages(self, begun: bytes = b"") -> Step:
        """What the client says until it is let in: passwords are passed on, all else belongs to the
        session.
        """
        waiting, position = self._from_client, 0
        while len(waiting) - position >= 5:
            end = position + 1 + _INT.unpack_from(waiting, position + 1)[0]
            if end < position + 5 or end > len(waiting):
                break
            if waiting[position] != ord("p"):
                self._held += waiting[position:end]
            elif self._unbound and _would_bind(waiting[position + 5 : end]):
                return self._refuse(_BOUND)
            position = end
        self._from_client = waiting[position:]
        return Step(begun + waiting[:position])

    def refusal(self, text: str) -> bytes:
        """See `Opening`."""
        return error_message(text)

    def resume(self) -> Step:
        """See `Opening`. TLS towards the server has begun before anything else."""
        return NOTHING

    def server(self, data: bytes) -> Step:
        """See `Opening`."""
        waiting = self._from_server + data
        position = 0
        passed = b""
        while self._asked and waiting:
            self._asked -= 1
            if waiting[:1] in (b"S", b"G"):
                self.state, self.why = "unread", "an encrypted connection"
                return NOTHING
            waiting = waiting[1:]
        while len(waiting) - position >= 5:
            kind, length = waiting[position], _INT.unpack_from(waiting, position + 1)[0]
            if kind not in _BEFORE or not 4 <= length <= _BEFORE_MOST:
                self.state, self.why = "unread", "the server does not use the PostgreSQL protocol"
                return Step(to_client=passed + waiting[position:])
            end = position + 1 + length
            if end > len(waiting):
                break
            request = (
                _INT.unpack_from(waiting, position + 5)[0]
                if kind == ord("R") and length >= 8
                else -1
            )
            if request == 0:
                self.state = "open"
                self.early = (self._held + self._from_client, waiting[end:])
                rest, self._from_client = self._from_client, b""
                return Step(to_client=passed + waiting[position:], to_server=rest)
            message = waiting[position:end]
            passed += (
                self._without_binding(message)
                if request == _SASL and not self._watching
                else message
            )
            position = end
        self._from_server = waiting[position:]
        return Step(to_client=passed)

    def _without_binding(self, message: bytes) -> bytes:
        """A server's offer of mechanisms, without those that only work where no relay is
        between.
        """
        names = message[9:].split(b"\0")
        remaining = [name for name in names if not name.endswith(_BINDING)]
        if len(remaining) == len(names):
            return message
        self._unbound = True
        offer = b"\0".join(remaining)
        return b"R" + _TWO.pack(len(offer) + 8, _SASL) + offer

    def _pass(self, why: str) -> Step:
        self.state, self.why = "unread", why
        waiting, self._from_client = self._from_client, b""
        return Step(waiting)

    def _refuse(self, why: str) -> Step:
        self.state, self.why = "refused", why
        return Step(to_client=error_message(why, "08P01"))


def _would_bind(answer: bytes) -> bool:
    """Whether the first message of a client by SASL says that it could bind: the server, which can,
    refuses that.

    RFC 5802, section 6: "y" in the place of the channel binding flag.
    """
    mechanism, _, rest = answer.partition(b"\0")
    return mechanism.startswith(b"SCRAM-") and rest[4:6] == b"y,"


def _parameters(raw: bytes) -> Facts:
    """The parameters of a start-up packet that are no secret."""
    words = [word.decode("utf-8", "replace") for word in raw.split(b"\0")]
    given = dict(zip(words[::2], words[1::2], strict=False))
    wanted = ("user", "database", "application_name", "client_encoding", "replication")
    return {name: given[name] for name in wanted if given.get(name)}
