"""Formats of logs that database servers write. A new one is a file in this package and a line here.

A format's module has `FORMATS`, by name. All of it is pure: lines in, queries out; no files and no
clocks.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from importlib import import_module
from typing import NamedTuple, Protocol

from askless.core.records.traffic import QuerySeen
from askless.sources.logs.long_text import Cuts

REGISTRY = {
    "postgresql": "askless.sources.logs.postgresql",
    "postgresql-csv": "askless.sources.logs.postgresql",
    "postgresql-json": "askless.sources.logs.postgresql",
    "mariadb-general": "askless.sources.logs.mariadb",
    "mariadb-slow": "askless.sources.logs.mariadb",
}


class LogMessage(NamedTuple):
    """What a log says of a session: a query that has ended, or (without one) that the session
    has.
    """

    session: str
    at_ns: int
    query: QuerySeen | None
    application: str = ""
    in_transaction: bool = False
    client: str = ""


class UnreadLine(Exception):
    """A line that the format does not have. `expected` is what it has."""

    def __init__(self, why: str, expected: str) -> None:
        super().__init__(why)
        self.why = why
        self.expected = expected


class Reading(Protocol):
    """A log that is read line by line."""

    @property
    def system(self) -> str:
        """Whose SQL it is."""

    @property
    def unseen(self) -> tuple[str, ...]:
        """What the log does not tell: see `core.model.Tables`."""

    cuts: Cuts  # texts that were longer than any that is kept

    def take(self, line: str) -> Iterable[LogMessage]:
        """What is known once this line is. Raises Unread."""

    def close(self) -> Iterable[LogMessage]:
        """What the last lines tell."""

    def notes(self) -> list[str]:
        """What a reader should know of the log, in words: settings that would tell more."""


class Format(NamedTuple):
    """One format. `fits`: whether the first lines of a log look like it. `reading` begins to read
    one, by PostgreSQL's prefix.
    """

    fits: Callable[[list[str]], bool]
    reading: Callable[[str], Reading]


def format_of(name: str) -> Format:
    """The format of a name. Raises KeyError."""
    result: Format = import_module(REGISTRY[name]).FORMATS[name]
    return result


def looks_like(lines: list[str]) -> str:
    """The name of the format that the first lines of a log are in; '' for none that is known."""
    return next((name for name in REGISTRY if format_of(name).fits(lines)), "")
