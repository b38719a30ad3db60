"""How far long work is, told to whoever wants to know."""

from __future__ import annotations

from collections.abc import Callable

Progress = Callable[[str], None]


def quiet(_text: str) -> None:
    """Nobody wants to know."""
