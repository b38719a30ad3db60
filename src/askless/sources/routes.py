"""Names of routes from paths: what looks like one of many becomes {id}."""

from __future__ import annotations

import re

_ONE_OF_MANY = re.compile(
    r"\d+(?:[,;:_~-]\d+)*|[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F-]{22}|[0-9a-fA-F]{16,}|[A-Za-z]{1,3}[-_]?\d{3,}"
)


def route_of(method: str, path: str) -> str:
    """`GET /calls/17` is GET /calls/{id}; an ending such as .json is kept."""
    parts = []
    for part in (path or "/").split("/"):
        stem, dot, ending = part.partition(".")
        parts.append("{id}" + dot + ending if part and _ONE_OF_MANY.fullmatch(stem) else part)
    return f"{method} {'/'.join(parts)}"
