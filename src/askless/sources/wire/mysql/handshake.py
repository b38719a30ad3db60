"""The beginning of a MySQL connection: greeting, capabilities, authentication. It is passed on and
never recorded.

Compression is taken out of the server's greeting, and so is TLS where it is not served: clients
that may go without do.
"""

from __future__ import annotations

from struct import error

from askless.sources.wire import NOTHING, Facts, Step
from askless.sources.wire.mysql import packets
from askless.sources.wire.mysql.packets import head, packet

_TLS_REQUEST = 32  # bytes of an answer that only asks for TLS: the first of the whole one
_TAKEN_OUT = packets.COMPRESS | packets.SSL | packets.ZSTD


def error_packet(words: str, code: int = 2003, number: int = 0) -> bytes:
    """An ERR packet. 2003 is CR_CONN_HOST_ERROR, what clients say themselves where no server
    answers.
    """
    return packet(
        b"\xff"
        + code.to_bytes(2, "little")
        + b"#HY000"
        + ("askless: " + words).encode("utf-8", "replace"),
        number,
    )


# The server has no password of this user's in its memory. How the client sends it depends on
# whether there is TLS.
_FULL_AUTHENTICATION = b"\x01\x04"
_ONE_SIDED = (
    "caching_sha2_password sends passwords differently over TLS, so the relay needs TLS on both "
    "sides or on neither: --tls-cert, and sslmode in --to"
)


