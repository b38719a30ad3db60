"""Names of routes: of the pattern that a framework matched, or guessed from the path where there is
none.
"""

import re

_CONVERTER = re.compile(r"<(?:([^<>:]*):)?([^<>:]+)>")
_BRACED = re.compile(r"\{([^{}:]+):([^{}]*)\}")
_QUANTIFIER = re.compile(r"(?:[*+?]|\{\d*,?\d*\})[?+]?")
_LOOKING = ("(?=", "(?!", "(?<=", "(?<!", "(?#")
_NAMED_GROUP = re.compile(r"\(\?P<(\w+)>")
_FLAGS = re.compile(r"\(\?[a-zA-Z-]+(:|\))")
# A part of a path that is one of many: numbers, several of them, UUIDs, hashes, codes like H00042,
# long tokens.
_PART = re.compile(
    r"""(?:\d+(?:[,;:_~-]\d+)*
        |[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F-]{22}
        |[0-9a-fA-F]{16,}
        |[A-Za-z]{1,3}[-_]?\d{3,}
        |(?=[^/]*\d)(?=[^/]*[A-Za-z])[\w~=-]{20,}
    )$""",
    re.X,
)
_FILE = re.compile(r"^(.+?)(\.[A-Za-z][A-Za-z0-9]{0,4})$")
KINDS_MOST = 50  # first parts of a path by which a pattern that takes any path is distinguished
_kinds = {}  # such a pattern -> the first parts seen


def guessed(method, path):
    """A route for an application that names none: what looks like an identifier becomes {id}, a row
    of them {ids}.
    """
    return "%s %s" % (method, shape_of(path) or "/")


def shape_of(path):
    """The path with placeholders for what looks like identifiers."""
    parts = []
    for part in path.split("/"):
        whole, ending = part, ""
        if not _PART.match(part):
            file = _FILE.match(part)
            if file:
                whole, ending = file.groups()
        parts.append("{id}" + ending if part and _PART.match(whole) else part)
    shape = "/".join(parts)
    return re.sub(r"/\{id\}(?:/\{id\}){2,}(?=/|$)", "/{ids}", shape)


def named(method, pattern, path):
    """A route by its pattern; one that takes any path is distinguished by the path it took.

    The first part of what the placeholder stands for is kept, of the parts after it only their
    number, and no more first parts than KINDS_MOST: an application may have any number of pages at
    its root.
    """
    match = re.match(r"^(.*/)?\{[^{}]*\}/?$", pattern)
    head = match.group(1) or "/" if match else ""
    if not match or "{" in head or not path.startswith(head):
        return "%s %s" % (method, pattern)
    parts = [part for part in path[len(head) :].split("/") if part]
    if len(parts) < 2:
        return "%s %s" % (method, pattern)
    seen = _kinds.setdefault(pattern, set())
    if parts[0] not in seen:
        if len(seen) >= KINDS_MOST or _PART.match(parts[0]):
            return "%s %s" % (method, pattern)
        seen.add(parts[0])
    return "%s %s%s%s" % (method, head, parts[0], "/{}" * (len(parts) - 1))


def from_converters(pattern):
    """`<int:number>` (Django, Flask) and `{number:int}` (Starlette) as {number}."""
    return _BRACED.sub(r"{\1}", _CONVERTER.sub(r"{\2}", pattern))


def from_regex(pattern):
    r"""A regular expression as a path: `^calls/(?P<number>\d+)/$` is calls/{number}/. Of an alternative the first counts."""
    out, i, groups = [], 0, 0
    while i < len(pattern):
        piece, i, groups = _piece(pattern, i, groups)
        out.append(piece)
    return "".join(out)


def _piece(text, i, groups):
    """What the piece at i stands for, if the next one begins, and the number of groups so far."""
    char = text[i]
    if char in "^$":
        return "", i + 1, groups
    if char == "|":
        return "", len(text), groups
    if char == "<":
        match = _CONVERTER.match(text, i)
        if match:
            return "{%s}" % match.group(2), match.end(), groups
    if char == "\\" and i + 1 < len(text):
        escaped = text[i + 1]
        end = i + 2
        if escaped in "AZzbB":
            return "", end, groups
        if escaped in "dDwWsS":
            return "{}", _behind(text, end), groups
        return escaped, _behind(text, end), groups
    if char == "[":
        end = text.find("]", i + 2 if text[i + 1 : i + 2] != "^" else i + 3)
        return "{}", _behind(text, (end if end >= 0 else len(text)) + 1), groups
    if char == "(":
        return _group(text, i, groups)
    if char == "." and _QUANTIFIER.match(text, i + 1):
        return "{}", _behind(text, i + 1), groups
    return char, _behind(text, i + 1), groups


def _behind(text, i):
    """Where a quantifier at i, if there is one, ends. A converter's or a format's brace is none."""
    match = _QUANTIFIER.match(text, i)
    return match.end() if match else i


def _group(text, i, groups):
    end = _closing(text, i)
    behind = _behind(text, end + 1)
    if text.startswith(_LOOKING, i):
        return "", behind, groups
    name = _NAMED_GROUP.match(text, i)
    if name:
        return "{%s}" % name.group(1), behind, groups
    flags = _FLAGS.match(text, i)
    if flags and flags.group(1) == ")":
        return "", flags.end(), groups
    if flags or text.startswith("(?:", i):
        inner = text[flags.end() if flags else i + 3 : end]
        many = text[end + 1 : end + 2] in ("*", "+")
        return "{}" if many else from_regex(inner), behind, groups
    return "{%d}" % (groups + 1), behind, groups + 1


def _closing(text, i):
    """Where the bracket that opens at i closes."""
    depth, inside = 0, False
    while i < len(text):
        char = text[i]
        if char == "\\":
            i += 1
        elif inside:
            inside = char != "]"
        elif char == "[":
            inside = True
        elif char == "(":
            depth += 1
        elif char == ")":
            depth -= 1
            if depth == 0:
                return i
        i += 1
    return len(text)
