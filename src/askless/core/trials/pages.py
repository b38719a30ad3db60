"""Whether a page is still the same: what differs between two answers of the unchanged program is
learned first and set apart, and every other difference counts.

An answer is a tree: of JSON its own, of HTML its elements, of other text its lines. A `Template` is
made of several answers of the unchanged program. Texts are compared word by word, so that a clock
or a token in a sentence leaves the rest of it to be compared.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from html.parser import HTMLParser
from typing import Any

import msgspec

_VOID = {
    *("area", "base", "br", "col", "embed", "hr", "img", "input", "link", "meta", "source"),
    *("track", "wbr"),
}
_WORDS = re.compile(r"\w+|\W")
_SHOWN_MOST = 120  # characters of a value in a difference
# The headers that say what a page is; others tell of the server, the moment or the connection.
HEADERS = ("content-type", "location", "content-disposition", "content-language", "vary", "allow")


class Answer(msgspec.Struct, frozen=True):
    """What a page answered: its status, its headers (names in lower case) and its body."""

    status: int
    headers: tuple[tuple[str, str], ...]
    body: bytes


class PageDifference(msgspec.Struct, frozen=True):
    """The first place where a page differs: where in the answer, what the unchanged program gives
    there, and what came.
    """

    where: str
    before: str
    after: str


class _Any:
    """What differs between answers of the unchanged program."""


class _Unordered(msgspec.Struct):
    """A list whose items come in another order each time."""

    items: list[Any]


class _Words(msgspec.Struct):
    """A text by its words and the characters between them; None for one that differs."""

    words: list[str | None]


_ANY = _Any()
_NOTHING = "(nothing)"


def tree_of(answer: Answer) -> Any:
    """An answer as dicts, lists and plain values."""
    headers: dict[str, list[str]] = {}
    for name, value in answer.headers:
        if name in HEADERS:
            headers.setdefault(name, []).append(value)
        elif name == "set-cookie":
            headers.setdefault("cookies", []).append(value.split("=", 1)[0])
    kind = ", ".join(headers.get("content-type", [])).lower()
    body = _body(answer.body, kind)
    return {"status": answer.status, "headers": headers, "body": body}


def _body(body: bytes, kind: str) -> Any:
    if "json" in kind:
        try:
            return msgspec.json.decode(body)
        except (msgspec.DecodeError, UnicodeDecodeError):
            pass
    try:
        text = body.decode("utf-8")
    except UnicodeDecodeError:
        text = body.decode("latin-1")
    if "html" in kind or "xml" in kind:
        parser = _Elements()
        parser.feed(text)
        parser.close()
        return parser.root["children"]
    return text.splitlines()


class _Elements(HTMLParser):
    """The elements of a page: tag, attributes, and children, which are elements or texts."""

    def __init__(self) -> None:
        super().__init__(convert_charrefs=True)
        self.root: dict[str, Any] = {"tag": "", "children": []}
        self.open = [self.root]

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        """Open an element below the one that is open."""
        element = {"tag": tag, "attributes": dict(attrs), "children": []}
        self.open[-1]["children"].append(element)
        if tag not in _VOID:
            self.open.append(element)

    def handle_startendtag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        """An element without children."""
        self.open[-1]["children"].append({"tag": tag, "attributes": dict(attrs), "children": []})

    def handle_endtag(self, tag: str) -> None:
        """Close the element, and those inside of it that were left open."""
        for place in range(len(self.open) - 1, 0, -1):
            if self.open[place]["tag"] == tag:
                del self.open[place:]
                return

    def handle_data(self, data: str) -> None:
        """A text; the space around it does not show."""
        if data.strip():
            self.open[-1]["children"].append(" ".join(data.split()))

    def handle_comment(self, data: str) -> None:
        """A comment is a part of the answer, too."""
        self.open[-1]["children"].append("<!--" + data.strip() + "-->")


def template_of(answers: Sequence[Answer]) -> Any:
    """What answers of the unchanged program have in common. Raises ValueError without one."""
    if not answers:
        raise ValueError("no answer to learn from")
    return _common([tree_of(answer) for answer in answers])


def first_difference(template: Any, answer: Answer) -> PageDifference | None:
    """The first place where an answer is none that the unchanged program gives; None if it is."""
    return _differs(template, tree_of(answer), "")


def set_apart(template: Any) -> int:
    """How many places of a page differ by themselves, and are not compared."""
    if isinstance(template, _Any | _Unordered):
        return 1
    if isinstance(template, _Words):
        return sum(word is None for word in template.words)
    if isinstance(template, dict):
        return sum(map(set_apart, template.values()))
    return sum(map(set_apart, template)) if isinstance(template, list) else 0


def _common(values: Sequence[Any]) -> Any:
    first = values[0]
    if all(_same(first, value) for value in values[1:]):
        return first
    if all(isinstance(value, dict) for value in values):
        names = dict.fromkeys(name for value in values for name in value)
        return {
            name: _common([value[name] for value in values])
            if all(name in value for value in values)
            else _ANY
            for name in names
        }
    if all(isinstance(value, list) for value in values):
        return _common_list(values)
    if all(isinstance(value, str) for value in values):
        return _common_text(values)
    return _ANY


def _common_list(values: Sequence[list[Any]]) -> Any:
    if len({len(value) for value in values}) > 1:
        return _ANY
    counted = [Counter(map(_frozen, value)) for value in values]
    if all(one == counted[0] for one in counted[1:]):
        return _Unordered(values[0])
    return [_common(items) for items in zip(*values, strict=True)]


def _common_text(values: Sequence[str]) -> Any:
    parted = [_WORDS.findall(value) for value in values]
    if len({len(words) for words in parted}) > 1:
        return _ANY
    return _Words(
        [words[0] if len(set(words)) == 1 else None for words in zip(*parted, strict=True)]
    )


def _differs(template: Any, value: Any, path: str) -> PageDifference | None:
    if isinstance(template, _Any):
        return None
    if isinstance(template, _Unordered):
        return _differs_unordered(template, value, path)
    if isinstance(template, _Words):
        return _differs_words(template, value, path)
    if isinstance(template, dict) and isinstance(value, dict):
        return _differs_by_name(template, value, path)
    if isinstance(template, list) and isinstance(value, list):
        return _differs_by_place(template, value, path)
    return None if _same(template, value) else PageDifference(path, _shown(template), _shown(value))


def _differs_by_name(
    template: dict[str, Any], value: dict[str, Any], path: str
) -> PageDifference | None:
    for name in dict.fromkeys((*template, *value)):
        if isinstance(template.get(name), _Any):
            continue
        below = _below(path, name)
        if name not in template:
            return PageDifference(below, _NOTHING, _shown(value[name]))
        if name not in value:
            return PageDifference(below, _shown(template[name]), _NOTHING)
        if (difference := _differs(template[name], value[name], below)) is not None:
            return difference
    return None


def _differs_by_place(template: list[Any], value: list[Any], path: str) -> PageDifference | None:
    for place, (one, other) in enumerate(zip(template, value, strict=False)):
        if (difference := _differs(one, other, f"{path}[{place}]")) is not None:
            return difference
    if len(template) != len(value):
        return PageDifference(path, f"{len(template)} items", f"{len(value)} items")
    return None


def _differs_unordered(template: _Unordered, value: Any, path: str) -> PageDifference | None:
    if not isinstance(value, list):
        return PageDifference(path, f"{len(template.items)} items", _shown(value))
    wanted, came = Counter(map(_frozen, template.items)), Counter(map(_frozen, value))
    if wanted == came:
        return None
    lost = next((one for one in template.items if _frozen(one) in wanted - came), _NOTHING)
    more = next((one for one in value if _frozen(one) in came - wanted), _NOTHING)
    return PageDifference(path + "[in any order]", _shown(lost), _shown(more))


def _differs_words(template: _Words, value: Any, path: str) -> PageDifference | None:
    before = "".join("…" if word is None else word for word in template.words)
    words = _WORDS.findall(value) if isinstance(value, str) else []
    is_same = len(words) == len(template.words) and all(
        one is None or one == other for one, other in zip(template.words, words, strict=True)
    )
    return None if is_same else PageDifference(path, _cut(before), _shown(value))


def _same(one: Any, other: Any) -> bool:
    """Equal, and of one type: JSON's true is no 1."""
    return bool(_frozen(one) == _frozen(other))


def _frozen(value: Any) -> Any:
    if isinstance(value, dict):
        return frozenset((name, _frozen(one)) for name, one in value.items())
    if isinstance(value, list):
        return tuple(map(_frozen, value))
    return type(value).__name__, value


def _below(path: str, name: str) -> str:
    return f"{path}.{name}" if path else name


def _shown(value: Any) -> str:
    if isinstance(value, _Any | _Unordered | _Words):
        return "…"
    if isinstance(value, dict) and "tag" in value:
        return _cut(f"<{value['tag']}>")
    return _cut(value if isinstance(value, str) else str(value))


def _cut(text: str) -> str:
    return text if len(text) <= _SHOWN_MOST else text[: _SHOWN_MOST - 1] + "…"
