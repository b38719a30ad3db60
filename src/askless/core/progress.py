"""The progress of long work, for a caller that wants to show it."""

from __future__ import annotations

from collections.abc import Callable

Progress = Callable[[str], None]


def quiet(_text: str) -> None:
    """No one wants to know."""
