"""Pages, help, messages and docstrings use the glossary's words (docs/glossary.md): the words it
avoids are found here.
"""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src" / "askless"
# Avoided word -> what to write. In pages, help and messages.
AVOIDED = {
    r"\banew\b": "again", r"\bmend(s|ed|ing)?\b": "fix", r"\broads?\b": "alternative", r"\bwhoever\b": "anyone who",
    r"\bnobody\b": "no one, or the passive", r"\bsomebody\b": "someone", r"\blook-ups?\b": "lookup", r"\btime-outs\b": "timeouts",
    r"\bstands? (in|at|on|behind|before|beside)\b": "is in", r"\bhangs? on\b": "depends on", r"\blets? go\b": "release",
    r"\btold apart\b": "distinguished", r"\bwhich pages ask\b": "queries per route", r"\basks? too much\b": "wasteful queries",
    r"\bwhat asks\b": "queries", r"\bthe whole story\b": "in full", r"\bprice of\b": "trade-offs of", r"\bhas the word\b": "decides",
    r"\bwent unseen\b": "unavailable", r"\bharder (data|rows)\b": "synthetic rows", r"\bround-trip time\b": "network latency",
    r"\b(is|are|was) no (?!longer|more|one\b)[a-z]+": "is not a", r"\bso (much|many) (for|to|it)\b": "that much",
    r"\bthe way of each query\b": "network latency", r"\bwithout an end\b": "without LIMIT, unfinished",
}  # fmt: skip
# In docstrings: a start; what is avoided in messages comes here word by word.
IN_DOCSTRINGS = (
    r"\banew\b", r"\bmend(s|ed|ing)?\b", r"\bwhoever\b", r"\bnobody\b", r"\bsomebody\b", r"\blook-ups?\b", r"\btold apart\b",
)  # fmt: skip
# What may stay, and why.
EXCEPTIONS = {
    "there is no": "an ordinary sentence",
    "there are no": "an ordinary sentence",
    "there was no": "an ordinary sentence",
}


def hits(text: str, words: dict[str, str]) -> list[str]:
    """The avoided words of a text, each with what to write."""
    for kept in EXCEPTIONS:
        text = re.sub(kept, "", text, flags=re.IGNORECASE)
    return [
        f"{found[0]!r}: {instead}"
        for word, instead in words.items()
        for found in re.finditer(word, text)
    ]


def messages(path: Path) -> Iterator[tuple[int, str]]:
    """Texts of three words and more that a module may show, with their lines: no docstrings, no
    regular expressions.
    """
    tree = ast.parse(path.read_text())
    skipped: set[ast.AST] = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant):
            skipped.add(node.value)
        if isinstance(node, ast.JoinedStr):
            skipped |= {inner for inner in ast.walk(node) if inner is not node}
    for node in ast.walk(tree):
        if node in skipped or not isinstance(node, ast.Constant | ast.JoinedStr):
            continue
        parts = node.values if isinstance(node, ast.JoinedStr) else [node]
        text = "".join(
            str(part.value) if isinstance(part, ast.Constant) else "{}" for part in parts
        )
        if len(text.split()) >= 3 and "\\" not in text and "(?" not in text:
            yield node.lineno, text


@pytest.mark.parametrize(
    "page", sorted([ROOT / "README.md", *ROOT.glob("docs/**/*.md")]), ids=lambda path: path.name
)
def test_pages_avoid_them(page: Path) -> None:
    if page.name != "glossary.md":  # which lists them
        assert hits(page.read_text(), AVOIDED) == []


def test_messages_avoid_them() -> None:
    found = [
        f"{path.relative_to(SOURCE)}:{line}: {hit}"
        for path in sorted(SOURCE.rglob("*.py"))
        for line, text in messages(path)
        for hit in hits(text, AVOIDED)
    ]
    assert found == []


def test_templates_avoid_them() -> None:
    assert [
        (path.name, hit)
        for path in SOURCE.rglob("*.html")
        for hit in hits(path.read_text(), AVOIDED)
    ] == []


def test_docstrings_avoid_them() -> None:
    words = {word: AVOIDED[word] for word in IN_DOCSTRINGS}
    found = []
    for path in sorted(SOURCE.rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Module | ast.ClassDef | ast.FunctionDef | ast.AsyncFunctionDef):
                found += [
                    f"{path.relative_to(SOURCE)}: {hit}"
                    for hit in hits(ast.get_docstring(node) or "", words)
                ]
    assert found == []


def test_the_words_are_found_where_they_are() -> None:
    assert hits("whoever reads it anew is no reader; there is no other road", AVOIDED) == [
        "'anew': again", "'road': alternative", "'whoever': anyone who", "'is no reader': is not a",
    ]  # fmt: skip


# Participles as names: say what it is that was found, told, asked, made or kept.
NAMES_AVOIDED = {"asked", "found", "kept", "made", "told"}
NAMES_EXCEPTED = {("capture/events.py", "told"): "a key of the capture's format, since version 1"}


def names(tree: ast.AST) -> Iterator[str]:
    """The names that a module gives: to functions, classes, parameters, variables, attributes."""
    for node in ast.walk(tree):
        if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef | ast.ClassDef):
            yield node.name
        elif isinstance(node, ast.arg):
            yield node.arg
        elif isinstance(node, ast.Name) and isinstance(node.ctx, ast.Store):
            yield node.id
        elif isinstance(node, ast.Attribute) and isinstance(node.ctx, ast.Store):
            yield node.attr


def test_names_say_what_they_hold() -> None:
    assert set(names(ast.parse("def told(kept): self.made = asked = found"))) == {
        "told", "kept", "made", "asked",
    }  # fmt: skip
    given = {
        (str(path.relative_to(SOURCE)), name)
        for path in SOURCE.rglob("*.py")
        for name in names(ast.parse(path.read_text()))
        if name in NAMES_AVOIDED
    }
    assert given - NAMES_EXCEPTED.keys() == set()
