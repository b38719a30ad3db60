"""The registry of plan readers: a server's plan format is a file in this folder and a line here."""

from __future__ import annotations

from importlib import import_module
from typing import Any

READERS = {"sqlite": "askless.core.plans.sqlite"}


def reader(system: str) -> Any:
    """The module that reads a system's plans. Raises KeyError where there is none."""
    return import_module(READERS[system])
