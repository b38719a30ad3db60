"""over-wide: a list query that fetches wide columns, or every column there is.

Width is measured on the result (bytes of each column), or taken from the catalog's averages where
it was not. Where the recorder tracked what is read, columns that were read are never flagged, and
columns that no one read are flagged for what they weigh together. Elsewhere it is not known whether
the application reads the column; the finding says so.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping

from askless.core.aggregation.shape_stats import ShapeStats
from askless.core.findings.finding import Cost, SourceLine, severity
from askless.core.findings.remedies import Project
from askless.core.formatting import number, plural, size
from askless.core.inference.context import Context
from askless.core.inference.required_columns import ROW_IDS, keys_to_keep
from askless.core.inference.result_columns import readable, some
from askless.core.inference.shared_lines import levels_of
from askless.core.patterns.base import (
    ByTotals,
    Diagnosis,
    FindingDraft,
    Match,
    Rule,
    eager_path,
    lines_of,
    taken,
)
from askless.core.patterns.one_column import one_column
from askless.core.records.model import CallSite
from askless.core.sql.structure import Structure

RULE = Rule(
    "over-wide",
    "more columns than a list needs",
    "a list with columns of 256 or more bytes on average, or `*`; with `--track-use`, unread "
    "columns that make up half of the result, and objects of which one column is read",
    "short results, keys, what was read",
)


class OverWide(ByTotals):
    """See the module."""

    rule = RULE
    yields_to = (*ByTotals.yields_to, "discarded-rows", "unused-load")

    def worth_parsing(self, stats: ShapeStats, context: Context) -> bool:
        """Whether it is a list of some size."""
        if not stats.requests or not stats.count:
            return False
        if stats.used:
            return True
        return self._is_large(stats, context)

    def _is_large(self, stats: ShapeStats, context: Context) -> bool:
        settings = context.settings
        if stats.rows / stats.count < settings.wide_rows_least:
            return False
        return stats.bytes / stats.requests >= settings.wide_result_bytes

    def judge_shape(self, met: Match, structure: Structure) -> Diagnosis | None:
        """One a query that is too wide."""
        whole = one_column(RULE, met, structure)
        if whole is not None or not self._is_large(met.stats, met.context):
            return whole
        return self._judge_width(met, structure)

    def _judge_width(self, met: Match, structure: Structure) -> Diagnosis | None:
        """What need not be there, at the innermost line whose queries all do without it."""
        for places in levels_of(met.stats.places):
            diagnosis = self._judge_at(met, structure, places)
            if diagnosis is not None or not met.stats.used:  # the lines tell only what was tracked
                return diagnosis
        return None

    def _judge_at(
        self, met: Match, structure: Structure, places: Mapping[CallSite, int]
    ) -> Diagnosis | None:
        stats = met.stats
        read = _read(stats, structure, places, met.context)
        star = any(output.star for output in structure.outputs)
        wide = _wide_columns(met, structure, read)
        if wide is None or (not wide and (not star or len(stats.columns) < 4 or read is not None)):
            return None
        if read is None and _only_values(stats, structure, wide):
            return None
        if wide and sum(wide.values()) * stats.rows / stats.requests < 1:
            return None
        line = next(iter(lines_of(places)), met.line)
        return _diagnosis(met, structure, wide, read, star, line)


def _wide_columns(
    met: Match, structure: Structure, read: set[str] | None
) -> dict[str, float] | None:
    """The columns that need not be there with their mean bytes, the widest first: the wide ones, or
    those that no one read. None where these are too little of the result.
    """
    stats, context = met.stats, met.context
    settings = context.settings
    widths = _widths(stats, structure, context)
    if read is None:
        wide = {
            name: width for name, width in widths.items() if width >= settings.wide_column_bytes
        }
    else:
        wide = {name: width for name, width in widths.items() if name not in read}
        rows, per_request = stats.rows / stats.count, stats.bytes / stats.requests
        if sum(wide.values()) * rows < max(settings.wide_result_bytes, per_request / 2):
            return None
    remaining = _kept(stats, structure, context)
    # Of columns of two tables that share a name it can't be said which one a width is of.
    sure = (
        (name, width)
        for name, width in wide.items()
        if name not in remaining and stats.columns.count(name) < 2
    )
    return dict(sorted(sure, key=lambda item: -item[1]))


def _only_values(stats: ShapeStats, structure: Structure, wide: Collection[str]) -> bool:
    """Whether without these columns nothing is left but the row's id and what it is looked up by:
    they are what the query is for.
    """
    if not wide or len(structure.outputs) != len(stats.columns):
        return False
    compared = {predicate.column for predicate in structure.predicates}
    return all(
        name in wide or output.column in compared or output.column.name.lower() in ROW_IDS
        for name, output in zip(stats.columns, structure.outputs, strict=True)
    )


def _kept(stats: ShapeStats, structure: Structure, context: Context) -> set[str]:
    """Columns that must stay, by their own names and by those that the result gives them."""
    keep = keys_to_keep(structure, context.schema) | _needed(structure, context)
    if len(structure.outputs) != len(stats.columns):
        return keep
    outputs = zip(stats.columns, structure.outputs, strict=True)
    return keep | {name for name, output in outputs if output.column.name in keep}


def _needed(structure: Structure, context: Context) -> set[str]:
    """What the models of these tables can't do without."""
    tables = {table.lower() for table in structure.tables}
    models = [model for model in context.models.values() if model.table.lower() in tables]
    return {name for model in models for name in (*model.keys, *model.needed)}


