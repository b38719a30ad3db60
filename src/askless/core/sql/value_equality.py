"""What values mean, whatever form they came in: 7, '7' and Decimal('7.00') are one number, a UUID
and its text one key.

Keys flow from a result into a parameter through drivers and applications, which change types on the
way.
"""

from __future__ import annotations

import json
import re

from askless.core.sql.slots import Value

_HEXADECIMAL = re.compile(r"[0-9a-f]{32}")
_MOMENT = re.compile(
    r"\d{4}-\d\d-\d\d(?:[ T]\d\d:\d\d(?::\d\d(?:\.\d+)?)?(?:Z|[+-]\d\d(?::?\d\d)?)?)?"
)
_NUMBERS = ("Decimal", "float", "int")
_LISTS = ("list", "tuple")


def meaning(value: Value) -> Value:
    """The value that all forms of one key have in common; for most values themselves."""
    if value is None or type(value) is int:
        return value
    if isinstance(value, str):
        return _of_text(value)
    if isinstance(value, bool):
        return int(value)
    if isinstance(value, float):
        return int(value) if value.is_integer() else value
    if isinstance(value, tuple) and len(value) == 2:
        kind, text = value
        if kind in _NUMBERS:
            return _of_number(text, value)
        if kind == "bytes" and len(text) == 32:  # the bytes of a UUID
            return text.lower()
        return value if kind in ("bytes", "cut str", "cut bytes") else _of_text(text)
    return value


def _of_text(text: str) -> Value:
    if text.isdigit() and (text[0] != "0" or text == "0") and text.isascii():
        return int(text) if len(text) <= 18 else text
    if len(text) in (32, 36):
        plain = text.replace("-", "").lower()
        if _HEXADECIMAL.fullmatch(plain) and (len(text) == 32 or text.count("-") == 4):
            return plain
    if "-" in text and _MOMENT.fullmatch(text):
        return _of_moment(text)
    return text


def _of_moment(text: str) -> str:
    """A date, or a moment to the second, as ISO 8601 writes it with a space."""
    text = text.replace("T", " ").replace("Z", "+00:00")
    text = re.sub(r"(\.\d*?)0+(?=$|[+-])", r"\1", text)
    return text.replace(".+", "+").removesuffix(".")


def _of_number(text: str, value: Value) -> Value:
    try:
        number = float(text)
    except ValueError:
        return value
    if not number.is_integer() or abs(number) >= 2**53:
        return number if abs(number) < 2**53 else _of_text(text)
    return int(number)


def single(value: Value) -> tuple[bool, Value]:
    """Whether a list has just one value, and that: a list of the driver's (`= ANY($1)`), or a
    server's array as text.
    """
    if isinstance(value, tuple) and len(value) == 2 and value[0] in _LISTS:
        try:
            items = json.loads(value[1])
        except ValueError:
            return False, None
        plain = (
            isinstance(items, list) and len(items) == 1 and not isinstance(items[0], list | dict)
        )
        return plain, items[0] if plain else None
    if isinstance(value, str) and value[:1] == "{" and value[-1:] == "}":
        inner = value[1:-1].strip()
        alone = bool(inner) and not any(sign in inner for sign in ",{}")
        return alone, inner.strip('"') if alone else None
    return False, None
