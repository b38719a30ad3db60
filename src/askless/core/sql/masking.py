"""Statements as reports show them: values taken out unless the reader asked for them."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from askless.core.sql.slots import Value
from askless.core.sql.tokens import tokens


def masked(text: str, system: str) -> str:
    """The text with every literal replaced by ?, and without comments, which may hold anything;
    placeholders stay.
    """
    pieces = []
    position = 0
    for token in tokens(text, system):
        if token.kind == "comment":
            pieces += [text[position : token.start].rstrip(" \t"), " "]
            position = token.end
        elif token.kind == "literal":
            pieces += [text[position : token.start], "?"]
            position = token.end
    return ("".join(pieces) + text[position:]).strip()


def masker(system: str, show: bool) -> Callable[[str], str]:
    """What a report does to statements and conditions: nothing if values were asked for, else
    `masked`.
    """
    return (lambda text: text) if show else (lambda text: masked(text, system))


def shown_value(value: Value, longest: int = 40) -> str:
    """A value as a report shows it when values were asked for."""
    if isinstance(value, tuple):
        return f"<{value[0]}>"
    text = repr(value)
    return text if len(text) <= longest else text[: longest - 1] + "…"


def shown_values(values: Sequence[Value]) -> str:
    """Several values, separated by commas."""
    return ", ".join(shown_value(value) for value in values)
