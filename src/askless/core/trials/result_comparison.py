"""Whether two results are the same: the same rows, in the same order where the statement promises
one.

Values are compared as an application sees them: 1, 1.0 and Decimal('1.00') are equal, and so are
two times of the same instant in different zones; NULL is not 0, a time without zone is not one with
a zone, a number is not a text. Floats may differ in the last digits (a sum taken in another order
does).
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Sequence
from datetime import UTC, datetime, time
from decimal import Decimal
from typing import Any

import msgspec

from askless.core.sql.guarantees import ResultGuarantees

Row = tuple[Any, ...]
DIGITS = 12  # of a float, that count next to another float: sums differ in those after them
DIGITS_HELD = 15  # that a float holds for sure: so many count next to an exact number
SHOWN = 3
_NO_ORDER = (
    "ORDER BY is missing or different: a join or a batched query does not preserve the order"
)


_ROUNDING = 1e5 * 2.0**-53


class _Approximate(Decimal):
    """What a float holds: its last digits are an accident of the way it was computed."""


class Difference(msgspec.Struct, frozen=True):
    """How two results differ. `lost` are rows of the first only, `gained` of the second only, some
    of them shown.
    """

    text: str
    cause: str
    lost: tuple[str, ...] = ()
    gained: tuple[str, ...] = ()


def difference(
    before: Sequence[Row], after: Sequence[Row], question: ResultGuarantees | None = None
) -> Difference | None:
    """The first difference between two results with its usual cause; None if they are the same."""
    question = question or ResultGuarantees()
    if before and after and len(before[0]) != len(after[0]):
        return other_columns(len(before[0]), len(after[0]))
    ours, theirs = [comparable(row) for row in before], [comparable(row) for row in after]
    lost, gained = Counter(ours), Counter(theirs)
    lost.subtract(theirs)
    gained.subtract(ours)
    lost, gained = +lost, +gained
    if lost and gained:
        _pair_up(lost, gained)
    if lost or gained:
        return _changed(before, after, ours, theirs, lost, gained, question)
    return _moved(before, after, ours, theirs, question)


def other_columns(before: int, after: int) -> Difference:
    """The difference of two results with so many columns each."""
    return Difference(f"{before} columns before, {after} after", "the column lists differ")


def comparable(row: Row) -> Row:
    """A row in which equal values are equal and hashable, whatever their types."""
    return tuple(map(_value, row))


def _decimal(value: Decimal) -> Any:
    if not value.is_finite():
        return ("number", str(value).lower())
    return int(value) if value == value.to_integral_value() else value


def _value(value: Any) -> Any:
    """A value in a form in which equal values are equal and hashable, and others are not."""
    if isinstance(value, bool):
        return ("bool", value)
    if value is None or isinstance(value, str | int):
        return value
    if isinstance(value, float):
        return _float(value)
    if isinstance(value, Decimal):
        return _decimal(value)
    if isinstance(value, datetime):
        return ("local time", value) if value.tzinfo is None else ("instant", value.astimezone(UTC))
    if isinstance(value, time):
        return ("time", str(value))
    if isinstance(value, bytes | bytearray | memoryview):
        return ("bytes", bytes(value))
    if isinstance(value, dict):
        return ("object", tuple(sorted((str(key), _value(item)) for key, item in value.items())))
    if isinstance(value, list | tuple):
        return ("list", tuple(map(_value, value)))
    try:
        hash(value)
    except TypeError:
        return ("other", repr(value))
    return value


def _float(value: float) -> Any:
    if math.isnan(value) or math.isinf(value):
        return ("number", str(value).lower())
    if value == int(value) and abs(value) < 2**53:
        return int(value)
    # The shortest form: 0.1 is then what Decimal('0.1') is.
    return _Approximate(repr(value))


def _pair_up(lost: Counter[Row], gained: Counter[Row]) -> None:
    """Take out of both what differs by no more than the last digits of a float."""
    rounded: dict[Row, list[Row]] = {}
    for row in gained:
        rounded.setdefault(_rounded(row), []).append(row)
    for row in list(lost):
        for other in rounded.get(_rounded(row), ()):
            if not _nearly(row, other):
                continue
            same = min(lost[row], gained[other])
            lost[row] -= same
            gained[other] -= same
    for counter in (lost, gained):
        for row in [row for row, count in counter.items() if count <= 0]:
            del counter[row]


def _rounded(row: Row) -> Row:
    return tuple(_few_digits(value) if isinstance(value, Decimal | int) else value for value in row)


def _few_digits(value: Decimal | int, digits: int = DIGITS) -> Any:
    try:
        return f"{float(value):.{digits}g}"
    except OverflowError:
        return value


def is_rounding(before: Sequence[Row], after: Sequence[Row], sizes: Sequence[Row]) -> bool:
    """Whether two results differ in floats alone, row by row, and there by no more than adding up
    in another order does.

    `sizes` holds the sums of absolute values in their place: where numbers cancel, the sum says
    nothing of its error. The error of adding n numbers one by one is below n times the unit
    roundoff of their absolute sum (Higham 1993, The Accuracy of Floating Point Summation); n is
    taken as 100,000.
    """
    if not len(before) == len(after) == len(sizes):
        return False
    for row, other, size in zip(before, after, sizes, strict=True):
        for a, b, scale in zip(row, other, size, strict=True):
            if a == b:
                continue
            if not (
                isinstance(a, float) and isinstance(b, float) and isinstance(scale, int | float)
            ):
                return False
            if abs(a - b) > _ROUNDING * abs(scale):
                return False
    return True


def _nearly(row: Row, other: Row) -> bool:
    """Whether two rows differ in floats only, and there in the last digits."""
    return all(a == b or _alike(a, b) for a, b in zip(row, other, strict=True))


def _alike(a: Any, b: Any) -> bool:
    """Whether two numbers, one of them a float, are the same as far as a float can tell."""
    floats = isinstance(a, _Approximate) + isinstance(b, _Approximate)
    if not floats:
        return False
    digits = DIGITS if floats == 2 else DIGITS_HELD
    return _rounded((a,)) == _rounded((b,)) and bool(
        _few_digits(a, digits) == _few_digits(b, digits)
    )


def _shown(rows: Sequence[Row], keys: Sequence[Row], wanted: Counter[Row]) -> tuple[str, ...]:
    results = []
    remaining = Counter(wanted)
    for row, key in zip(rows, keys, strict=True):
        if remaining[key] > 0:
            remaining[key] -= 1
            results.append("(" + ", ".join(_word(value) for value in row) + ")")
            if len(results) == SHOWN:
                break
    return tuple(results)


def _word(value: Any) -> str:
    if value is None:
        return "NULL"
    text = str(value) if isinstance(value, Decimal | datetime) else repr(value)
    return text if len(text) <= 60 else text[:59] + "…"


def _changed(
    before: Sequence[Row],
    after: Sequence[Row],
    ours: list[Row],
    theirs: list[Row],
    lost: Counter[Row],
    gained: Counter[Row],
    question: ResultGuarantees,
) -> Difference:
    fewer, more = sum(lost.values()), sum(gained.values())
    parts = [
        f"{count} {'row' if count == 1 else 'rows'} {word}"
        for count, word in ((fewer, "lost"), (more, "gained"))
        if count
    ]
    text = f"{', '.join(parts)} ({len(before)} before, {len(after)} after)"
    cause = _cause(ours, theirs, lost, gained, question)
    return Difference(text, cause, _shown(before, ours, lost), _shown(after, theirs, gained))


def _cause(
    ours: list[Row],
    theirs: list[Row],
    lost: Counter[Row],
    gained: Counter[Row],
    question: ResultGuarantees,
) -> str:
    """What usually makes such a difference."""
    if gained and not lost:
        if set(gained) <= set(ours):
            return (
                "rows are repeated: a to-many join repeats its parent; load the children in a "
                "batched query, or use DISTINCT if appropriate"
            )
        return "extra rows: a condition is missing or is in the outer join's ON"
    if lost and not gained:
        if set(lost) <= set(theirs):
            return (
                "repeated rows are missing: a DISTINCT, UNION or GROUP BY removes rows that the "
                "first statement returned"
            )
        if question.inner_join_added:
            return "an inner join drops parents without children: make it a LEFT JOIN"
        return (
            "missing rows: an inner join drops parents without children (LEFT JOIN keeps them), "
            "or a condition is stricter"
        )
    kinds = _kinds(lost, gained)
    if kinds:
        return kinds
    if question.limited:
        return (
            "with LIMIT, the choice among ties is arbitrary: add the key to ORDER BY on both sides"
        )
    return "different values in the same rows: compare the first row that differs"


def _kinds(lost: Counter[Row], gained: Counter[Row]) -> str:
    """A cause in the kind of a value: the first rows that differ in one column only tell it."""
    for row in list(lost)[:50]:
        for other in list(gained)[:50]:
            places = [i for i, (a, b) in enumerate(zip(row, other, strict=True)) if a != b]
            if len(places) == 1:
                cause = _kind_of_difference(row[places[0]], other[places[0]])
                if cause:
                    return f"column {places[0] + 1} {cause}"
    return ""


def _kind_of_difference(a: Any, b: Any) -> str:
    """How two values in the form of `_value` differ, '' where their kinds do not tell."""
    if a is None or b is None:
        if 0 in (a, b):
            return (
                "is NULL on one side and 0 on the other: COUNT of no rows is 0, SUM of no rows is "
                "NULL; COALESCE unifies them"
            )
        return "is NULL on one side: an outer join or a missing value"
    kinds = [value[0] for value in (a, b) if isinstance(value, tuple)]
    if set(kinds) == {"instant", "local time"}:
        return "is a time with a time zone on one side only"
    if kinds in (["instant"] * 2, ["local time"] * 2):
        return "is a different time: is one of them in another time zone?"
    if isinstance(a, str) != isinstance(b, str):
        return "is a text on one side and a number on the other"
    if not isinstance(a, int | Decimal) or not isinstance(b, int | Decimal):
        return ""
    if a and abs(Decimal(a) - Decimal(b)) < abs(Decimal(a)) * Decimal("0.01"):
        return "differs after the decimal point: rounding, or another numeric type"
    return ""


def _columns(rows: list[Row], places: Sequence[int]) -> list[Row]:
    return [tuple(row[i] for i in places) for row in rows]


def _moved(
    before: Sequence[Row],
    after: Sequence[Row],
    ours: list[Row],
    theirs: list[Row],
    question: ResultGuarantees,
) -> Difference | None:
    """The same rows: in the order that was promised? Rows that tie may come in any order."""
    if question.order is None or (not question.order and question.order_kept):
        return None
    if question.order_dropped and len(ours) > 1:
        return Difference(
            "the second statement has no ORDER BY: the same order today is a coincidence", _NO_ORDER
        )
    if question.order:
        ours = _columns(ours, question.order)
        theirs = _columns(theirs, question.order)
    for place, (a, b) in enumerate(zip(ours, theirs, strict=True)):
        if a != b and not _nearly(a, b):
            tie = "; the result does not contain the sort columns, so it may be a tie"
            return Difference(
                f"the same rows in another order, from row {place + 1} on"
                + ("" if question.order else tie),
                _NO_ORDER,
                _shown([before[place]], [a], Counter({a: 1})) or ("",),
                _shown([after[place]], [b], Counter({b: 1})) or ("",),
            )
    return None
