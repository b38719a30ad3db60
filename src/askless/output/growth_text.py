"""What is said of growth, in the same words in every format. Nothing here draws."""

from __future__ import annotations

from askless.core.formatting import plural
from askless.core.growth.by_rows import LinearFit
from askless.reports import documents

PROJECTED = ("median observed", "ten times the rows", "a hundred times")
BENDS = "time grows faster than linearly; expect more than projected"
UNCLEAR = "rows explain its queries only partly; something else in the request matters too"
TOO_FEW = "too few sizes:"


def equation(row: documents.GrowthRow) -> str:
    """What a route asks, by its rows."""
    return f"queries = {'about ' if row.outcome == 'unclear' else ''}{row.formula}"


def fitted(row: documents.GrowthRow) -> LinearFit:
    """The line of queries against rows, of a route that has sizes enough."""
    middle = row.projected[0]
    return LinearFit(middle.queries - row.slope * middle.rows, row.slope)


def seen(row: documents.GrowthRow) -> str:
    """What the equation rests on."""
    sizes = (
        sizes_of(row)
        if row.table or row.projected
        else "no list whose length differs between requests"
    )
    return f"({plural(row.requests, 'request')}; {sizes})"


def sizes_of(row: documents.GrowthRow) -> str:
    """The sizes of list that were seen."""
    if not row.sizes:
        return "no rows"
    low, high = row.sizes[0], row.sizes[-1]
    span = f"{low:,}" if low == high else f"{low:,} to {high:,}"
    return f"{span} rows of {row.table or 'a list'}, {plural(len(row.sizes), 'size')}"


def remarks(row: documents.GrowthRow) -> list[str]:
    """What to mind about it."""
    return [BENDS] * row.superlinear + [UNCLEAR] * (row.outcome == "unclear")
