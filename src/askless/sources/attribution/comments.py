"""What a statement's comment says of where it comes from, as frameworks write it: `key='value'`
pairs, URL-encoded, or `key:value`, separated by commas, before the statement or after it. The first
form is the open sqlcommenter specification.
"""

from __future__ import annotations

import re
from functools import lru_cache
from urllib.parse import unquote

import msgspec

from askless.core.records.model import CallSite
from askless.core.whole_numbers import whole_number

_COMMENT = re.compile(r"/\*(.*?)\*/", re.DOTALL)
_PAIR = re.compile(
    r"\s*([\w.%-]+)\s*(?:=\s*'((?:[^'\\]|\\.|'')*)'|[:=]\s*([^,'\"][^,]*|))\s*(?:,|$)"
)
_TRACE = re.compile(r"[0-9a-f]{2}-([0-9a-f]{32})-[0-9a-f]{16}-[0-9a-f]{2}")
_KNOWN = frozenset(
    [
        "traceparent",
        "tracestate",
        "application",
        "app",
        "app_name",
        "controller",
        "namespaced_controller",
        "action",
        "route",
        "path",
        "framework",
        "db_driver",
        "job",
        "job_name",
        "file",
        "filepath",
        "code.filepath",
        "line",
        "lineno",
        "code.lineno",
        "function",
        "method",
        "code.function",
        "source",
        "source_location",
        "request_id",
        "request_method",
        "http.route",
        "http.method",
        "tag",
        "client_timezone",
        "pid",
        "host",
        "span_id",
        "trace_id",
    ]
)


class Tags(msgspec.Struct, frozen=True):
    """What a comment says. `trace` is the same for all queries of one request, '' where nothing
    distinguishes them.
    """

    trace: str = ""
    route: str = ""
    place: CallSite | None = None

    @property
    def names_request(self) -> bool:
        """Whether it says which request it is, or of which kind."""
        return bool(self.trace or self.route)


def strip_tags(text: str) -> tuple[str, Tags | None]:
    """A statement without the comment that tags it, and what that says; as it is where there is
    none.
    """
    if "*/" not in text:
        return text, None
    bare = text.strip().rstrip(";").rstrip()
    match = None
    if bare.startswith("/*"):
        match = _COMMENT.match(bare)
    elif bare.endswith("*/"):
        match = _COMMENT.fullmatch(bare, bare.rfind("/*"))
    if match is None:
        return text, None
    tags = _read(match.group(1))
    if tags is None:
        return text, None
    return (bare[: match.start()] + bare[match.end() :]).strip(), tags


@lru_cache(maxsize=4096)
def _read(comment: str) -> Tags | None:
    """The tags of a comment; None if it is not a list of pairs that anybody knows."""
    values: dict[str, str] = {}
    position = 0
    comment = comment.strip()
    while position < len(comment):
        pair = _PAIR.match(comment, position)
        if pair is None:
            return None
        quoted, plain = pair.group(2), pair.group(3)
        value = unquote(quoted.replace("\\'", "'")) if quoted is not None else plain.strip()
        values[unquote(pair.group(1)).lower()] = value
        position = pair.end()
    if not values.keys() & _KNOWN:
        return None
    return Tags(_trace(values), _route(values), _place(values))


def _first(values: dict[str, str], *names: str) -> str:
    return next((values[name] for name in names if values.get(name)), "")


def _trace(values: dict[str, str]) -> str:
    match = _TRACE.match(values.get("traceparent", ""))
    return match.group(1) if match else _first(values, "trace_id", "request_id")


def _route(values: dict[str, str]) -> str:
    """The name of the page or job; a pattern of a route loses the signs of its regular expression's
    ends.
    """
    route = _first(values, "route", "http.route").removeprefix("^").removesuffix("$")
    method = _first(values, "request_method", "http.method")
    if route:
        return f"{method} {route}".strip()
    controller, action = (
        _first(values, "namespaced_controller", "controller"),
        _first(values, "action"),
    )
    if controller or action:
        return "/".join(filter(None, (controller, action)))
    return _first(values, "job", "job_name", "path")


def _place(values: dict[str, str]) -> CallSite | None:
    """The line of code, or the file, or the controller's action: as near as the comment says."""
    file = _first(values, "file", "filepath", "code.filepath", "source_location", "source", "line")
    line = _first(values, "lineno", "code.lineno") or (
        values.get("line", "") if file != values.get("line") else ""
    )
    function = _first(values, "function", "method", "code.function")
    inside = re.match(r"(.+?):(\d+)(?::in [`'](.*)')?$", file)
    if inside:
        file, line = inside.group(1), inside.group(2)
        function = inside.group(3) or function
    if file and not file.isdigit():
        return CallSite(file, whole_number(line) or 0, function)
    controller, action = (
        _first(values, "namespaced_controller", "controller"),
        _first(values, "action"),
    )
    return CallSite(controller, 0, action) if controller else None
