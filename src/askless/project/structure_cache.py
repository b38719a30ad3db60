"""Structures of statements that were parsed before, kept between runs: without values, under a
checksum of their text.

Kept in the user's cache folder, readable by the user alone. What another version has made is not
used.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from functools import lru_cache
from hashlib import blake2b
from importlib.metadata import version
from pathlib import Path

import msgspec

from askless.core.sql import structure_store
from askless.core.sql.structure import Structure
from askless.project import summary_cache, user_files

KEPT_MOST = 20_000
_LONGEST = 20_000  # characters of a text; a longer one is rare


class _Kept(msgspec.Struct, array_like=True):
    """What is in the file: the maker's mark, and structures by checksum, the oldest first."""

    mark: str = ""
    structures: dict[bytes, msgspec.Raw] = {}


class StructureFile:
    """The memory of this user's. What can't be read or written is done without."""

    def __init__(self, file: Path) -> None:
        self.file = file
        self._mark = f"{summary_cache.own_mark()} {version('sqlglot')}"
        self._decode = msgspec.msgpack.Decoder(Structure).decode
        self._encode = msgspec.msgpack.Encoder().encode
        self._kept = self._read()
        self._new: dict[bytes, msgspec.Raw] = {}

    def _read(self) -> dict[bytes, msgspec.Raw]:
        try:
            stored = msgspec.msgpack.decode(user_files.read(self.file), type=_Kept)
        except (OSError, msgspec.DecodeError):
            return {}
        return stored.structures if stored.mark == self._mark else {}

    def recall(self, text: str, system: str) -> Structure | None:
        """See `core.sql.structure_store.StructureStore`."""
        key = _key(text, system)
        raw = self._kept.get(key)
        if raw is None:
            return None
        try:
            return self._decode(raw)
        except msgspec.DecodeError:
            return None

    def remember(self, text: str, system: str, structure: Structure) -> None:
        """See `core.sql.structure_store.StructureStore`."""
        if len(text) <= _LONGEST and len(self._kept) < 2 * KEPT_MOST:
            key = _key(text, system)
            self._kept[key] = self._new[key] = msgspec.Raw(self._encode(structure))

    def save(self) -> None:
        """Keep what is new, next to what others have kept meanwhile; of too many, the oldest go."""
        if not self._new:
            return
        together = self._read() | self._new
        for key in list(together)[: max(len(together) - KEPT_MOST, 0)]:
            del together[key]
        self._new = {}
        try:
            user_files.write(self.file, self._encode(_Kept(self._mark, together)))
        except (OSError, RuntimeError, ValueError):
            return


def _file() -> Path:
    return user_files.folder("XDG_CACHE_HOME", ".cache") / "parsed.msgpack"


def _key(text: str, system: str) -> bytes:
    return blake2b(f"{system}|{text}".encode("utf-8", "replace"), digest_size=12).digest()


def _stamp(file: Path) -> tuple[int, int] | None:
    """What changes with a file's content; None if there is no such file."""
    try:
        status = file.stat()
    except FileNotFoundError:
        return None
    return status.st_mtime_ns, status.st_size


@lru_cache(maxsize=1)
def _opened(file: Path, stamp: tuple[int, int] | None) -> StructureFile:  # noqa: ARG001
    """The file as it is now. A process that adds up many partitions reads it again only once it has
    changed.
    """
    return StructureFile(file)


@contextmanager
def cached_structures() -> Iterator[None]:
    """Within the block, parsed structures come from the user's cache file, and new ones go into it.

    Blocks within it share the file: it is read and written once, however many parts of a capture
    come after each other.
    """
    if structure_store.has_store():
        yield
        return
    try:
        cache = _opened(_file(), _stamp(_file()))
    except (OSError, RuntimeError):  # no home folder, or none that may be read
        yield
        return
    with structure_store.using(cache):
        try:
            yield
        finally:
            cache.save()
