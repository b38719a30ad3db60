"""Whole numbers in text that anyone may have written."""

from __future__ import annotations

DIGITS_MOST = 18  # as many as a signed 64-bit number has for certain


def whole_number(text: str) -> int | None:
    """The number that ASCII digits write; None for anything else. `str.isdigit` says yes to "²",
    which `int` refuses, and `int` refuses thousands of digits.
    """
    if text.isascii() and text.isdigit() and len(text) <= DIGITS_MOST:
        return int(text)
    return None
