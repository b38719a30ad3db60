"""Which part of a statement costs what."""

from __future__ import annotations

from collections.abc import Callable
from statistics import median

from askless.core.progress import Progress, quiet
from askless.core.sql.masking import masker
from askless.core.verdicts import Outcome, Verdict, direction
from askless.database import clause_cost
from askless.database.clause_cost import ClauseCost, ClauseCosts
from askless.database.connecting import parse_url
from askless.database.servers import Limits
from askless.reports import documents
from askless.reports.statement_selection import Subject


def weigh(
    database: str,
    subject: Subject,
    values: bool,
    limits: Limits | None = None,
    progress: Progress = quiet,
) -> documents.WeighDocument:
    """Weigh the parts of one SELECT. `values` shows its literals.

    Raises AskLessError: not-a-select, no-parts, server-busy, and what the database says.
    """
    whole = clause_cost.weigh(
        parse_url(database),
        subject.text,
        subject.parameters,
        subject.names,
        limits,
        progress,
        subject.system,
    )
    mask = masker(subject.system or whole.system, values)
    whole_ms = median(whole.times_ms)
    return documents.WeighDocument(
        format="askless weigh",
        system=whole.system,
        sql=mask(whole.sql),
        whole_ms=whole_ms,
        rows=whole.rows,
        bytes=whole.bytes,
        repetitions=len(whole.times_ms),
        parts=tuple(_part(weight, whole, whole_ms, mask) for weight in whole.parts),
    )


def _part(
    weight: ClauseCost, whole: ClauseCosts, whole_ms: float, mask: Callable[[str], str]
) -> documents.ClauseCostRow:
    without_ms = median(weight.times_ms) if weight.times_ms else None
    return documents.ClauseCostRow(
        kind=weight.part.kind,
        part=mask(weight.part.text),
        with_it=weight.part.with_it,
        without_ms=without_ms,
        cost_ms=whole_ms - without_ms if without_ms is not None else None,
        ratio=weight.ratio,
        rows=weight.rows,
        bytes=weight.bytes,
        verdict=verdict(weight, whole),
        error=weight.error,
    )


def verdict(weight: ClauseCost, whole: ClauseCosts) -> Verdict:
    """What leaving the part out did: FASTER where the statement is faster without it."""
    ratio = weight.ratio
    if weight.error:
        return Verdict(Outcome.NEEDED, "can't run without it")
    more = (
        f", and gives {weight.rows:,} rows instead of {whole.rows:,}"
        if weight.rows != whole.rows
        else ""
    )
    if ratio is None:
        return Verdict(
            Outcome.TOO_FEW, "run only once because it is slow, so its time is not compared" + more
        )
    outcome = direction(ratio)
    if outcome is Outcome.UNDECIDED:
        return Verdict(outcome, "no measurable cost" + more)
    if outcome is Outcome.FASTER:
        return Verdict(outcome, f"costs {100 * (1 - 1 / ratio.value):.0f} % of the time" + more)
    return Verdict(outcome, f"saves time: ×{1 / ratio.value:.1f} without it" + more)
