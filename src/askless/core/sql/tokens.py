"""Finds what varies in a statement's text: literals, placeholders, comments, quoted names, by the
system's own rules.

One compiled pattern a system. Everything that reads SQL text closely (shapes, slots) goes through
these patterns.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache

import msgspec

from askless.core.systems import system_of

# A digit that belongs to no word and no placeholder; the look-after is after the digit, if it costs
# least.
_NUMBER = r"(?:\d(?<![\w$@:?]\d)|\.\d(?<![\w.)?\]\"`]\.\d))(?:[xX][0-9a-fA-F]+|[\d_]*(?:\.\d*)?(?:[eE][+-]?\d+)?)"
# x'41', b'101': no word ends with the letter. Elsewhere than here the letter would be lost from the
# value.
_BITS = r"[xXbB]'(?<![\w$][xXbB]')[0-9a-fA-F]*'"
_PLACEHOLDERS = {
    "?": r"\?\d*",
    "$": r"\$\d+",
    ":": r":(?<!::)(?<![\w?]:)[A-Za-z_]\w*|:(?<!::)(?<![\w?]:)\d+",
    "@": r"@(?<!@@)[A-Za-z_]\w*",
    "%": r"%s|%\(\w+\)s",
}


@lru_cache(maxsize=16)
def pattern_of(system: str) -> re.Pattern[str]:
    """The pattern of a system: groups `comment`, `literal`, `name` and `placeholder`."""
    rules = system_of(system).lexis
    placeholders = "|".join(_PLACEHOLDERS[sign] for sign in rules.placeholders)
    literals = "|".join((_BITS, *rules.extra_literals, rules.string, _NUMBER))
    names = "|".join(rules.names)
    return re.compile(
        rf"(?P<comment>{rules.line_comment}|{rules.block_comment})|(?P<literal>{literals})"
        rf"|(?P<name>{names})"
        rf"|(?P<placeholder>{placeholders})",
        re.DOTALL,
    )


class Token(msgspec.Struct, frozen=True):
    """A varying part of a text: its kind (comment, literal, name, placeholder), and where it is."""

    kind: str
    start: int
    end: int
    text: str


def tokens(text: str, system: str) -> Iterator[Token]:
    """The comments, literals, quoted names and placeholders of a text, in order."""
    for match in pattern_of(system).finditer(text):
        kind = match.lastgroup or ""
        yield Token("literal" if kind == "tag" else kind, match.start(), match.end(), match.group())
