"""deep-offset: a page that lies after so many rows that skipping them is what takes the time.

Not flagged: pages near the first one, an OFFSET that is 0 or not known. A page that was not among a
shape's first executions may be missed: these alone are kept with their values.
"""

from __future__ import annotations

from collections.abc import Iterable

from askless.core.aggregation.shape_stats import Example, ShapeStats
from askless.core.findings.finding import URGENT_SHARE, Cost
from askless.core.findings.remedies import SeekByKey
from askless.core.formatting import plural
from askless.core.inference.context import Context
from askless.core.patterns.base import ByTotals, Diagnosis, FindingDraft, Match, Rule
from askless.core.sql.structure import Structure
from askless.core.sql.value_equality import meaning

RULE = Rule(
    "deep-offset",
    "pagination by a large OFFSET",
    "an OFFSET of 1,000 or more: all rows before it are read and discarded",
    "the first pages, pages by key",
)


class DeepOffset(ByTotals):
    """See the module."""

    rule = RULE
    yields_to = ()

    def worth_parsing(self, stats: ShapeStats, context: Context) -> bool:
        """Whether the text may skip rows: by the word, or by MySQL's LIMIT with two numbers."""
        return "offset" in stats.shape.text or "limit ?, ?" in stats.shape.text

    def judge_shape(self, met: Match, structure: Structure) -> Diagnosis | None:
        """One a query whose deepest page, of those that were kept, lies deep."""
        slot = structure.offset_slot
        if slot is None:
            return None
        depths = list(_depths(met.stats.examples, slot))
        deepest = max(depths, default=0)
        if deepest < met.context.settings.offset_least:
            return None
        return _diagnosis(met, structure, deepest)


def _depths(examples: Iterable[Example], slot: int) -> Iterable[int]:
    """How many rows each execution skipped, if that is known."""
    for example in examples:
        values = example.statement.values(example.parameters, example.literals)
        value = meaning(values[slot]) if slot < len(values) else None
        if isinstance(value, int):
            yield value


def _diagnosis(met: Match, structure: Structure, deepest: int) -> Diagnosis:
    stats = met.stats
    requests = max(stats.requests, 1)
    ordered = ", ".join(str(column) for column, _ in structure.order_by)
    claim = FindingDraft(
        severity="urgent" if met.share >= URGENT_SHARE else "worthwhile",
        title=f"OFFSET {deepest:,} reads that many rows of {structure.main} and discards them "
        f"before it returns {plural(stats.rows_most, 'row')}",
        evidence="traced",
        evidence_details=(
            f"OFFSET {deepest:,} was asked; the deeper the page, the more is read for it",
            f"ordered by {ordered}"
            if ordered
            else "without an order: the server chooses which rows a page contains",
        ),
        cost=Cost(queries=stats.count / requests, query_ms=stats.query_ns / 1e6),
        summary=f"{structure.main} behind {deepest:,} rows",
    )
    saving = f"{deepest:,} rows less to read for that page; run a trial to measure the time"
    return Diagnosis(met.finding(RULE, claim), SeekByKey(stats=stats, line=met.line, saving=saving))


PATTERN = DeepOffset()
