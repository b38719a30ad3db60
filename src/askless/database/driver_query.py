"""A captured statement and its values in the form that a driver takes them."""

from __future__ import annotations

import json
from collections.abc import Sequence
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from typing import Any
from uuid import UUID

import msgspec

from askless.core.errors import AskLessError
from askless.core.sql.slots import Slot, Value, slots_of, values_of
from askless.core.systems import system_of

_CUT = "cut by askless"  # what the recorder puts where it has cut a text or a literal
MARKS = {"qmark": "?", "format": "%s"}  # what stands for a value, by a server's paramstyle


class DriverQuery(msgspec.Struct, frozen=True):
    """A statement ready to be sent: its text with the driver's placeholders, and a value for each,
    in order.

    `text` is the statement as the application wrote it.
    """

    sql: str
    arguments: tuple[Any, ...]
    text: str
    system: str


class _Many(tuple[Any, ...]):
    """Values that stand for a whole list in brackets, as some drivers write IN %s."""


def native(value: Value, system: str) -> Any:
    """A captured value as the driver takes it. Raises AskLessError cant-run if the capture could
    not keep it.
    """
    if not isinstance(value, tuple):
        return value
    kind, text = value
    if kind.startswith("cut "):
        raise AskLessError(
            "value-cut",
            f"a value of this query ({kind.removeprefix('cut ')}) was too long to be stored "
            "completely in the capture",
            "give the statement with --sql and its values with --parameters",
        )
    try:
        if kind in ("list", "tuple") and text[:1] == "[":
            values = [
                native(tuple(item) if isinstance(item, list) else item, system)
                for item in json.loads(text)
            ]
            return values if kind == "list" and system_of(system).lists_as_arrays else _Many(values)
        if not system_of(system).typed_values and kind in (
            "datetime",
            "date",
            "time",
            "Decimal",
            "UUID",
        ):
            return text
        return _READ[kind](text)
    except (LookupError, ValueError, ArithmeticError):
        raise AskLessError(
            "value-unknown",
            f"a value of this query has the type {kind}, which a capture can't store",
            "give the statement with --sql and its values with --parameters",
        ) from None


def _timedelta(text: str) -> timedelta:
    days, _, clock = text.rpartition(", ")
    hours, minutes, seconds = clock.split(":")
    return timedelta(
        days=int(days.split()[0]) if days else 0,
        hours=int(hours),
        minutes=int(minutes),
        seconds=float(seconds),
    )


_READ: dict[str, Any] = {
    "bytes": bytes.fromhex, "datetime": datetime.fromisoformat, "date": date.fromisoformat,
    "time": time.fromisoformat, "Decimal": Decimal, "UUID": UUID, "float": float,
    "timedelta": _timedelta, "IPv4Address": str, "IPv6Address": str, "str": str,
}  # fmt: skip


def missing_values(slots: Sequence[Slot], parameters: Sequence[Value]) -> int:
    """How many placeholders have no value."""
    wanted = [slot for slot in slots if slot.placeholder]
    plain = sum(slot.text in ("?", "%s") for slot in wanted)
    named = {slot.text for slot in wanted} - {"?", "%s"}
    return max(plain + len(named) - len(parameters), 0)


def bound(
    text: str,
    system: str,
    parameters: Sequence[Value],
    names: Sequence[str],
    paramstyle: str,
    target: str = "",
) -> DriverQuery:
    """A statement of `system`'s SQL with its values, for a driver with this style of placeholders.

    Raises AskLessError: cant-run if placeholders lack a value, value-cut, value-unknown.
    """
    text = text.strip().rstrip(";")
    if _CUT in text:
        raise AskLessError(
            "value-cut",
            "this statement was too long to be stored completely in the capture",
            "give the statement with --sql and its values with --parameters",
        )
    slots = slots_of(text, system)
    lacking = missing_values(slots, parameters)
    if lacking:
        raise AskLessError(
            "cant-run",
            f"the statement has {lacking} {'placeholder' if lacking == 1 else 'placeholders'} "
            "without a value",
            "write values into it, or give them: --parameters '[1, \"due\"]'",
        )
    formatted = any(slot.placeholder and slot.text.startswith("%") for slot in slots)
    pieces: list[str] = []
    arguments: list[Any] = []
    start = 0

    def plain(piece: str) -> str:
        piece = piece.replace("%%", "%") if formatted else piece
        return piece.replace("%", "%%") if paramstyle == "format" else piece

    for slot, given in zip(slots, values_of(slots, parameters, names), strict=True):
        if not slot.placeholder:
            continue
        pieces.append(plain(text[start : slot.start]))
        value = native(given, target or system)
        many = value if isinstance(value, _Many) else None
        if many is not None and not many:
            pieces.append("NULL")
        elif many is not None:
            listed = ", ".join([MARKS[paramstyle]] * len(many))
            inside = text[: slot.start].rstrip().endswith("(") and text[
                slot.end :
            ].lstrip().startswith(")")
            pieces.append(listed if inside else f"({listed})")
            arguments += many
        else:
            pieces.append(MARKS[paramstyle])
            arguments.append(value)
        start = slot.end
    pieces.append(plain(text[start:]))
    return DriverQuery("".join(pieces), tuple(arguments), text, system)
