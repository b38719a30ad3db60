"""row-multiplication: a join that returns each parent many times.

Three variants: two to-many joins whose rows all come with each other, parents that come several
times because a join only filters, and wide parents that are sent again with each child. Not
flagged: small products, DISTINCT and GROUP BY, narrow parents next to the rows that are asked for.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

from askless.core.aggregation.shape_stats import ShapeStats
from askless.core.aggregation.summary import RouteStats
from askless.core.findings.finding import URGENT_SHARE, Cost
from askless.core.findings.remedies import Project, SelectColumn, SplitJoin
from askless.core.formatting import number, plural, size
from askless.core.inference.context import Context
from askless.core.inference.joined_rows import JoinTotals, joined_rows
from askless.core.patterns.base import ByTotals, Diagnosis, FindingDraft, Match, Rule, taken
from askless.core.records.model import SAMPLED_MOST
from askless.core.sql.structure import Structure

RULE = Rule(
    "row-multiplication",
    "a join that returns each parent many times",
    "two to-many joins that multiply each other's rows, parents repeated by a join that only "
    "filters, or wide parent columns sent with each child",
    "small products, DISTINCT, GROUP BY, narrow parents with their children",
)
_URGENT_ROWS = 5000.0  # a request
_TIMES_LEAST = 1.5  # how often a parent comes, from which it matters


class _Found(NamedTuple):
    """What a join makes too much of, for each query."""

    variant: str
    title: str
    because: tuple[str, ...]
    rows: float
    bytes: float


class RowMultiplication(ByTotals):
    """See the module."""

    rule = RULE

    def worth_parsing(self, stats: ShapeStats, context: Context) -> bool:
        """Whether rows were kept of a join, and there are enough of them."""
        least = context.settings.multiplied_rows_least
        return stats.rows_most >= least and any(example.sample for example in stats.examples)

    def judge(
        self, route: RouteStats, context: Context, diagnoses: list[Diagnosis]
    ) -> Iterable[Diagnosis]:
        """One per join; a wide column that is to be omitted anyway is not reported again."""
        narrowed = {
            one.finding.shape for one in diagnoses if isinstance(one.remedy, Project | SelectColumn)
        }
        for one in super().judge(route, context, diagnoses):
            if one.finding.variant != "wide parents" or one.finding.shape not in narrowed:
                yield one

    def judge_shape(self, met: Match, structure: Structure) -> Diagnosis | None:
        """For what weighs most in a join."""
        joined = joined_rows(met.stats, structure, met.context)
        if joined is None or joined.times < _TIMES_LEAST:
            return None
        look = _product if joined.product else _again if joined.only_main else _wide
        result = look(met, structure.main, joined)
        settings = met.context.settings
        if (
            result.rows < settings.multiplied_rows_least
            and result.bytes < settings.multiplied_bytes_least
        ):
            return None
        return _diagnosis(met, joined, result)


def _product(met: Match, main: str, joined: JoinTotals) -> _Found:
    """Two collections joined to one parent."""
    rows = met.stats.rows / met.stats.count
    separate = rows * joined.separate / joined.rows
    one, other = joined.product
    title = (
        f"{plural(rows, 'row')} where about {number(round(separate))} would do: {one} and {other}, "
        f"both joined to {main}, multiply each other"
    )
    because = (
        f"a row of {main} appears {number(joined.times)} times in the recorded rows: each row of "
        f"its {one} with each of its {other}",
        _growth(met, main, joined, joined.separate / joined.parents),
    )
    spare = max(rows - separate, 0.0)
    return _Found("product", title, because, spare, _row_bytes(met) * spare)


def _again(met: Match, main: str, joined: JoinTotals) -> _Found:
    """Parents that come several times, though nothing of what they are joined to is fetched."""
    rows = met.stats.rows / met.stats.count
    title = (
        f"{plural(rows, 'row')} of {main}, each of them {number(joined.times)} times: the join "
        "only filters"
    )
    because = (
        f"{plural(joined.rows, 'row')} seen are {joined.parents} of {main}, and no column of "
        "another table is fetched",
        _growth(met, main, joined, 1.0),
    )
    spare = rows - rows / joined.times
    return _Found("parents again", title, because, spare, _row_bytes(met) * spare)


def _wide(met: Match, main: str, joined: JoinTotals) -> _Found:
    """Columns of a parent that are sent with each of its children."""
    widths, measured = met.context.widths_of(met.stats)
    rows, outputs = met.stats.rows / met.stats.count, met.structure.outputs
    own = [
        width for output, width in zip(outputs, widths, strict=False) if output.column.table == main
    ]
    parent_bytes = sum(own) / measured if measured and len(widths) == len(outputs) else 0.0
    spare_bytes = (rows - rows / joined.times) * parent_bytes
    title = (
        f"each row of {main} is sent {number(joined.times)} times: {size(spare_bytes, 'bytes')} of "
        f"{size(met.stats.bytes / met.stats.count, 'bytes')} a query are its columns again"
    )
    because = (
        f"{size(parent_bytes, 'bytes')} of {main} are in each row (mean of "
        f"{plural(measured, 'row')})",
        _growth(met, main, joined, 1.0),
    )
    return _Found("wide parents", title, because, 0.0, spare_bytes)


def _row_bytes(met: Match) -> float:
    return met.stats.bytes / met.stats.rows if met.stats.rows else 0.0


def _growth(met: Match, main: str, joined: JoinTotals, apart: float) -> str:
    """What the joined result will be at five and six figures; `apart` are the rows for each parent
    otherwise.
    """
    texts = []
    for parents in (10_000, 100_000):
        rows = parents * joined.times
        texts.append(
            f"{number(parents)} rows of {main} make {number(rows)} "
            f"({size(rows * _row_bytes(met), 'bytes')}) where {number(parents * apart)} would do"
        )
    return "; ".join(texts)


def _diagnosis(met: Match, joined: JoinTotals, result: _Found) -> Diagnosis:
    stats = met.stats
    per_request = stats.count / max(stats.requests, 1)
    rows, sent = result.rows * per_request, result.bytes * per_request
    urgent = result.variant == "product" and (rows >= _URGENT_ROWS or met.share >= URGENT_SHARE)
    claim = FindingDraft(
        variant=result.variant,
        severity="urgent" if urgent else "worthwhile",
        title=result.title,
        evidence="traced",
        evidence_details=(*result.because, *taken(met.route)),
        cost=Cost(queries=per_request, query_ms=stats.query_ns / 1e6, rows=rows, bytes=sent),
        caveats=("only the first rows of each result are recorded: later rows may differ",)
        if stats.rows_most > SAMPLED_MOST
        else (),
    )
    spared = [plural(rows, "row")] if rows else []
    saving = (
        f"about {' and '.join([*spared, size(sent, 'bytes')])} per request; run a trial to "
        "measure the time"
    )
    tables = joined.product or tuple(joined.children)
    remedy = SplitJoin(
        stats=stats, line=met.line, saving=saving, variant=result.variant, tables=tables
    )
    return Diagnosis(met.finding(RULE, claim), remedy)


PATTERN = RowMultiplication()
