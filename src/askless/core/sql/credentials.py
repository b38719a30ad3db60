"""Statements that carry a password or a key: they are recorded without it.

The recorder inside of programs imports nothing of ours: its module is a link to this file, which
therefore needs Python 3.9 and the standard library alone.
"""

from __future__ import annotations

import re

MASK = "'***'"
# One of these words is in every text that is looked at any closer.
HINTS = (
    "passw",
    "identified",
    "mapping",
    "server",
    "subscription",
    "conninfo",
    "secret",
    "credential",
    "key",
    "crypt",
    "://",
)
# What only reads or changes rows: its literals are data, unless one of them is itself a way to
# connect.
_ROWS = re.compile(
    r"(?:\s|\(|/\*(?:[^*]|\*(?!/))*\*/|--[^\n]*\n|#[^\n]*\n)*(?:select|insert|update|delete|with"
    r"|values|merge|replace|table|explain|fetch)\b",
    re.I | re.S,
)
_CARRIES = re.compile(
    r"passw|\bidentified\b|\buser\s+mapping\b|\b(?:create|alter)\s+(?:or\s+replace\s+)?server\b"
    r"|\bsubscription\b|conninfo"
    r"|\bsecret\b|credential|\b(?:master|private|encryption|symmetric|asymmetric|pragma)\s{0,"
    r"9}\w{0,40}\s{0,9}(?:re)?key\b"
    r"|\battach\b[^;]{0,500}?\bkey\b",
    re.I | re.S,
)
_COMMENTS = re.compile(r"/\*(?:[^*]|\*(?!/))*\*/|--[^\n]*|#[^\n]*")
# A string of any kind, an unfinished one to the end of the text: 'x', E'x', "x", $$x$$, $a$x$a$,
# 0x41.
_LITERAL = re.compile(
    r"\$([A-Za-z_]\w*|)\$.*?(?:\$\1\$|\Z)|(?:\b[A-Za-z]|[Uu]&)?'(?:[^'\\]|\\.|'')*(?:'|\Z)"
    r"|\"(?:[^\"\\]|\\.|\"\")*(?:\"|\Z)"
    r"|\b0[xX][0-9a-fA-F]+",
    re.S,
)
# Oracle's, without quotes
_BARE = re.compile(r"(\bidentified\s+by\s+(?:values\s+|password\s+)?)([^\s'\"`;(*]+)", re.I)
# A literal that says how to connect: password=tide in it, or a URL with a password.
_CONNECTS = re.compile(r"passw(?:or)?d\s*=|://[^/@\s:]*:[^/@\s]+@", re.I)
# without one of these no literal of such a statement is looked at
_HINTS_IN_ROWS = ("passw", "crypt", "://")
_BEHIND = 40  # characters before a literal that say what it is for
# The literals right after these belong to them, whatever the statement does.
_CALL = re.compile(r"\b(?:old_)?password\s*\(\s*\Z|\bidentified\s+by\s*\Z|\bcrypt\s*\(\s*\Z", re.I)


def cleaned(text: str) -> str:
    """The text without its passwords and keys; the text itself where it carries none."""
    lower = text.lower()
    for hint in HINTS:
        if hint in lower:
            break
    else:
        return text
    if _ROWS.match(text) is None:
        if _CARRIES.search(_COMMENTS.sub(" ", text)) is None:
            return text
        return _BARE.sub(lambda match: match[1] + MASK, _without_literals(_without_comments(text)))
    for hint in _HINTS_IN_ROWS:
        if hint in lower:
            return _LITERAL.sub(lambda match: MASK if _is_own(text, match) else match[0], text)
    return text


def _without_literals(text: str) -> str:
    """The text without its literals: if a backslash may or may not be an escape, all between the
    first quote and the last.
    """
    if "\\" not in text:
        return _LITERAL.sub(MASK, text)
    places = [
        place for quote in "'\"$" for place in (text.find(quote), text.rfind(quote)) if place >= 0
    ]
    return text[: min(places)] + MASK + text[max(places) + 1 :] if places else text


def _without_comments(text: str) -> str:
    """The text without comments, in which a password may stand as well; what only looks like one in
    a string stays.
    """
    pieces: list[str] = []
    start = 0
    for match in re.finditer(
        _LITERAL.pattern + "|(?P<comment>" + _COMMENTS.pattern + ")", text, re.S
    ):
        if match["comment"]:
            pieces += [text[start : match.start()], " "]
            start = match.end()
    return "".join(pieces) + text[start:]


def _is_own(text: str, match: re.Match[str]) -> bool:
    return (
        _CONNECTS.search(match[0]) is not None
        or _CALL.search(text, max(match.start() - _BEHIND, 0), match.start()) is not None
    )
