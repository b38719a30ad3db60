"""Statement text to shape: what varies taken out, so that queries which differ only by a key have
one shape.

Taken out: literals, placeholders (of any style, with a cast that a client puts after them), the
length of IN lists and of VALUES, comments, spacing, the case of unquoted words, a final semicolon.
Kept: everything else.
"""

from __future__ import annotations

import re
from functools import lru_cache
from hashlib import blake2b

import msgspec

from askless.core.sql.tokens import pattern_of
from askless.core.systems import REGISTRY, noise_of

_HELD = "\x01"  # stands for a quoted name while words are put in lower case
_SPACED = re.compile(r"\s*(<=>|<=|>=|<>|!=|\|\||::|=|<|>|,|\(|\))\s*")
_SIGNED = re.compile(
    r"((?:[=<>(,]|\blimit|\boffset|\bbetween|\band|\bthen|\belse|\bwhen|\bselect) ?)[-+] ?\?"
)
_PREFIXED = re.compile(r"(?<![\w?])(?:[exnb]|u&|_utf8(?:mb4)?)\?")
_CAST = re.compile(
    r"\?(?:::(?:character varying|double precision|(?:timestamp|time) with(?:out)? time "
    r"zone|[a-z_][\w.]*)(?:\[\])*)+"
)
_ITEM = r"(?:\?|null|true|false|default)"
_NULL_VALUE = re.compile(r"(?<== )(?:null|true|false)\b(?! ?[(.])")
_ROW = rf"\({_ITEM}(?:, {_ITEM})*\)"
_IN_LIST = re.compile(rf"\bin\((?:{_ITEM}|{_ROW})(?:, (?:{_ITEM}|{_ROW}))*\)")
_ROWS = re.compile(rf"\bvalues{_ROW}(?:, {_ROW})*")
# What is taken out after the literals, in this order: a pattern is tried only if one of its signs
# is there, as each takes long.
_REDUCED = (
    (("e?", "x?", "n?", "b?", "&?", "8?", "4?"), _PREFIXED, "?"),
    (("= null", "= true", "= false"), _NULL_VALUE, "?"),
    (("::",), _CAST, "?"),
    (("-", "+"), _SIGNED, r"\1?"),
    (("in(",), _IN_LIST, "in(?)"),
    (("values(",), _ROWS, "values(?)"),
)
# Control traffic of any system, and standard catalogs; what is particular to a system is in
# `systems`.
_NOISE = re.compile(
    r"(?:begin|commit|rollback|end|start transaction|savepoint|release|pragma|show|deallocate"
    r"|discard|reset|use|listen"
    r"|unlisten|close|set)(?:$|[ ;(])"
    r"|select \?(?: as \S+)?(?: from dual)?$|select (?:version|current_user|user)\(\??\)(?: as "
    r"\S+)?$|$"
)
# The name of a cursor, which drivers and ORMs make up again each time.
_CURSOR = re.compile(
    r"^(declare )(?:\"[^\"]+\"|[^\s\"]+)(?= .*?cursor)|^((?:fetch|move) (?:[\w?]+ )*?(?:from|in) "
    r"|close )(?:\"[^\"]+\"|[^\s\"]+)$"
)
_QUOTED = re.compile(r'["`\[](\w+)["`\]]')
_CATALOG = r"information_schema\."


class Shape(msgspec.Struct, frozen=True):
    """A statement with what varies taken out.

    `digest` is 12 hexadecimal characters of BLAKE2b, the same in every process and on every
    machine. `noise` says that the application's author did not write it: session settings,
    transaction control, catalog lookups, pings.
    """

    text: str
    digest: str
    noise: bool

    @property
    def has_list(self) -> bool:
        """Whether an IN with a list of values is part of it: a list of one and a long one are of
        one shape.
        """
        return "in(?)" in self.text


def shape_text(text: str, system: str = "sqlite") -> str:
    """The text of a statement's shape. Applied to its own result it changes nothing."""
    held: list[str] = []

    def replace(match: re.Match[str]) -> str:
        kind = match.lastgroup
        if kind == "name":
            held.append(match.group())
            return _HELD
        return " " if kind == "comment" else "?"

    flat = " ".join(pattern_of(system).sub(replace, text.replace(_HELD, " ")).lower().split())
    flat = _SPACED.sub(_space, flat).strip(" ;")
    for signs, pattern, instead in _REDUCED:
        if any(map(flat.__contains__, signs)):
            flat = pattern.sub(instead, flat)
    if held:
        names = iter(held)
        flat = re.sub(_HELD, lambda _: next(names), flat)
    if flat.startswith(("declare ", "fetch ", "move ", "close ")):
        flat = _CURSOR.sub(lambda match: f"{match[1] or match[2]}?", flat)
    return flat


def _space(match: re.Match[str]) -> str:
    sign = match.group(1)
    if sign == ",":
        return ", "
    if sign in ("(", "::"):
        return sign
    if sign == ")":
        following = match.string[match.end() : match.end() + 1]
        return ") " if following and following not in "),;:" else ")"
    return f" {sign} "


def is_noise(shape: str) -> bool:
    """Whether a shape's text is control traffic rather than something that the application's author
    wrote.
    """
    if any(map(shape.__contains__, '"`[')):
        shape = _QUOTED.sub(r"\1", shape)
    noise, catalogs = noise_of(tuple(REGISTRY), _CATALOG)
    return bool(_NOISE.match(shape) or noise.match(shape) or catalogs.search(shape))


def shape_of(text: str, system: str = "sqlite") -> Shape:
    """The shape of a statement in the SQL of `system` (sqlite, postgresql, mysql, mariadb)."""
    flat = shape_text(text, system)
    return Shape(
        flat, blake2b(flat.encode("utf-8", "replace"), digest_size=6).hexdigest(), is_noise(flat)
    )


# A literal. It begins with a set of characters, so the scanner skips fast; the look-behinds then
# say what it began with.
_LITERAL = re.compile(
    r"['0-9](?:(?<=')(?:[^']|'')*+'|(?<=\d)(?<![\w$@:?.]\d)"
    r"(?:[xX][0-9a-fA-F]++|[\d_]*+(?:\.\d*+)?(?:[eE][+-]?\d++)?))"
)
_CLOSE_LOOK = ('"', "`", "--", "/*", "\\", "#", "$", "[")
_CACHE_MAX = 50_000


class Shaper:
    """Shapes of many texts of one system: a bounded cache of texts, and of texts with their
    literals taken out.

    A text with inlined literals never comes again, so only what one fast pass leaves of it is
    remembered.
    """

    def __init__(self, system: str = "sqlite") -> None:
        self.system = system
        self._known: dict[str, Shape] = {}

    def shape(self, text: str) -> Shape:
        """The shape of a text; equal to `shape_of(text, system)`."""
        known = self._known.get(text)
        if known is not None:
            return known
        template = text
        if not any(map(text.__contains__, _CLOSE_LOOK)):
            template = _LITERAL.sub("?", text)
            known = self._known.get(template)
            if known is not None:
                return known
        if len(self._known) >= _CACHE_MAX:
            self._known.clear()
        shape = self._known[template] = shape_of(template, self.system)
        return shape


@lru_cache(maxsize=16)
def shaper_of(system: str) -> Shaper:
    """The shaper of a system for all captures that this process reads: their pieces have the same
    texts.
    """
    return Shaper(system)
