"""literal-churn: one shape in many texts, because values are written into them instead of being
bound.

Derived from the executions of a shape that were kept: each has other literals. Not flagged:
constants, LIMIT and OFFSET, lists (which ORMs write out for a batch), loops that another finding
takes away.
"""

from __future__ import annotations

from collections.abc import Iterable

from askless.core.aggregation.request_view import RequestView
from askless.core.aggregation.shape_stats import ShapeStats
from askless.core.aggregation.summary import RouteStats
from askless.core.findings.finding import Cost
from askless.core.findings.remedies import BindParameters
from askless.core.formatting import number, plural
from askless.core.inference.context import Context
from askless.core.patterns.base import Diagnosis, FindingDraft, Match, Rule
from askless.core.records.model import Statement
from askless.core.settings import Settings
from askless.core.sql.structure import Structure

RULE = Rule(
    "literal-churn",
    "values written into the text of a statement",
    "twenty or more executions of one shape, each recorded one with different literals",
    "constants, LIMIT and OFFSET, batch lists, loops that have their own finding",
    "minor",
)
_EXAMPLES_LEAST = 4  # executions that must have been kept, each with other literals
_OFTEN = 1000  # executions in the capture, from which it is more than a blemish
_EXPLAINED_BY = ("n-plus-one", "already-loaded", "find-or-create", "write-loop", "sibling-filters")


class LiteralChurn:
    """See the module."""

    rule = RULE

    def look(self, view: RequestView, settings: Settings) -> None:
        """Nothing: totals are enough."""

    def judge(
        self, route: RouteStats, context: Context, diagnoses: list[Diagnosis]
    ) -> Iterable[Diagnosis]:
        """One a shape."""
        explained = {one.finding.shape for one in diagnoses if one.finding.pattern in _EXPLAINED_BY}
        for stats in route.own_shapes():
            if (
                stats.shape.digest in explained
                or stats.shape.has_list
                or stats.count < context.settings.churn_least
            ):
                continue
            changing = _changing(stats)
            structure = stats.structure if changing else None
            if structure is None:
                continue
            columns = _columns_of(structure, changing)
            if columns:
                yield _diagnosis(
                    Match(route, stats, context, stats.places, stats.requests), columns
                )


def _changing(stats: ShapeStats) -> list[int]:
    """Slots of literals that change from execution to execution; none where two of those kept have
    the same literals.
    """
    examples = stats.examples
    if len(examples) < _EXAMPLES_LEAST or not _literals_of(stats.statement):
        return []
    places = _literals_of(examples[0].statement)
    if any(_literals_of(example.statement) != places for example in examples):
        return []
    rows = [example.statement.values(example.parameters, example.literals) for example in examples]
    changing = [i for i in places if len({row[i] for row in rows}) > 1]
    return changing if len({tuple(row[i] for i in changing) for row in rows}) == len(rows) else []


def _literals_of(statement: Statement) -> list[int]:
    return [i for i, slot in enumerate(statement.slots) if not slot.placeholder]


def _columns_of(structure: Structure, changing: list[int]) -> list[str]:
    """The columns that the changing literals are compared with or written into; none where one is a
    number of rows.
    """
    if {structure.limit_slot, structure.offset_slot} & set(changing):
        return []
    compared = [p.column.name for p in structure.predicates if set(p.slots) & set(changing)]
    return list(dict.fromkeys(compared)) or list(structure.written)


def _diagnosis(met: Match, columns: list[str]) -> Diagnosis:
    stats, structure = met.stats, met.structure
    named = ", ".join(columns[:3])
    seen = bool(stats.places)
    claim = FindingDraft(
        severity="worthwhile" if stats.count >= _OFTEN and seen else "minor",
        title=f"{plural(stats.count, 'execution')} of one statement on {structure.main} with as "
        f"many texts: the values of {named} are inlined",
        summary=f"{structure.main}: the values of {named} are inlined",
        evidence="traced",
        evidence_details=(
            f"each of {number(len(stats.examples))} recorded executions has different literals",
            "a new text is parsed and planned again, and evicts others from the server's caches",
        ),
        cost=Cost(queries=stats.count / max(stats.requests, 1), query_ms=stats.query_ns / 1e6),
        caveats=()
        if seen
        else (
            "this was recorded on the wire: the driver may inline values that the application "
            "binds",
        ),
    )
    return Diagnosis(
        met.finding(RULE, claim), BindParameters(stats=stats, line=met.line, saving="")
    )


PATTERN = LiteralChurn()
