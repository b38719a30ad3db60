"""What is said of a gate and of a comparison, in the same words in every format. Nothing here
draws.
"""

from __future__ import annotations

from collections.abc import Callable

from askless.core.comparison.budgets import amount
from askless.core.formatting import listed, number, size
from askless.output.text import milliseconds
from askless.reports import documents


def outcome(document: documents.GateDocument) -> str:
    """Whether a capture passed."""
    return "passed" if document.passed else "NOT passed"


def how_many(document: documents.GateDocument) -> str:
    """How many limits are over, and by what was judged."""
    named = [
        document.project and f"the budgets of {document.project}",
        document.baseline and f"the baseline {document.baseline}",
    ]
    over, judged = sum(row.over for row in document.rows), len(document.rows)
    limits = "1 limit" if judged == 1 else f"{judged:,} limits"
    return f"{over:,} of {limits} over, by {' and '.join(filter(None, named))}"


def not_judged(route: str) -> str:
    """What to say of a route that has a limit, and no request in the capture."""
    return f"not checked: the capture has no requests for {route} (use --allow-missing to pass)"


def what(row: documents.GateRow) -> str:
    """What a limit is about."""
    return (
        "findings" if row.measure == "patterns" else row.measure.replace("database_ms", "database")
    )


def limit(row: documents.GateRow) -> str:
    """The most that may be."""
    if row.measure == "patterns":
        if row.source == "baseline":
            return "no new findings"
        if len(row.allowed) > 2:
            return f"none but {len(row.allowed)} allowed patterns"
        return f"none but {', '.join(row.allowed)}" if row.allowed else "none"
    return (
        f"{short(row.measure, row.limit)} before"
        if row.source == "baseline"
        else short(row.measure, row.limit)
    )


def seen(row: documents.GateRow) -> str:
    """What there was."""
    return short(row.measure, row.actual)


def over_by(row: documents.GateRow) -> str:
    """By how much a limit is over; '' where it is not."""
    if not row.over or row.measure == "patterns":
        return ""
    share = f" (+{100 * (row.actual / row.limit - 1):,.0f} %)" if row.limit else ""
    return short(row.measure, row.actual - row.limit) + share


def short(measure: str, value: float) -> str:
    """An amount in a column that says of what."""
    return amount(measure, value).removesuffix(" in the database")


def pair(values: documents.BeforeAfter, form: Callable[[float], str] = number) -> tuple[str, str]:
    """A count before and after; – where it is not known."""
    before, after = ("–" if value is None else form(value) for value in values)
    return before, after


def memory(value: float) -> str:
    """Memory of a request; – where it was not tracked."""
    return size(value) if value else "–"


def spread(value: documents.TimeSpread | None, quartiles: bool = True) -> str:
    """A median time, with its quartiles."""
    if value is None:
        return "–"
    around = (
        f" ({milliseconds(value.low_ms)} to {milliseconds(value.high_ms)})" if quartiles else ""
    )
    return milliseconds(value.median_ms) + around


def drift(document: documents.CompareDocument) -> str:
    """How far routes moved that ask the same on both sides."""
    if document.variation is None:
        return (
            "No unchanged route has enough requests on both sides, so the variation between runs "
            "is unknown."
        )
    return (
        f"Unchanged routes ({listed(document.controls, 3)}) varied by up to ×{document.variation:.2f} between runs; "
        "smaller changes are ignored."
    )


def moved(row: documents.CompareRow) -> bool:
    """Whether a route asks something else on the other side."""
    return any(before != after for before, after in (row.queries, row.rows, row.bytes))
