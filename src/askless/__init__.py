"""Ask Less: see what an application asks its database, and make it ask less."""

from __future__ import annotations

import sys
from collections.abc import Callable
from contextlib import AbstractContextManager, nullcontext
from typing import Any

__version__ = "0.1.0"
__all__ = ["request"]


def request(name: str) -> AbstractContextManager[Any]:
    """Mark a block of a recorded program as one request; costs next to nothing when nobody records.

    `with askless.request("nightly tariffs"): ...`
    """
    marking = sys.modules.get("askless_probe")
    if marking is None:
        return nullcontext()
    from importlib import import_module

    make: Callable[[str], AbstractContextManager[Any]] = import_module("askless_probe.marking").request
    return make(name)
