"""Why queries fail, derived from the texts of their errors as drivers and servers word them."""

from __future__ import annotations

import re
from enum import StrEnum


class Failure(StrEnum):
    """A kind of failure; each calls for something else."""

    DEADLOCK = "deadlock"
    TIME_OUT = "time-out"
    COLLISION = "collision"
    CONFLICT = "conflict"
    CONSTRAINT = "constraint"
    CONNECTION = "connection"
    MISTAKE = "mistake"
    OTHER = "error"


# In the order in which they are looked for: a lock that was waited for too long says "lock" and
# "timeout".
_KINDS = (
    (Failure.DEADLOCK, r"deadlock|\b40p01\b|\b1213\b"),
    (
        Failure.COLLISION,
        r"could not serialize|serialization failure|\b40001\b|snapshot is too old|record has "
        r"changed since",
    ),
    (
        Failure.TIME_OUT,
        r"time-?out|timed out|\b57014\b|\b55p03\b|lock wait|\b1205\b|could not obtain "
        r"lock|database (?:table )?is locked"
        r"|max_execution_time|max_statement_time|interrupted|statement was cancel|canceling "
        r"statement",
    ),
    (Failure.CONFLICT, r"unique|duplicate (?:key|entry)|\b23505\b|\b1062\b"),
    (
        Failure.CONSTRAINT,
        r"foreign key|not[- ]?null|null value|cannot be null|check constraint|constraint "
        r"failed|violates|\b2350[23]\b|\b145[12]\b",
    ),
    (
        Failure.MISTAKE,
        r"syntax|no such|does not exist|doesn't exist|unknown column|ambiguous|undefined|must "
        r"appear in the group by"
        r"|invalid input|incorrect number of bindings|not supplied|permission denied",
    ),
    (
        Failure.CONNECTION,
        r"connection|server closed|gone away|broken pipe|\b20(?:06|13)\b|eof detected",
    ),
)
_COMPILED = [(kind, re.compile(pattern, re.IGNORECASE)) for kind, pattern in _KINDS]
# What may hold a value: numbers, texts in quotes (but the names of what the database has), and what
# DETAIL shows in brackets.
_NAMED = r"(?:table|column|relation|constraint|index|function|database|role|schema|type|entry for key|for key|sequence|operator)"
_VALUES = re.compile(
    rf"(?P<named>\b{_NAMED} [\"'`][^\"'`]*[\"'`])|=\s*\([^)]*\)|'(?:[^']|'')*'|\"[^\"]*\""
    rf"|`[^`]*`(?=\s*=)|\b\d[\d.,:-]*\b",
    re.IGNORECASE,
)
_QUOTED = re.compile(r"'(?:[^']|'')*'|\"[^\"]*\"|`[^`]*`")
# MySQL's drivers
_PAIR = re.compile(
    r"^(?P<name>[\w.]*:? ?)\((?P<code>\d+), (?P<quote>['\"])(?P<text>.*)(?P=quote)\)$", re.DOTALL
)


def failure_of(text: str) -> Failure:
    """The kind of failure that an error's text says of; what is in quotes (names, values) tells
    nothing.
    """
    said = _QUOTED.sub(" ", "".join(_parts(text)))
    return next((kind for kind, pattern in _COMPILED if pattern.search(said)), Failure.OTHER)


def masked_error(text: str) -> str:
    """The first line of an error's text, without what may be a value."""
    lead, said = _parts(text)
    return lead + _VALUES.sub(
        lambda match: match["named"] or ("=(?)" if match[0].startswith("=") else "?"), said
    )


def _parts(text: str) -> tuple[str, str]:
    """The name and number of an error, if a driver shows it as a pair of number and text, and the
    first line of what it says.
    """
    text = text.strip()
    pair = _PAIR.match(text)
    lead, said = (f"{pair['name']}{pair['code']} ", pair["text"]) if pair else ("", text)
    return lead, said.split("\n", 1)[0]
