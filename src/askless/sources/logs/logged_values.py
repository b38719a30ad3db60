"""Values as programs print them into logs: JSON, Python's and JavaScript's own forms, pairs of
names and values.
"""

from __future__ import annotations

import ast
import json
import re
from collections.abc import Mapping, Sequence
from typing import Any

from askless.core.sql.slots import Value, literal_value
from askless.sources.otlp.spans import parameters_of

Values = tuple[tuple[Value, ...], tuple[str, ...]]  # values, and their names where they have some

_NONE: Values = ((), ())
_JAVASCRIPT = re.compile(
    r"""\s*(?:(?P<text>'(?:[^'\\]|\\.)*'|"(?:[^"\\]|\\.)*"|`(?:[^`\\]|\\.)*`)|(?P<number>-?\d+(?:\.\d+)?)n?|(?P<word>null|undefined|true|false))\s*(?:,|$)"""
)
_ESCAPED = re.compile(r"\\(u[0-9a-fA-F]{4}|x[0-9a-fA-F]{2}|.)", re.DOTALL)
_ESCAPES = {"n": "\n", "t": "\t", "r": "\r", "b": "\b", "f": "\f"}
_WORDS: dict[str, Value] = {"null": None, "undefined": None, "true": True, "false": False}


def values_of(given: Any) -> Values:
    """The values of what a log has for parameters; none where they can't be read."""
    if isinstance(given, str):
        try:
            given = json.loads(given)
        except ValueError:
            return _of_text(given)
    if isinstance(given, Mapping):
        names = [str(name).lstrip("$:@") for name in given]
        values = tuple(map(plain, given.values()))
        in_order = names == [str(place) for place in range(1, len(names) + 1)]
        return (values, ()) if in_order else (values, tuple(names))
    if not isinstance(given, list):
        return _NONE
    if given and all(
        isinstance(pair, list) and len(pair) == 2 and isinstance(pair[0], str | None)
        for pair in given
    ):
        return tuple(plain(value) for _, value in given), ()
    return tuple(map(plain, given)), ()


def _of_text(text: str) -> Values:
    logged = parameters_of({"db.statement.parameters": text})
    if logged.values:
        return logged.values, logged.names
    if text.startswith("[") and text.endswith("]"):
        values, at, inner = [], 0, text[1:-1].strip()
        while at < len(inner):
            match = _JAVASCRIPT.match(inner, at)
            if match is None:
                return _NONE
            values.append(_javascript(match))
            at = match.end()
        return tuple(values), ()
    return _NONE


def _javascript(match: re.Match[str]) -> Value:
    if match["text"]:
        return _ESCAPED.sub(_unescaped, match["text"][1:-1])
    return literal_value(match["number"]) if match["number"] else _WORDS[match["word"]]


def _unescaped(match: re.Match[str]) -> str:
    sign = match[1]
    return chr(int(sign[1:], 16)) if len(sign) > 1 else _ESCAPES.get(sign, sign)


def plain(value: Any) -> Value:
    """A value of JSON as a parameter."""
    return (
        value
        if value is None or isinstance(value, bool | int | float | str)
        else ("text", json.dumps(value))
    )


def listed(text: str, count: int) -> tuple[Value, ...]:
    """Texts with commas between, as Java prints a list; none where these are not as many as there
    are placeholders.
    """
    values: Sequence[str] = text.split(", ") if text else ()
    return (
        tuple(None if value == "null" else value for value in values)
        if len(values) == count
        else ()
    )


def unquoted(text: str) -> str:
    """A statement that was printed as a text of Python's, in its quotes; any other as it is."""
    if text[:1] not in ("'", '"') or text[-1:] != text[:1]:
        return text
    try:
        return str(ast.literal_eval(text))
    except (ValueError, SyntaxError):
        return text
