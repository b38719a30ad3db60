"""A span as requests are made of it, and what its attributes are called: by the conventions of old,
by the new ones, by both.
"""

from __future__ import annotations

import ast
import re
from collections.abc import Mapping
from functools import lru_cache
from typing import Any

import msgspec

from askless.core.records.model import CallSite
from askless.core.sql.slots import Value
from askless.core.systems import called

INTERNAL, SERVER, CLIENT, PRODUCER, CONSUMER = 1, 2, 3, 4, 5
REMOTE_PARENT = 0x200  # flag: the parent is in another process
_PARAMETER = "db.query.parameter."
_NUMBER_MOST = 2**53  # a count that a client sends is not a larger

TEXT = ("db.query.text", "db.statement")
SYSTEM = ("db.system.name", "db.system")
ROWS = ("db.response.returned_rows",)
BATCH = ("db.operation.batch.size",)
METHOD = ("http.request.method", "http.method")
ROUTE = ("http.route",)
PATH = ("url.path", "http.target", "url.full", "http.url")
STATUS = ("http.response.status_code", "http.status_code")
SERVICE_CALLED, METHOD_CALLED = ("rpc.service",), ("rpc.method",)
DESTINATION = (
    "messaging.destination.name",
    "messaging.destination",
    "messaging.destination.template",
)
FILE, LINE = ("code.file.path", "code.filepath"), ("code.line.number", "code.lineno")
_FILES = frozenset(FILE)
FUNCTION = ("code.function.name", "code.function")
WARM_UP = ("askless.warm_up",)  # of spans that an export of ours wrote
PARAMETERS = ("db.statement.parameters", "db.postgresql.values")
# What is kept of a span: hosts, users, addresses and command lines are not.
KEPT = frozenset(
    name
    for names in (
        TEXT, SYSTEM, ROWS, BATCH, METHOD, ROUTE, PATH, STATUS, SERVICE_CALLED, METHOD_CALLED,
        DESTINATION, FILE, LINE, FUNCTION, PARAMETERS, WARM_UP,
    )
    for name in names
)  # fmt: skip


def is_kept(name: str) -> bool:
    """Whether an attribute says something that is used."""
    return name in KEPT or name.startswith(_PARAMETER)


class Span(msgspec.Struct, frozen=True, gc=False):
    """A span. Ids are as they were sent, in bytes; times in nanoseconds since 1970. `error` is ''
    where it ended well.
    """

    trace: bytes
    id: bytes
    parent: bytes
    name: str
    kind: int
    start_ns: int
    end_ns: int
    attributes: dict[str, Any]
    scope: str
    service: str
    error: str = ""
    remote: bool = False

    @property
    def is_request(self) -> bool:
        """Whether work of a service begins with it."""
        return self.kind in (SERVER, CONSUMER)

    @property
    def text(self) -> str:
        """The SQL that it is about; '' where it is about none."""
        value = first(self.attributes, TEXT)
        return value if isinstance(value, str) else ""


def first(attributes: Mapping[str, Any], names: tuple[str, ...]) -> Any:
    """The value of the first of these names that has one; None for none."""
    for name in names:
        value = attributes.get(name)
        if value is not None and value != "":
            return value
    return None


def number(attributes: Mapping[str, Any], names: tuple[str, ...], missing: int = 0) -> int:
    """The same as a whole number."""
    value = first(attributes, names)
    try:
        return min(max(int(value), -1), _NUMBER_MOST) if value is not None else missing
    except (TypeError, ValueError, OverflowError):  # a text, NaN, an infinity
        return missing


def system_of(attributes: Mapping[str, Any]) -> str | None:
    """The database system by our name; None for one whose language is no SQL that is known here."""
    return _system_called(str(first(attributes, SYSTEM) or ""))


@lru_cache(200)
def _system_called(word: str) -> str | None:
    plain = word.lower().removeprefix("microsoft.").replace("sql_server", "mssql")
    known = called(plain.split(".")[0])
    return known.name if known is not None else None


_FORMATS = re.compile(r"'(?:[^']|'')*'|\"[^\"]*\"|%s|%\((\w+)\)s|%%")


def with_own_placeholders(text: str, system: str) -> str:
    """A statement with the placeholders of its database: some libraries say what an ORM wrote
    before it was translated.
    """
    if system != "sqlite" or "%" not in text:
        return text

    def own(match: re.Match[str]) -> str:
        word = match[0]
        return f":{match[1]}" if match[1] else {"%s": "?", "%%": "%"}.get(word, word)

    return _FORMATS.sub(own, text)


def place_of(attributes: Mapping[str, Any]) -> CallSite | None:
    """The line of code that a span names."""
    if not attributes.keys() & _FILES:
        return None
    file = first(attributes, FILE)
    if not isinstance(file, str):
        return None
    return CallSite(file, number(attributes, LINE), str(first(attributes, FUNCTION) or ""))


class SpanAttributes(msgspec.Struct, frozen=True):
    """The parameters of a query, with their names where they have any; `batch` sets of them for an
    executemany.
    """

    values: tuple[Value, ...] = ()
    names: tuple[str, ...] = ()
    batch: int = 0


def parameters_of(attributes: Mapping[str, Any]) -> SpanAttributes:
    """What a span says of a query's parameters, in any of the forms that clients send."""
    single = {
        name[len(_PARAMETER) :]: value
        for name, value in attributes.items()
        if name.startswith(_PARAMETER)
    }
    if len(single) == 1 and "0" in single:
        return SpanAttributes((_value(single["0"]),))
    if single:
        if all(name.isascii() and name.isdigit() and len(name) < 10 for name in single):
            return SpanAttributes(tuple(_value(single[name]) for name in sorted(single, key=int)))
        return SpanAttributes(tuple(map(_value, single.values())), tuple(single))
    listed = first(attributes, PARAMETERS)
    if isinstance(listed, list | tuple):
        return SpanAttributes(tuple(map(_value, listed)))
    return _written(listed) if isinstance(listed, str) else SpanAttributes()


def _written(text: str) -> SpanAttributes:
    """Parameters that a Python client wrote as it prints them: a tuple, a list, a dict, or a list
    of those.
    """
    try:
        value = ast.literal_eval(text)
    except (ValueError, SyntaxError, MemoryError, RecursionError):
        return SpanAttributes()
    sets = (
        value
        if isinstance(value, list)
        and value
        and all(isinstance(one, tuple | list | dict) for one in value)
        else []
    )
    one = sets[0] if sets else value
    batch = len(sets) if len(sets) > 1 else 0
    if isinstance(one, dict):
        return SpanAttributes(tuple(map(_value, one.values())), tuple(map(str, one)), batch)
    return (
        SpanAttributes(tuple(map(_value, one)), (), batch)
        if isinstance(one, tuple | list)
        else SpanAttributes()
    )


def _value(value: Any) -> Value:
    if value is None or isinstance(value, bool | int | float | str):
        return value
    return ("text", str(value))
