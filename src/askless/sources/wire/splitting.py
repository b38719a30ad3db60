"""The statements of a text that has several: each is answered by itself."""

from __future__ import annotations

from functools import lru_cache

from askless.core.sql.tokens import tokens


@lru_cache(maxsize=512)
def split(text: str, system: str = "postgresql") -> list[str]:
    """The statements between the semicolons of a text, empty ones omitted."""
    stripped = text.rstrip().rstrip(";")
    if ";" not in stripped:
        return [text] if stripped.strip() else []
    covered = [(token.start, token.end) for token in tokens(text, system)]
    results, start = [], 0
    for position, sign in enumerate(text):
        if sign == ";" and not any(begin <= position < end for begin, end in covered):
            results.append(text[start:position])
            start = position + 1
    results.append(text[start:])
    return [piece.strip() for piece in results if _says_something(piece, system)]


def _says_something(piece: str, system: str) -> bool:
    """Whether there is more than blanks and comments."""
    rest = piece
    for token in reversed(list(tokens(piece, system))):
        if token.kind == "comment":
            rest = rest[: token.start] + rest[token.end :]
    return bool(rest.strip())
