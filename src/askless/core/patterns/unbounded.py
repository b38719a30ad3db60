"""unbounded: no LIMIT and many rows, or as many rows as the table has.

Not flagged: aggregates, lookups by a unique key, batches of an eager load, lookups that an
n-plus-one explains.
"""

from __future__ import annotations

from askless.core.aggregation.shape_stats import ShapeStats
from askless.core.findings.finding import URGENT_SHARE, Cost
from askless.core.findings.remedies import Paginate
from askless.core.formatting import plural, size
from askless.core.inference.context import Context
from askless.core.inference.joined_rows import joins_one_each
from askless.core.patterns.base import ByTotals, Diagnosis, FindingDraft, Match, Rule, taken
from askless.core.settings import PAGE_ROWS
from askless.core.sql.structure import Structure

RULE = Rule(
    "unbounded",
    "a list query without LIMIT",
    "500 or more rows without LIMIT, or the whole table",
    "aggregates, batches of an eager load",
)


JOINED_MOST = 2  # joined tables that a title names


class Unbounded(ByTotals):
    """See the module."""

    rule = RULE
    yields_to = (*ByTotals.yields_to, "discarded-rows", "unused-load", "row-multiplication")

    def worth_parsing(self, stats: ShapeStats, context: Context) -> bool:
        """Whether there are many rows, or as many as a table may have."""
        settings = context.settings
        least = settings.unbounded_rows_least
        if context.schema is not None:
            least = min(least, settings.unbounded_table_least)
        return stats.rows_most >= least

    def judge_shape(self, met: Match, structure: Structure) -> Diagnosis | None:
        """One a query without an end."""
        return _diagnosis(met, structure) if _may_grow(met.stats, structure) else None


def _may_grow(stats: ShapeStats, structure: Structure) -> bool:
    if structure.bounded or structure.exists:
        return False
    load = stats.load
    if load is not None and load.kind in ("eager", "lazy"):
        return False
    return not any(
        p.operator == "any" or (p.operator == "in" and len(p.slots) > 1)
        for p in structure.predicates
    )


def _because(stats: ShapeStats, structure: Structure, total: int | None) -> list[str]:
    texts = [f"up to {plural(stats.rows_most, 'row')} from one query without LIMIT"]
    if total is not None:
        texts.append(f"{structure.main} has {plural(total, 'row')} now")
    if not structure.predicates:
        texts.append("no condition either, so it grows with the table")
    return texts


def _rows_of(structure: Structure, context: Context) -> str:
    """What the rows are of: of a join that may return a row several times, of all its tables."""
    if not structure.joins or joins_one_each(structure, context):
        return structure.main
    others = [table for table in structure.tables if table != structure.main]
    more = len(others) - JOINED_MOST
    named = [*others[:JOINED_MOST], *([f"{more} more"] if more > 0 else [])]
    return f"{structure.main} joined with {' and '.join(named)}" if named else structure.main


def _diagnosis(met: Match, structure: Structure) -> Diagnosis | None:
    stats, context = met.stats, met.context
    settings = context.settings
    table = context.schema.table(structure.main) if context.schema else None
    total = table.rows if table is not None else None
    least = settings.unbounded_table_least
    whole = total is not None and least <= total <= stats.rows_most
    if stats.rows_most < settings.unbounded_rows_least and not whole:
        return None
    requests = max(stats.requests, 1)
    rows, per_request = stats.rows / requests, stats.bytes / requests
    spare_rows = max(rows - PAGE_ROWS, 0)
    filtered = bool(structure.predicates)
    because = _because(stats, structure, total)
    # Not every source sees bytes.
    weight = f" ({size(per_request, 'bytes')} per request)" if per_request else ""
    many = rows >= 10 * settings.unbounded_rows_least
    what = "the whole table " if whole else ""
    claim = FindingDraft(
        variant="whole-table" if whole or not filtered else "filtered",
        severity="urgent" if many or met.share >= URGENT_SHARE else "worthwhile",
        title=f"{plural(rows, 'row')} of {what}{_rows_of(structure, context)} in one query without "
        f"LIMIT{weight}",
        evidence="keyed" if whole else "repeated",
        evidence_details=(*because, *taken(met.route)),
        cost=Cost(
            queries=stats.count / requests,
            query_ms=stats.query_ns / 1e6,
            rows=spare_rows,
            bytes=per_request * spare_rows / rows if rows else 0.0,
        ),
        caveats=("it is unknown whether the page needs all rows at once",),
    )
    saving = f"up to {plural(spare_rows, 'row')} per request; run a trial to measure the time"
    return Diagnosis(met.finding(RULE, claim), Paginate(stats=stats, line=met.line, saving=saving))


PATTERN = Unbounded()
