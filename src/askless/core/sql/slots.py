"""The slots of a statement: every place where a literal or a placeholder is, numbered in order of
the text.

`values` lines a query's literals and parameters up with the slots, so that a lookup by key reads
the same whether the key was bound or written into the text.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

import msgspec

from askless.core.sql.tokens import tokens
from askless.core.whole_numbers import whole_number

# What JSON has no word for is the name of its type and its text.
Value = None | bool | int | float | str | tuple[str, str]


class Slot(msgspec.Struct, frozen=True):
    """One slot: `literal` as written, or `placeholder` with its number (from 1) or name, if it has
    one.
    """

    placeholder: bool
    text: str
    start: int
    end: int


def slots_of(text: str, system: str) -> list[Slot]:
    """All slots of a text, in order."""
    return [
        Slot(token.kind == "placeholder", token.text, token.start, token.end)
        for token in tokens(text, system)
        if token.kind in ("literal", "placeholder")
    ]


def literal_value(text: str) -> Value:
    """The value of a literal as written: an int, a float or a text."""
    if text[:1] in "'\"$":
        quote = text[:1]
        if quote == "$":
            return text.split("$", 2)[-1].rsplit("$", 2)[0]
        return text[1:].removesuffix(quote).replace(quote * 2, quote)
    try:
        return int(text, 0) if text[:1] != "0" or text[1:2] in "xX" else int(text)
    except ValueError:
        try:
            return float(text)
        except ValueError:
            return text


def name_of(slot: Slot) -> str:
    """The name or number of a placeholder; '' for a plain one."""
    if slot.text in ("?", "%s"):
        return ""
    return slot.text[2:-2] if slot.text.startswith("%(") else slot.text.lstrip("?$:@")


def values_of(
    slots: Sequence[Slot], parameters: Sequence[Value], names: Sequence[str] = ()
) -> list[Value]:
    """The value in each slot. A placeholder without a parameter gives None."""
    by_name = dict(zip(names, parameters, strict=False))
    values: list[Value] = []
    position = 0
    for slot in slots:
        if not slot.placeholder:
            values.append(literal_value(slot.text))
            continue
        key = name_of(slot)
        if by_name and key in by_name:
            values.append(by_name[key])
        elif key.isdigit():
            place = whole_number(key) or 0
            values.append(parameters[place - 1] if 0 < place <= len(parameters) else None)
        else:
            values.append(parameters[position] if position < len(parameters) else None)
            position += 1
    return values


_MARK_NUMBER = 7_700_000_000
_MARK_TEXT = re.compile(r"~slot(\d+)~")


def marked(text: str, slots: Sequence[Slot]) -> str:
    """The text with each slot's number written into it, in a form that any SQL parser keeps: see
    `slot_number`.
    """
    pieces = []
    position = 0
    for number, slot in enumerate(slots):
        pieces.append(text[position : slot.start])
        if slot.placeholder:
            pieces.append(f":slot{number}")
        elif slot.text[:1] in "'\"$":
            pieces.append(f"'~slot{number}~'")
        else:
            pieces.append(str(_MARK_NUMBER + number))
        position = slot.end
    return "".join(pieces) + text[position:]


def slot_number(text: str) -> int | None:
    """The number that `marked` wrote into a literal or a placeholder's name; None if it wrote
    none.
    """
    match = _MARK_TEXT.fullmatch(text)
    if match:
        return whole_number(match.group(1))
    if text.startswith("slot"):
        return whole_number(text[4:])
    number = whole_number(text)
    if number is not None and _MARK_NUMBER <= number < _MARK_NUMBER + 1_000_000:
        return number - _MARK_NUMBER
    return None