def _widths(stats: ShapeStats, structure: Structure, context: Context) -> dict[str, float]:
    """Mean bytes of a value, by column: as measured, else as the catalog says."""
    widths, rows = context.widths_of(stats)
    if rows and stats.columns:
        return {name: size / rows for name, size in zip(stats.columns, widths, strict=False)}
    table = context.schema.table(structure.main) if context.schema else None
    if table is None:
        return {}
    wanted = {output.column.name.lower() for output in structure.outputs}
    return {
        column.name: column.width_bytes
        for column in table.columns
        if column.width_bytes is not None and ("*" in wanted or column.name.lower() in wanted)
    }


def _read(
    stats: ShapeStats, structure: Structure, places: Iterable[CallSite], context: Context
) -> set[str] | None:
    """The result's columns of which the application read at least one value, here or in another
    query of these lines; None if that was not tracked.
    """
    if not any(totals.objects for totals in stats.used.values()) or len(structure.outputs) != len(
        stats.columns
    ):
        return None
    seen = {column for totals in stats.used.values() for column in totals.columns}
    for place in places:
        seen |= set(context.readers.get((place.file, place.line), ()))
    return {
        name
        for name, output in zip(stats.columns, structure.outputs, strict=True)
        if f"{output.column.table}.{output.column.name}" in seen or not output.column.name
    }


def _title(
    met: Match, structure: Structure, wide: dict[str, float], read: set[str] | None, spare: float
) -> str:
    stats = met.stats
    rows, of = (
        stats.rows / stats.count,
        f"{size(stats.bytes / stats.requests, 'bytes')} per request",
    )
    names = some(readable(wide, stats.columns, structure))
    if wide and read is not None:
        return (
            f"{plural(rows, 'row')} with {names}, which are never read: "
            f"{size(spare, 'bytes')} of {of}"
        )
    if wide:
        widest = size(max(wide.values()), "bytes")
        return f"{plural(rows, 'row')} with {names} ({widest} each): {size(spare, 'bytes')} of {of}"
    return f"all {len(stats.columns)} columns of {structure.main} for {plural(rows, 'row')}: {of}"


def _severity(share: float, heavy: bool, tracked: bool) -> str:
    """By the share of the page's bytes; never urgent where it was not seen that no one reads
    them.
    """
    if not heavy:
        return "minor"
    result = severity(share / 4, 0)
    return result if tracked or result != "urgent" else "worthwhile"


def _diagnosis(
    met: Match,
    structure: Structure,
    wide: dict[str, float],
    read: set[str] | None,
    star: bool,
    line: SourceLine | None,
) -> Diagnosis:
    """`wide` columns with their mean bytes, the widest first; `read` are those that were read, if
    that is known; `line` is where they can be left out.
    """
    stats, context = met.stats, met.context
    spare = sum(wide.values()) * stats.rows / stats.requests
    request_bytes = sum(s.bytes for s in met.route.own_shapes()) / max(met.route.requests, 1)
    share = spare / request_bytes if request_bytes else 0.0
    because = []
    if read is not None:
        objects = sum(totals.objects for totals in stats.used.values())
        columns = ", ".join(sorted(readable(read, stats.columns, structure))) or "no column"
        because.append(
            f"of {plural(objects, 'object')} and of others that this line loads the application "
            f"read {columns}, and nothing else"
        )
    because += [
        f"{name}: {size(width, 'bytes')} per row, measured on the result"
        for name, width in zip(readable(wide, stats.columns, structure), wide.values(), strict=True)
    ]
    if star:
        because.append("the statement selects *, so it also fetches columns added later")
    heavy = max(wide.values(), default=0) >= context.settings.wide_column_bytes
    by_catalog = context.schema is not None and not context.widths_of(stats)[1]
    claim = FindingDraft(
        variant="wide-columns" if wide else "star",
        severity=_severity(share, heavy, read is not None),
        title=_title(met, structure, wide, read, spare),
        evidence="traced" if read is not None else "keyed" if by_catalog else "repeated",
        evidence_details=(*because, *taken(met.route)),
        cost=Cost(
            queries=stats.count / stats.requests,
            query_ms=stats.query_ns / 1e6,
            bytes=spare if wide else stats.bytes / stats.requests,
            rows=0.0,
        ),
        caveats=(
            ("not read in this capture; other requests may read it",)
            if read is not None
            else (
                "it is unknown whether the page reads these columns; check before you remove them",
            )
        ),
    )
    remedy = Project(
        stats=stats,
        line=line,
        saving=f"about {size(spare, 'bytes')} per request ({number(100 * share)} % of its bytes); "
        "run a trial to measure the time"
        if wide
        else "",
        wide=tuple(wide),
        unread=read is not None,
        path=eager_path(stats.load, met.route),
    )
    return Diagnosis(met.finding(RULE, claim), remedy)


PATTERN = OverWide()
