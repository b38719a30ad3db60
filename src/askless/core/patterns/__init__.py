"""The registry of patterns. A new pattern is a file in this folder and a line here.

The order is the order in which they look at a request: an earlier one may claim a repetition for itself.
"""

from __future__ import annotations

from importlib import import_module

from askless.core.patterns.base import Pattern

REGISTRY = {
    "n-plus-one": "askless.core.patterns.n_plus_one",
    "duplicate": "askless.core.patterns.duplicate",
    "over-wide": "askless.core.patterns.over_wide",
    "unbounded": "askless.core.patterns.unbounded",
}


def load(names: list[str] | None = None) -> list[Pattern]:
    """The patterns of these names, or all. Raises KeyError for a name that is not registered."""
    return [import_module(REGISTRY[name]).PATTERN for name in (names or REGISTRY)]
