"""Ask Less: see what an application asks its database, and make it ask less."""

from __future__ import annotations

import sys
from importlib import import_module

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

    from askless.api import (
        Capture as Capture,
        Recording as Recording,
        read as read,
        record as record,
    )
    from askless.core.errors import AskLessError as AskLessError

__version__ = "0.5.0"
__all__ = ["AskLessError", "Capture", "Recording", "RepeatedLoad", "read", "record", "request"]
# Imported when first asked for: a recorded program imports this module for `request` alone.
_LATER = {
    "AskLessError": "askless.core.errors",
    **dict.fromkeys(("Capture", "Recording", "read", "record"), "askless.api"),
}


class _Unrecorded:
    """What marks a request where no one records: nothing."""

    def __enter__(self) -> _Unrecorded:
        return self

    def __exit__(self, *details: object) -> None:
        return None

    def __call__(self, function: Any) -> Any:
        return function


def request(name: str) -> Any:
    """Mark a block, or a function, of a recorded program as one request; costs nothing when no one
    records.

    `with askless.request("nightly tariffs"): ...`
    """
    if "askless_probe" not in sys.modules:
        return _Unrecorded()
    return import_module("askless_probe.marking").request(name)


def __getattr__(name: str) -> Any:
    """`askless.RepeatedLoad`: what strict mode raises. A class of its own where no one records: it
    is never raised.
    """
    if name in _LATER:
        value = getattr(import_module(_LATER[name]), name)
        globals()[name] = value
        return value
    if name != "RepeatedLoad":
        raise AttributeError(f"module 'askless' has no attribute {name!r}")
    if "askless_probe" in sys.modules:
        return import_module("askless_probe.strict").RepeatedLoad
    result = type("RepeatedLoad", (RuntimeError,), {"__module__": "askless"})
    globals()["RepeatedLoad"] = result
    return result
