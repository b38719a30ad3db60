"""What all documents share."""

from __future__ import annotations

import msgspec


class Document(msgspec.Struct, frozen=True, kw_only=True):
    """What all documents share. `notes` tell what was odd about the capture, or what else was done."""

    format: str
    version: int = 1
    notes: tuple[str, ...] = ()
