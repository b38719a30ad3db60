"""Names of routes from paths: what looks like one of many becomes {id}."""

from __future__ import annotations

import re

# Numbers, UUIDs, hashes, codes like H00042, long tokens: as the recorder has it (web/routes.py), a
# test holds them together.
_ONE_OF_MANY = re.compile(
    r"\d+(?:[,;:_~-]\d+)*|[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F-]{22}|[0-9a-fA-F]{16,}"
    r"|[A-Za-z]{1,3}[-_]?\d{3,}"
    r"|(?=[^/]*\d)(?=[^/]*[A-Za-z])[\w~=-]{20,}"
)


def route_of(method: str, path: str) -> str:
    """`GET /calls/17` is GET /calls/{id}; an ending such as .json is kept."""
    parts = []
    for part in (path or "/").split("/"):
        stem, dot, ending = part.partition(".")
        parts.append("{id}" + dot + ending if part and _ONE_OF_MANY.fullmatch(stem) else part)
    return f"{method} {'/'.join(parts)}"


_CONVERTER = re.compile(r"<(?:[^<>:]*:)?([^<>:]+)>")  # <int:number>, <number>
_BRACED = re.compile(r"\{([^{}:]+):[^{}]*\}")  # {number:int}
_COLON = re.compile(r"(?<=/):(\w+)(?:\([^)]*\))?\??")  # /:number, /:number(\d+)
_GROUP = re.compile(r"\(\?P<(\w+)>")


def template_of(pattern: str) -> str:
    r"""A framework's pattern as all of them are written here: `<int:number>`, `:number` and `(?P<number>\d+)` are {number}."""
    text = _groups_named(pattern) if "(?P<" in pattern else pattern
    text = _COLON.sub(r"{\1}", _BRACED.sub(r"{\1}", _CONVERTER.sub(r"{\1}", text)))
    text = text.removeprefix("^").removesuffix("$")
    return text if text.startswith(("/", "*")) else "/" + text


def _groups_named(pattern: str) -> str:
    """A regular expression with each named group, whatever it holds, as its name in braces."""
    out, position = "", 0
    while True:
        match = _GROUP.search(pattern, position)
        if match is None:
            return (out + pattern[position:]).replace("\\", "")
        depth, end = 1, match.end()
        while end < len(pattern) and depth:
            depth += {"(": 1, ")": -1}.get(pattern[end], 0) if pattern[end - 1] != "\\" else 0
            end += 1
        out += pattern[position : match.start()] + "{" + match[1] + "}"
        position = end
