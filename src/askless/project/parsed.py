"""Structures of statements that were parsed before, kept between runs: without values, under a checksum of their text.

Kept in the user's cache folder, readable by the user alone. What another version has made is not used.
"""

from __future__ import annotations

from hashlib import blake2b
from importlib.metadata import version

import msgspec

from askless.core.sql import structure
from askless.core.sql.structure import Structure
from askless.project import private, seen

KEPT_MOST = 20_000
_LONGEST = 20_000  # characters of a text; a longer one is rare


class _Kept(msgspec.Struct, array_like=True):
    """What is in the file: the maker's mark, and structures by checksum, the oldest first."""

    mark: str = ""
    structures: dict[bytes, msgspec.Raw] = {}


class Parsed:
    """The memory of this user's. What can't be read or written is done without."""

    def __init__(self) -> None:
        self._file = private.folder("XDG_CACHE_HOME", ".cache") / "parsed.msgpack"
        self._mark = f"{seen.own_mark()} {version('sqlglot')}"
        self._decode = msgspec.msgpack.Decoder(Structure).decode
        self._encode = msgspec.msgpack.Encoder().encode
        self._kept = self._read()
        self._new: dict[bytes, msgspec.Raw] = {}

    def _read(self) -> dict[bytes, msgspec.Raw]:
        try:
            kept = msgspec.msgpack.decode(self._file.read_bytes(), type=_Kept)
        except (OSError, msgspec.DecodeError):
            return {}
        return kept.structures if kept.mark == self._mark else {}

    def recall(self, text: str, system: str) -> Structure | None:
        """See `core.sql.structure.Memory`."""
        key = _key(text, system)
        raw = self._kept.get(key) or self._new.get(key)  # parsed long ago, or let go since
        if raw is None:
            return None
        try:
            return self._decode(raw)
        except msgspec.DecodeError:
            return None

    def remember(self, text: str, system: str, structure: Structure) -> None:
        """See `core.sql.structure.Memory`."""
        if len(text) <= _LONGEST and len(self._new) < KEPT_MOST:
            self._new[_key(text, system)] = msgspec.Raw(self._encode(structure))

    def save(self) -> None:
        """Keep what is new, beside what others have kept meanwhile; of too many, the oldest go."""
        if not self._new:
            return
        together = self._read() | self._new
        for key in list(together)[: max(len(together) - KEPT_MOST, 0)]:
            del together[key]
        self._new = {}
        try:
            private.write(self._file, self._encode(_Kept(self._mark, together)))
        except (OSError, RuntimeError, ValueError):
            return


def _key(text: str, system: str) -> bytes:
    return blake2b(f"{system}|{text}".encode("utf-8", "replace"), digest_size=12).digest()


_used: list[Parsed] = []


def begin() -> None:
    """Use what was parsed before, in this process."""
    try:
        parsed = Parsed()
    except (OSError, RuntimeError):
        return
    _used[:] = [parsed]
    structure.use_memory(parsed)


def keep() -> None:
    """Keep what was parsed in this process since."""
    for parsed in _used:
        parsed.save()
