"""The documents that compare: before with after, what is with what may be, few rows with many,
early with late.
"""

from __future__ import annotations

import msgspec

from askless.core.findings.finding import Finding
from askless.core.statistics import Ratio
from askless.core.verdicts import Verdict
from askless.reports.document import BeforeAfter, Document, Fields


class TimeSpread(msgspec.Struct, frozen=True):
    """A median with its quartiles, in milliseconds."""

    median_ms: float
    low_ms: float
    high_ms: float
    requests: int


class TimeBeforeAfter(Fields, frozen=True):
    """Request times on both sides of a comparison; null on the side where they were not
    measured.
    """

    before: TimeSpread | None = None
    after: TimeSpread | None = None


class CompareRow(msgspec.Struct, frozen=True):
    """One route before and after; None on the side where it was not asked. Counts are means per
    request.

    `objects` and `memory_bytes` are 0 on a side where they were not tracked.
    """

    route: str
    queries: BeforeAfter
    rows: BeforeAfter
    bytes: BeforeAfter
    time: TimeBeforeAfter
    ratio: Ratio | None
    verdict: Verdict
    objects: BeforeAfter = BeforeAfter()
    memory_bytes: BeforeAfter = BeforeAfter()


class UncoveredFinding(msgspec.Struct, frozen=True):
    """A finding that was there before, behind a larger one. `reason` says which."""

    finding: Finding
    reason: str


class CompareDocument(Document, frozen=True, kw_only=True):
    """`askless compare`. `ratio` is time before over time after: value, low, high of a 95 %
    interval.

    `variation` is the largest factor by which one of `controls` moved: the routes with the same
    queries on both sides, without those that moved far more than the others; None without such a
    route. What is `improved` costs less than before; what is `uncovered` was there before,
    behind a finding that is fixed; `regressions` are the keys of new findings on
    routes that cost more than before. `accepted` counts the findings after the change that the
    project accepts, which are not listed. `damage` says what of either capture can't be read or was
    lost.
    """

    before: str
    after: str
    routes: tuple[CompareRow, ...]
    variation: float | None
    fixed: tuple[Finding, ...]
    new: tuple[Finding, ...]
    remaining: tuple[Finding, ...]
    controls: tuple[str, ...] = ()
    improved: tuple[Finding, ...] = ()
    uncovered: tuple[UncoveredFinding, ...] = ()
    regressions: tuple[str, ...] = ()
    accepted: int = 0
    damage: str = ""


class GateRow(msgspec.Struct, frozen=True):
    """One limit. `source`: budget or baseline. `measure`: queries, rows, bytes, database_ms,
    patterns (findings that may not be).

    `limit` is the most that may be, or what was seen before; `findings` are names, and `allowed`
    the patterns that may be found, if the measure is patterns.
    """

    route: str
    measure: str
    limit: float
    actual: float
    over: bool
    source: str
    findings: tuple[str, ...]
    allowed: tuple[str, ...] = ()


class GateDocument(Document, frozen=True, kw_only=True):
    """`askless gate`. `missing_routes` are routes with a budget, or of the baseline, of which the
    capture has no request.

    With `missing_allowed`, those may be missing.
    """

    capture: str
    baseline: str
    project: str
    rows: tuple[GateRow, ...]
    findings: tuple[Finding, ...]
    missing_routes: tuple[str, ...]
    accepted: int
    remarks: tuple[str, ...]
    passed: bool
    missing_allowed: bool = False


class Projected(msgspec.Struct, frozen=True):
    """What a request asks at a number of rows, by a straight line through what was seen."""

    rows: float
    queries: float
    request_ms: float
    bytes: float


class GrowthTerm(msgspec.Struct, frozen=True):
    """So many queries for each row of a table."""

    factor: float
    table: str


class GrowthPoint(Fields, frozen=True):
    """One request: its rows, its queries, and the milliseconds it took."""

    rows: int
    queries: int
    request_ms: float


class GrowthRow(msgspec.Struct, frozen=True):
    """One route. `outcome`: grows, does not grow, too few sizes, unclear. `sizes` are numbers of
    rows of `table`, the list.

    `queries = constant + terms`. `projected` is at the median size seen, at ten times and at a
    hundred times of it; empty where too few sizes were seen. `superlinear`: time grows faster than
    in a line. `points` are rows, queries and ms of single requests.
    """

    route: str
    requests: int
    outcome: str
    table: str
    sizes: tuple[int, ...]
    formula: str
    constant: float
    terms: tuple[GrowthTerm, ...]
    slope: float
    projected: tuple[Projected, ...]
    superlinear: bool
    points: tuple[GrowthPoint, ...]


class GrowthDocument(Document, frozen=True, kw_only=True):
    """`askless growth`."""

    capture: str
    routes: tuple[GrowthRow, ...]


class TrendRow(msgspec.Struct, frozen=True):
    """One shape over time. `counts` are executions in each stretch; `ratio` is the median of the
    last third over the first's.

    `direction`: slower, faster, no measurable change, too few to judge.
    """

    shape: str
    sql: str
    routes: tuple[str, ...]
    count: int
    total_ms: float
    counts: tuple[int, ...]
    first_ms: float
    last_ms: float
    direction: str
    ratio: Ratio | None


class TrendDocument(Document, frozen=True, kw_only=True):
    """`askless growth --over-time`. `stretch_s` is how long each of the stretches is that `counts`
    counts in.
    """

    capture: str
    stretch_s: float
    shapes: tuple[TrendRow, ...]
    hidden: int
