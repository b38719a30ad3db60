"""discarded-rows: most of the rows fetched are never used. Known only where use was tracked.

`counted`: no object was touched at all, so that only their number can have mattered. `filtered`:
some columns were read of nearly all objects, all others of few: the application chose in a loop
what SQL could have chosen.
"""

from __future__ import annotations

from askless.core.aggregation.shape_stats import ShapeStats, UseTotals
from askless.core.findings.finding import Cost, severity
from askless.core.findings.remedies import PushDown
from askless.core.formatting import number, plural
from askless.core.inference.context import Context
from askless.core.patterns.base import ByTotals, Diagnosis, FindingDraft, Match, Rule, taken
from askless.core.sql.structure import Structure

RULE = Rule(
    "discarded-rows",
    "rows that are fetched and discarded",
    "20 or more rows of which none or few were used",
    "rows whose columns are mostly read",
    needs_use=True,
)


class DiscardedRows(ByTotals):
    """See the module."""

    rule = RULE

    def worth_parsing(self, stats: ShapeStats, context: Context) -> bool:
        """Whether it was tracked what became of the rows."""
        return bool(stats.used) and stats.load is not None

    def judge_shape(self, met: Match, structure: Structure) -> Diagnosis | None:
        """One a query whose rows are thrown away."""
        load, settings = met.stats.load, met.context.settings
        totals = met.stats.used.get(load.target) if load is not None else None
        if load is None or totals is None or load.kind not in ("query", "lazy"):
            return None
        if totals.objects / totals.results < settings.discarded_rows_least:
            return None
        if not totals.touched:
            return None if totals.relations else _diagnosis(met, totals, 0.0, [])
        tested, used = _split(totals, settings.discarded_read_most)
        if not tested or used is None:
            return None
        return _diagnosis(met, totals, used / totals.results, tested)


def _diagnosis(met: Match, totals: UseTotals, used: float, tested: list[str]) -> Diagnosis:
    """`used` rows of each result were used; `tested` columns were looked at of all of them."""
    stats = met.stats
    rows = totals.objects / totals.results
    main = stats.load.target if stats.load is not None else ""
    columns = tuple(column.rsplit(".", 1)[-1] for column in tested)
    names = ", ".join(columns)
    if not tested:
        title = (
            f"{plural(rows, 'row')} of {main} fetched but never read, so only their number can "
            "matter"
        )
        because = f"no attribute of {plural(totals.objects, 'object')} was read"
    else:
        title = (
            f"{plural(rows, 'row')} of {main} fetched, {number(used)} used: of the others only "
            f"{names} was read"
        )
        because = (
            f"{names} was read of nearly all {totals.objects:,} objects, every other column of at "
            f"most {number(used)} of {number(rows)}"
        )
    spare_rows = rows - used
    spare = stats.bytes / stats.count * spare_rows / rows if stats.count and rows else 0.0
    claim = FindingDraft(
        variant="filtered" if tested else "counted",
        severity=severity(met.share, 0),
        title=title,
        evidence="traced",
        evidence_details=(because, *taken(met.route)),
        cost=Cost(
            queries=stats.count / stats.requests,
            query_ms=stats.query_ns / 1e6,
            rows=spare_rows,
            bytes=spare,
        ),
        caveats=(
            "it is not always faster in SQL: run a trial",
            *(() if tested else ("objects that are only compared with `is` count as unread",)),
        ),
    )
    saving = f"about {plural(spare_rows, 'row')} per request; run a trial to measure the time"
    remedy = PushDown(stats=stats, line=met.line, saving=saving, columns=columns, rows=spare_rows)
    return Diagnosis(met.finding(RULE, claim), remedy)


def _split(totals: UseTotals, most: float) -> tuple[list[str], int | None]:
    """Columns that were read of nearly all objects, and the most objects of which any other one was
    read.
    """
    tested = sorted(
        column for column, count in totals.columns.items() if count >= 0.9 * totals.objects
    )
    others = [count for column, count in totals.columns.items() if column not in tested]
    others += list(totals.relations.values())
    if not others or max(others) > most * totals.objects:
        return tested, None
    return tested, max(others)


PATTERN = DiscardedRows()
