"""What a capture keeps of values that came over the wire: as much as of the recorder's, in the same
forms.
"""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from typing import Any

from askless.core.sql.slots import Value

VALUE_MOST = 2000  # characters of one parameter that are kept
LIST_MOST = 500  # values of a list that is kept whole
KEY_MOST = 64  # a sampled value longer than this is not a key
SAMPLED_COLUMNS_MOST = 12
WIDTHS_FIRST, WIDTHS_EVERY = 4, 64  # which executions of a text have their column widths reported
TEXT_MOST = 1024 * 1024  # characters of a statement
TEXTS_MOST = 20_000
_CUT = " /* cut by askless */"


def recordable(value: Value) -> Value:
    """A parameter, cut where it is long."""
    if isinstance(value, str) and len(value) > VALUE_MOST:
        return ("cut str", value[:VALUE_MOST])
    if isinstance(value, tuple):
        kind, text = value
        if kind == "bytes" and len(text) > VALUE_MOST:
            return ("cut bytes", str(len(text) // 2))
        if len(text) > VALUE_MOST:
            return ("cut " + kind, text[:VALUE_MOST])
    return value


_INTEGER = re.compile(r"-?[0-9]{1,20}")  # as wide as BIGINT UNSIGNED


def integer(text: str) -> Value:
    """The number that a server writes for an integer; the text itself if it is none."""
    return int(text) if _INTEGER.fullmatch(text) else text


def listed(values: Sequence[Any]) -> Value:
    """A list of plain values as one value; cut where it is long."""
    text = json.dumps(list(values))
    if len(values) > LIST_MOST or len(text) > VALUE_MOST:
        return ("cut list", str(len(values)))
    return ("list", text)


def key_like(value: Value) -> Value:
    """A sampled value; None for one that no key is."""
    if isinstance(value, str):
        return value if len(value) <= KEY_MOST else None
    if isinstance(value, tuple):
        return value if len(value[1]) <= KEY_MOST else None
    return value


def sampled_of(names: Sequence[str], may_be_keys: Sequence[int]) -> tuple[int, ...]:
    """Which columns, of those that may hold keys, are sampled: if there are many, those that are
    called keys first.
    """
    if len(may_be_keys) <= SAMPLED_COLUMNS_MOST:
        return tuple(may_be_keys)
    ordered = sorted(
        may_be_keys,
        key=lambda i: not names[i].lower().rstrip("_0123456789").endswith(("id", "pk", "key")),
    )
    return tuple(sorted(ordered[:SAMPLED_COLUMNS_MOST]))


def statement_text(raw: bytes, encoding: str) -> str:
    """A statement's text, cut where no one would read it whole."""
    text = raw.decode(encoding, "replace")
    return text if len(text) <= TEXT_MOST else text[:TEXT_MOST] + _CUT


class RowSample:
    """How often each text ran, so that widths are reported of some executions only."""

    __slots__ = ("_times",)

    def __init__(self) -> None:
        self._times: dict[str, int] = {}

    def is_due(self, text: str) -> bool:
        """Count an execution; whether its column widths are to be reported."""
        times = self._times.get(text, 0) + 1
        if len(self._times) >= TEXTS_MOST and text not in self._times:
            self._times.clear()
        self._times[text] = times
        return times <= WIDTHS_FIRST or times % WIDTHS_EVERY == 0
