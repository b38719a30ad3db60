"""The documents of trials: an index, a rewritten statement, a finding, the clauses of a
statement.
"""

from __future__ import annotations

import msgspec

from askless.core.statistics import Ratio
from askless.core.verdicts import Verdict
from askless.reports.document import Document, Fields
from askless.reports.plan_documents import PlanNode


class WorkBeforeAfter(Fields, frozen=True):
    """What the server touched for a statement, in the unit that `work_unit` names."""

    before: int = 0
    after: int = 0


class TrialStatement(msgspec.Struct, frozen=True):
    """One statement's trial. `ratio` is median before over median after, with a 99 % interval.

    `work` counts what the server touched, before and after, in its own unit `work_unit`; '' where
    it can't be counted.
    """

    sql: str
    before_ms: float
    after_ms: float
    ratio: float
    ratio_low: float
    ratio_high: float
    repetitions: int
    rows: int
    same_result: bool
    difference: str
    plan_before: tuple[PlanNode, ...]
    plan_after: tuple[PlanNode, ...]
    uses_index: bool
    verdict: Verdict
    bytes: int = 0
    work_unit: str = ""
    work: WorkBeforeAfter = WorkBeforeAfter()


class TrialDocument(Document, frozen=True, kw_only=True):
    """`askless trial --index`. `where` says where the index was tried, `caution` what may have kept
    it from being used.

    For `locked_ms` no one else could write to the table; `longest_wait_ms` is the longest time that
    someone waited for that.
    """

    system: str
    index: str
    build_ms: float
    size_bytes: int
    statements: tuple[TrialStatement, ...]
    where: str = ""
    caution: str = ""
    locked_ms: float = 0.0
    longest_wait_ms: float = 0.0


class TrialSide(msgspec.Struct, frozen=True):
    """One of two statements, over all sets of values together. `median_ms` is None if nothing was
    timed.
    """

    sql: str
    median_ms: float | None
    rows: int
    bytes: int
    plan: tuple[PlanNode, ...]
    work: int


class RewriteDocument(Document, frozen=True, kw_only=True):
    """`askless trial --before --after`. `missing_rows` and `extra_rows` show some rows where values
    were asked for.

    `synthetic_rows` is what was planted in copies of the tables without making a difference, in
    words.
    """

    system: str
    sets: int
    before: TrialSide
    after: TrialSide
    work_unit: str
    repetitions: int
    ratio: Ratio | None
    same_result: bool
    difference: str
    cause: str
    missing_rows: tuple[str, ...]
    extra_rows: tuple[str, ...]
    remarks: tuple[str, ...]
    verdict: Verdict
    synthetic_rows: tuple[str, ...] = ()


class TrialAlternative(msgspec.Struct, frozen=True):
    """One way to get a finding's rows. `median_ms` as measured here, `with_latency_ms` with the
    added round-trip time.
    """

    name: str
    sql: str
    queries: int
    median_ms: float
    with_latency_ms: float
    rows: int
    bytes: int
    same_result: bool
    difference: str
    cause: str
    note: str
    ratio: Ratio | None
    ratio_with_latency: float | None
    returns: str = "the same rows"


class FindingTrialDocument(Document, frozen=True, kw_only=True):
    """`askless trial --finding`. `network_latency_ms` is what was added to each query in the `away`
    figures.
    """

    system: str
    finding: str
    title: str
    route: str
    request: str
    lookups: int
    keys: int
    network_latency_ms: float
    repetitions: int
    alternatives: tuple[TrialAlternative, ...]
    verdict: Verdict


class ClauseCostRow(msgspec.Struct, frozen=True):
    """A part of a statement. `ratio` is the time of the whole over the time without the part;
    `cost_ms` their difference.
    """

    kind: str
    part: str
    with_it: str
    without_ms: float | None
    cost_ms: float | None
    ratio: Ratio | None
    rows: int
    bytes: int
    verdict: Verdict
    error: str = ""


class WeighDocument(Document, frozen=True, kw_only=True):
    """`askless weigh`."""

    system: str
    sql: str
    whole_ms: float
    rows: int
    bytes: int
    repetitions: int
    parts: tuple[ClauseCostRow, ...]
