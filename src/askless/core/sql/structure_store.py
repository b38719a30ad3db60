"""The structure of a statement, parsed once: from memory, from a store that outlives the process,
or by the parser.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from functools import lru_cache
from typing import Protocol

import msgspec

from askless.core.sql.slots import slots_of
from askless.core.sql.structure import Structure


class StructureStore(Protocol):
    """Structures of statements from earlier runs: parsing takes longer than everything else that is
    done with a statement.
    """

    def recall(self, text: str, system: str) -> Structure | None:
        """The structure of a statement, without its slots; None if it is not known."""

    def remember(self, text: str, system: str, structure: Structure) -> None:
        """Store a structure."""


_store: ContextVar[StructureStore | None] = ContextVar("askless_structures", default=None)


@contextmanager
def using(store: StructureStore) -> Iterator[None]:
    """Within the block, this store is asked before the parser."""
    token = _store.set(store)
    try:
        yield
    finally:
        _store.reset(token)


def has_store() -> bool:
    """Whether a store is in use here."""
    return _store.get() is not None


@lru_cache(maxsize=4096)  # more than one route's shapes; a structure takes a few kilobytes
def structure_of(text: str, system: str) -> Structure | None:
    """The structure of a statement, or None if the parser can't read it."""
    store = _store.get()
    known = store.recall(text, system) if store is not None else None
    if known is not None:
        return msgspec.structs.replace(known, slots=tuple(slots_of(text, system)))
    from askless.core.sql.structure_reader import (
        read,
    )  # loads the parser, which commands that parse nothing need not

    result = read(text, system)
    if store is not None and result is not None:
        store.remember(text, system, msgspec.structs.replace(result, slots=()))
    return result
