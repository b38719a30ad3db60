"""Conversations of both protocols, put together byte by byte: what a client says, what a server
answers, in turns.
"""

from __future__ import annotations

from struct import pack
from typing import Any

from askless.core.records.traffic import QuerySeen
from askless.sources.wire import Session

Turn = tuple[str, bytes]  # "client" or "server", and what it says


def told_by(
    session: Session, turns: list[Turn], pieces: list[int] | None = None
) -> list[QuerySeen]:
    """The queries of a conversation, a millisecond a turn; each turn is cut at these distances,
    taken in turns.
    """
    cuts = pieces or [1 << 30]
    results, cut, at_ns = [], 0, 0
    for side, said in turns:
        at_ns += 1_000_000
        while said:
            size = cuts[cut % len(cuts)]
            cut += 1
            listen = session.client if side == "client" else session.server
            results += [seen.query for seen in listen(said[:size], at_ns)]
            said = said[size:]
    return results + [seen.query for seen in session.ended(at_ns)]


def cstring(text: str) -> bytes:
    return text.encode() + b"\0"


class Postgres:
    """PostgreSQL's messages."""

    @staticmethod
    def message(kind: str, body: bytes = b"") -> bytes:
        return kind.encode() + pack(">i", len(body) + 4) + body

    @classmethod
    def startup(cls, version: int = 0x30000, **parameters: str) -> bytes:
        body = (
            pack(">i", version)
            + b"".join(cstring(k) + cstring(v) for k, v in parameters.items())
            + b"\0"
        )
        return pack(">i", len(body) + 4) + body

    @classmethod
    def query(cls, text: str) -> bytes:
        return cls.message("Q", cstring(text))

    @classmethod
    def parse(cls, name: str, text: str, *types: int) -> bytes:
        return cls.message(
            "P",
            cstring(name)
            + cstring(text)
            + pack(">h", len(types))
            + pack(f">{len(types)}I", *types),
        )

    @classmethod
    def bind(
        cls, name: str, values: list[bytes | None], portal: str = "", form: int = 0, result: int = 0
    ) -> bytes:
        body = cstring(portal) + cstring(name) + pack(">hh", 1, form) + pack(">h", len(values))
        for value in values:
            body += pack(">i", -1) if value is None else pack(">i", len(value)) + value
        return cls.message("B", body + pack(">hh", 1, result))

    @classmethod
    def describe(cls, kind: str, name: str = "") -> bytes:
        return cls.message("D", kind.encode() + cstring(name))

    @classmethod
    def execute(cls, portal: str = "", most: int = 0) -> bytes:
        return cls.message("E", cstring(portal) + pack(">i", most))

    @classmethod
    def sync(cls) -> bytes:
        return cls.message("S")

    @classmethod
    def columns(cls, *columns: tuple[str, int], form: int = 0) -> bytes:
        body = pack(">h", len(columns))
        for name, oid in columns:
            body += cstring(name) + pack(">IhIhih", 0, 0, oid, -1, -1, form)
        return cls.message("T", body)

    @classmethod
    def row(cls, *values: bytes | None) -> bytes:
        body = pack(">h", len(values))
        for value in values:
            body += pack(">i", -1) if value is None else pack(">i", len(value)) + value
        return cls.message("D", body)

    @classmethod
    def done(cls, tag: str) -> bytes:
        return cls.message("C", cstring(tag))

    @classmethod
    def error(cls, code: str, text: str) -> bytes:
        return cls.message("E", b"SERROR\0C" + cstring(code) + b"M" + cstring(text) + b"\0")

    @classmethod
    def ready(cls, state: str = "I") -> bytes:
        return cls.message("Z", state.encode())

    @classmethod
    def setting(cls, name: str, value: str) -> bytes:
        return cls.message("S", cstring(name) + cstring(value))


class MySql:
    """Packets of MySQL's protocol."""

    @staticmethod
    def packet(number: int, payload: bytes) -> bytes:
        return len(payload).to_bytes(3, "little") + bytes((number,)) + payload

    @staticmethod
    def text(value: bytes | str) -> bytes:
        raw = value.encode() if isinstance(value, str) else value
        return (bytes((len(raw),)) if len(raw) < 251 else b"\xfc" + pack("<H", len(raw))) + raw

    @classmethod
    def greeting(cls, capabilities: int, version: str = "8.4.0") -> bytes:
        low, high = capabilities & 0xFFFF, capabilities >> 16 & 0xFFFF
        payload = (
            b"\x0a"
            + cstring(version)
            + pack("<I", 7)
            + b"saltsalt"
            + b"\0"
            + pack("<HBHH", low, 45, 2, high)
        )
        return cls.packet(
            0, payload + b"\x15" + bytes(10) + b"saltsaltsalt\0" + b"mysql_native_password\0"
        )

    @classmethod
    def answer(
        cls,
        capabilities: int,
        user: str,
        secret: bytes,
        database: str = "",
        attributes: dict[str, str] | None = None,
    ) -> bytes:
        payload = (
            pack("<IIB", capabilities & 0xFFFFFFFF, 1 << 24, 45)
            + bytes(23)
            + cstring(user)
            + cls.text(secret)
        )
        if database:
            payload += cstring(database)
        payload += cstring("mysql_native_password")
        pairs = b"".join(cls.text(k) + cls.text(v) for k, v in (attributes or {}).items())
        return cls.packet(1, payload + (cls.text(pairs) if attributes else b""))

    @classmethod
    def query(cls, text: str) -> bytes:
        return cls.packet(0, b"\x03" + text.encode())

    @classmethod
    def ok(cls, number: int, changed: int = 0, status: int = 2, head: int = 0) -> bytes:
        return cls.packet(number, bytes((head, changed, 0)) + pack("<HH", status, 0))

    @classmethod
    def eof(cls, number: int, status: int = 2) -> bytes:
        return cls.packet(number, b"\xfe" + pack("<HH", 0, status))

    @classmethod
    def error(cls, number: int, code: int, text: str) -> bytes:
        return cls.packet(number, b"\xff" + pack("<H", code) + b"#42000" + text.encode())

    @classmethod
    def column(cls, number: int, name: str, kind: int, charset: int = 45) -> bytes:
        names = b"".join(map(cls.text, ("def", "harbour", "berth", "berth", name, name)))
        return cls.packet(
            number, names + b"\x0c" + pack("<HIBHB", charset, 40, kind, 0, 0) + bytes(2)
        )

    @classmethod
    def result(
        cls,
        columns: list[tuple[str, int]],
        rows: list[list[Any]],
        status: int = 2,
        modern: bool = False,
    ) -> bytes:
        out, number = cls.packet(1, bytes((len(columns),))), 2
        for name, kind in columns:
            out += cls.column(number, name, kind)
            number += 1
        if not modern:
            out += cls.eof(number)
            number += 1
        for row in rows:
            out += cls.packet(
                number, b"".join(b"\xfb" if v is None else cls.text(str(v)) for v in row)
            )
            number += 1
        return out + (
            cls.ok(number, status=status, head=0xFE) if modern else cls.eof(number, status)
        )
