"""How far long work is, told to the one that wants to know."""

from __future__ import annotations

from collections.abc import Callable

Progress = Callable[[str], None]


def quiet(_text: str) -> None:
    """No one wants to know."""
