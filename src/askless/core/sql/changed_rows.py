"""The SELECT that finds the rows which an UPDATE or a DELETE of MySQL or MariaDB changes.

Those servers refuse to explain a write where nothing may be written; its plan is that of the SELECT.
The text stays as it is but for its clauses' order, so that placeholders keep theirs.
"""

from __future__ import annotations

import re

from askless.core.sql.tokens import tokens

_UPDATE = re.compile(r"\s*UPDATE\s+(?:LOW_PRIORITY\s+)?(?:IGNORE\s+)?", re.I)
_DELETE = re.compile(r"\s*DELETE\s+(?:LOW_PRIORITY\s+|QUICK\s+|IGNORE\s+)*", re.I)
_WORD = re.compile(r"[()]|\b(?:SET|FROM|USING|WHERE|ORDER|LIMIT|RETURNING)\b", re.I)


def select_of(text: str, system: str) -> str | None:
    """The SELECT; None for another statement, and for one that can't be turned around: with
    placeholders among its tables, or a RETURNING.
    """
    masked = _masked(text, system)
    update, delete = _UPDATE.match(masked), _DELETE.match(masked)
    places = _places(masked)
    if "RETURNING" in places:
        return None
    if update is not None and "SET" in places:
        return _of_update(text, update.end(), places, system)
    if delete is not None and "FROM" in places:
        return _of_delete(text, places)
    return None


def _masked(text: str, system: str) -> str:
    """The text with what varies in it, and quoted names, covered by as many signs."""
    parts, end = [], 0
    for token in tokens(text, system):
        parts += [text[end : token.start], "#" * (token.end - token.start)]
        end = token.end
    return "".join([*parts, text[end:]])


def _places(masked: str) -> dict[str, int]:
    """Where each clause begins, those in brackets omitted."""
    places: dict[str, int] = {}
    depth = 0
    for match in _WORD.finditer(masked):
        word = match[0].upper()
        if word in "()":
            depth += 1 if word == "(" else -1
        elif not depth:
            places.setdefault(word, match.start())
    return places


def _rest(text: str, places: dict[str, int]) -> int:
    """Where what follows the tables and assignments begins."""
    return min((places[word] for word in ("WHERE", "ORDER", "LIMIT") if word in places), default=len(text))  # fmt: skip


def _of_update(text: str, start: int, places: dict[str, int], system: str) -> str | None:
    tables, rest = text[start : places["SET"]], _rest(text, places)
    if any(token.kind == "placeholder" for token in tokens(tables, system)):
        return None  # they would come after those of the assignments
    assignments = text[places["SET"] + len("SET") : rest]
    return f"SELECT *, {assignments.strip()} FROM {tables.strip()} {text[rest:]}".rstrip()  # noqa: S608  (the parts of one statement)


def _of_delete(text: str, places: dict[str, int]) -> str:
    """Of several tables: DELETE a FROM a JOIN b, or DELETE FROM a USING a JOIN b."""
    word = "USING" if places.get("USING", 0) > places["FROM"] and _is_before(places) else "FROM"
    rest = _rest(text, places)
    return f"SELECT * FROM {text[places[word] + len(word) : rest].strip()} {text[rest:]}".rstrip()  # noqa: S608  (the parts of one statement)


def _is_before(places: dict[str, int]) -> bool:
    """Whether USING is the statement's own, before its conditions."""
    return places["USING"] < places.get("WHERE", places["USING"] + 1)