class Opening:
    """See `askless.sources.wire.Opening`.

    Where one side has TLS and the other has not, one of them has a packet more to say: their
    numbers are shifted then.
    """

    def __init__(self, tls: bool = False, watching: bool = False, far_tls: bool = False) -> None:
        self._tls, self._watching, self._far_tls = tls, watching, far_tls
        self.state = "opening"
        self.why = ""
        self.facts: Facts = {}
        self.early = (b"", b"")
        self.rest = b""
        self._greeted = self._answered = self._encrypted = False
        self._from_client = b""
        self._from_server = b""
        self._capabilities = 0  # of the server
        self._answer = b""  # of the client, while TLS towards the server begins
        self._next = 0  # the number of what the client is reported next
        self._shift = 0  # what a packet's number grows by on its way to the server

    def client(self, data: bytes) -> Step:
        """See `Opening`."""
        waiting = self._from_client + data
        if self._answered:
            passed, self._from_client = self._shifted(waiting, self._shift)
            return Step(passed)
        self._from_client = waiting
        if len(waiting) < 4:
            return NOTHING
        length, number = head(waiting, 0)
        end = 4 + length
        if len(waiting) < end:
            return NOTHING
        self._from_client = b""
        if (
            self._tls
            and not self._encrypted
            and length == _TLS_REQUEST
            and packets.four(waiting, 4) & packets.SSL
        ):
            self._encrypted, self.rest = True, waiting[end:]
            self.state = "tls"
            return NOTHING
        self._answered = True
        self._next = number + 1
        payload = waiting[4:end]
        try:
            self._read_answer(payload)
        except (error, ValueError, IndexError):
            self._pass("a client answers the server's greeting in an unknown way")
        if self.state == "unread" or not (self._encrypted or self._far_tls):
            return Step(waiting)
        capabilities = packets.four(payload, 0) & ~packets.SSL | (
            packets.SSL if self._far_tls else 0
        )
        payload = capabilities.to_bytes(4, "little") + payload[4:]
        if not self._far_tls:
            self._shift = 1 - number
            return Step(packet(payload, 1))
        self._shift = 2 - number
        self._answer = packet(payload, 2)
        self.state = "far-tls"
        return Step(packet(payload[:_TLS_REQUEST], 1))

    def refusal(self, text: str) -> bytes:
        """See `Opening`."""
        return error_packet(text, number=self._next)

    def resume(self) -> Step:
        """See `Opening`."""
        self.state = "opening"
        return Step(self._answer)

    def server(self, data: bytes) -> Step:
        """See `Opening`."""
        waiting = self._from_server + data
        position = 0
        passed = b""
        while len(waiting) - position >= 4:
            length, number = head(waiting, position)
            end = position + 4 + length
            if end > len(waiting):
                break
            payload = waiting[position + 4 : end]
            position = end
            if not self._greeted:
                passed += packet(self._greet(payload), number)
                if self.state == "refused":
                    return Step(to_client=error_packet(self.why, 2026))
            elif (
                payload == _FULL_AUTHENTICATION
                and self._encrypted != self._far_tls
                and not self._watching
            ):
                self.state, self.why = "refused", _ONE_SIDED
                return Step(
                    to_client=passed + error_packet(self.why, 1251, number=number - self._shift)
                )
            else:
                passed += packet(payload, number - self._shift)
                if payload[:1] == b"\0" and self._answered and self.state == "opening":
                    self.state = "open"
                    self.early = (b"", waiting[end:])
                    return Step(to_client=passed + waiting[end:])
            if self.state == "unread":
                return Step(to_client=passed + waiting[end:])
        self._from_server = waiting[position:]
        return Step(to_client=passed)

    @staticmethod
    def _shifted(data: bytes, shift: int) -> tuple[bytes, bytes]:
        """(whole packets with other numbers, what is left of the last one); all as it is where
        nothing is shifted.
        """
        if not shift:
            return data, b""
        passed, position = b"", 0
        while len(data) - position >= 4:
            length, number = head(data, position)
            end = position + 4 + length
            if end > len(data):
                break
            passed += packet(data[position + 4 : end], number + shift)
            position = end
        return passed, data[position:]

    def _greet(self, payload: bytes) -> bytes:
        """The server's greeting, without what can't be read."""
        self._greeted = True
        if payload[:1] == b"\xff":
            self._pass("the server refuses the connection")
            return payload
        try:
            if payload[0] != 10:
                raise ValueError
            # version, thread, the first half of the salt, a zero
            at = payload.index(0, 1) + 1 + 4 + 8 + 1
            low, high = packets.two(payload, at), packets.two(payload, at + 5)
            # MariaDB's, if the oldest bit is not set
            own = packets.four(payload, at + 14) if not low & 1 else 0
        except (error, ValueError, IndexError):
            self._pass("the server does not use the MySQL protocol")
            return payload
        self._capabilities = low | high << 16 | own << 32
        self.facts["version"] = payload[1 : payload.index(0, 1)].decode("ascii", "replace")
        if self._far_tls and not low & packets.SSL:
            self.state, self.why = (
                "refused",
                "the server has no TLS, which sslmode in --to asks for",
            )
        low = low & ~_TAKEN_OUT & 0xFFFF | (packets.SSL if self._tls else 0)
        high &= ~(_TAKEN_OUT >> 16) & 0xFFFF
        return (
            payload[:at]
            + low.to_bytes(2, "little")
            + payload[at + 2 : at + 5]
            + high.to_bytes(2, "little")
            + payload[at + 7 :]
        )

    def _why_unreadable(self, capabilities: int) -> str:
        """Why nothing of a client with these capabilities can be read; '' if it can."""
        if not capabilities & packets.PROTOCOL_41:
            return "a client with a protocol older than 4.1"
        if capabilities & packets.SSL and not self._encrypted:
            return "an encrypted connection" if self._watching else "a client insists on TLS"
        compressed = capabilities & self._capabilities & (packets.COMPRESS | packets.ZSTD)
        return "a compressed connection" if compressed and self._watching else ""

    def _read_answer(self, payload: bytes) -> None:
        """What the client wants: its capabilities, who it is, the database. Raises ValueError,
        IndexError.
        """
        capabilities = packets.four(payload, 0)
        unreadable = self._why_unreadable(capabilities)
        if unreadable:
            self._pass(unreadable)
            return
        if not self._capabilities & 1 and not capabilities & 1:
            capabilities |= packets.four(payload, 28) << 32
        self.facts["capabilities"] = capabilities & (self._capabilities | 0xFFFF)
        self.facts["charset"] = payload[8]
        stop = payload.index(0, 32)
        self.facts["user"] = payload[32:stop].decode("utf-8", "replace")
        position = stop + 1
        if capabilities & packets.PLUGIN_AUTH_LENENC:
            _, position = packets.text(payload, position)
        elif capabilities & packets.SECURE:
            position += 1 + payload[position]
        else:
            position = payload.index(0, position) + 1
        if capabilities & packets.CONNECT_WITH_DB and position < len(payload):
            stop = payload.index(0, position)
            self.facts["database"] = payload[position:stop].decode("utf-8", "replace")
            position = stop + 1
        if capabilities & packets.PLUGIN_AUTH and position < len(payload):
            position = payload.index(0, position) + 1
        if capabilities & packets.CONNECT_ATTRS and position < len(payload):
            self._read_attributes(payload, position)

    def _read_attributes(self, payload: bytes, position: int) -> None:
        """What the client says of itself."""
        size, position = packets.number(payload, position)
        end = min(position + size, len(payload))
        while position < end:
            name, position = packets.text(payload, position)
            value, position = packets.text(payload, position)
            if name == b"program_name":
                self.facts["application_name"] = value.decode("utf-8", "replace")

    def _pass(self, why: str) -> None:
        self.state, self.why = "unread", why
