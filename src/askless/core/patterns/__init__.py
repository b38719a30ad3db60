"""The registry of patterns. A new pattern is a file in this folder and a line here.

The order is the order in which they look and judge: an earlier one may claim a repetition or a
shape for itself.
"""

from __future__ import annotations

from importlib import import_module

TYPE_CHECKING = False
if TYPE_CHECKING:
    from askless.core.patterns.base import CrossRoutePattern, Pattern

REGISTRY = {
    "find-or-create": "askless.core.patterns.find_or_create",
    "already-loaded": "askless.core.patterns.already_loaded",
    "n-plus-one": "askless.core.patterns.n_plus_one",
    "sibling-filters": "askless.core.patterns.sibling_filters",
    "duplicate": "askless.core.patterns.duplicate",
    "discarded-rows": "askless.core.patterns.discarded_rows",
    "unused-load": "askless.core.patterns.unused_load",
    "over-wide": "askless.core.patterns.over_wide",
    "row-multiplication": "askless.core.patterns.row_multiplication",
    "unbounded": "askless.core.patterns.unbounded",
    "subquery-per-row": "askless.core.patterns.subquery_per_row",
    "deep-offset": "askless.core.patterns.deep_offset",
    "write-loop": "askless.core.patterns.write_loop",
    "literal-churn": "askless.core.patterns.literal_churn",
    "failing": "askless.core.patterns.failing",
    "stable-read": "askless.core.patterns.stable_read",
    "slow-query": "askless.core.patterns.slow_query",
    "held-transaction": "askless.core.patterns.held_transaction",
}

ACROSS = ("stable-read",)  # those that judge all routes together, once each was judged by itself


def instead_of(name: str) -> str:
    """What to say to a name that is not a pattern."""
    from difflib import get_close_matches

    near = get_close_matches(name, REGISTRY, 1, 0.3)
    return f"did you mean {near[0]}?" if near else "patterns: " + ", ".join(REGISTRY)


def load(names: list[str] | None = None) -> list[Pattern]:
    """The patterns of these names, or all. Raises KeyError for a name that is not registered."""
    return [import_module(REGISTRY[name]).PATTERN for name in (names or REGISTRY)]


def load_across() -> list[CrossRoutePattern]:
    """The patterns that judge all routes together."""
    return [import_module(REGISTRY[name]).PATTERN for name in ACROSS]
