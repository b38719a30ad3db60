"""Statements as reports show them: values taken out unless the reader asked for them."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from askless.core.sql.slots import Value, slots_of


def masked(text: str, system: str) -> str:
    """The text with every literal replaced by ?; placeholders stay as they are."""
    pieces = []
    position = 0
    for slot in slots_of(text, system):
        if not slot.placeholder:
            pieces += [text[position : slot.start], "?"]
            position = slot.end
    return "".join(pieces) + text[position:]


def masker(system: str, show: bool) -> Callable[[str], str]:
    """What a report does to statements and conditions: nothing where values were asked for, else `masked`."""
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
