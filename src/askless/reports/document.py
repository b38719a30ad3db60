"""What all documents share."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import msgspec

# of all documents: a key that goes or changes its meaning makes a new one, a key that is added does
# not
VERSION = 3


class Document(msgspec.Struct, frozen=True, kw_only=True):
    """What all documents share. `notes` are remarks on the capture, or on what else was done."""

    format: str
    version: int = VERSION
    notes: tuple[str, ...] = ()


class Fields(msgspec.Struct, frozen=True):
    """A few values that belong together: an object in JSON, and in Python it unpacks like a
    tuple.
    """

    def __iter__(self) -> Iterator[Any]:
        return iter(msgspec.structs.astuple(self))


class BeforeAfter(Fields, frozen=True):
    """A count on both sides of a comparison; null on the side where it was not measured."""

    before: float | None = None
    after: float | None = None
