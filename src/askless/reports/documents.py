"""What `--json` prints: one document a command, documented by the JSON Schema made from these types.

Every document names its format and version. Fields are only added within a version.
"""

from __future__ import annotations

from typing import Any

import msgspec

from askless.core.aggregation.route_rows import RouteRow
from askless.core.findings.finding import Edit, Finding, SourceLine
from askless.core.records.model import Table
from askless.core.records.sampling import Estimate
from askless.core.statistics import Ratio
from askless.core.verdicts import Verdict
from askless.reports.comparison_documents import (
    CompareDocument as CompareDocument,
    CompareRow as CompareRow,
    GateDocument as GateDocument,
    GateRow as GateRow,
    GrowthDocument as GrowthDocument,
    GrowthPoint as GrowthPoint,
    GrowthRow as GrowthRow,
    GrowthTerm as GrowthTerm,
    Projected as Projected,
    TimeBeforeAfter as TimeBeforeAfter,
    TimeSpread as TimeSpread,
    TrendDocument as TrendDocument,
    TrendRow as TrendRow,
)
from askless.reports.document import BeforeAfter as BeforeAfter, Document as Document, Fields


class RequestsDocument(Document, frozen=True, kw_only=True):
    """`askless requests`. What begins with `all` counts those requests, too, that were left out: see `RouteRow`."""

    capture: str
    routes: tuple[RouteRow, ...]
    requests: int
    queries: int
    noise: int
    total_requests: int = 0
    estimated_queries: Estimate = Estimate(0.0)
    estimated_database_ms: Estimate = Estimate(0.0)


class RequestRow(msgspec.Struct, frozen=True):
    """One request, as `askless requests --each` lists it. `name` is what every command calls it.

    `path` stays empty unless values were asked for.
    """

    name: str
    route: str
    path: str
    status: int
    queries: int
    repeated: int
    database_ms: float
    request_ms: float
    rows: int
    warm_up: bool


class EachDocument(Document, frozen=True, kw_only=True):
    """`askless requests --each`."""

    capture: str
    requests: tuple[RequestRow, ...]


class Execution(Fields, frozen=True):
    """One of the queries folded into a row of a timeline."""

    start_ms: float
    duration_ms: float


class TimelineRow(msgspec.Struct, frozen=True):
    """A query of a request, or a run of one shape folded: `count` queries between `start_ms` and `end_ms`.

    `duration_ms` is their time together; `parameters` stays empty unless values were asked for. `executions` are the folded
    queries' own starts and durations, those of the first 400. `rows_examined` are what the server read for them, where it told.
    """

    start_ms: float
    end_ms: float
    duration_ms: float
    count: int
    rows: int
    bytes: int
    sql: str
    shape: str
    noise: bool
    line: SourceLine | None
    error: str = ""
    load: str = ""
    parameters: str = ""
    executions: tuple[Execution, ...] = ()
    rows_examined: int | None = None


class TimelineDocument(Document, frozen=True, kw_only=True):
    """`askless timeline`. `path` stays empty unless values were asked for."""

    capture: str
    name: str
    route: str
    path: str
    status: int
    request_ms: float
    database_ms: float
    queries: int
    noise: int
    rows: tuple[TimelineRow, ...]


class FindingsDocument(Document, frozen=True, kw_only=True):
    """`askless findings`. `edits` tell which findings one change fixes, and what the page asks then.

    `damage` tells what of the capture can't be read or was lost; '' where it is sound. `hidden` counts findings that filters
    left out; `accepted` names those that the project accepts. `network_latency_ms` is the
    way to the database that was added to each query.
    """

    capture: str
    findings: tuple[Finding, ...]
    edits: tuple[Edit, ...]
    requests: int
    queries: int
    hidden: int = 0
    accepted: tuple[str, ...] = ()
    network_latency_ms: float = 0.0
    damage: str = ""


class LostInput(msgspec.Struct, frozen=True):
    """Input that reached the recorder and is not in the capture."""

    count: int
    what: str
    reason: str


class BadLine(Fields, frozen=True):
    """A line of a capture file that can't be read. `line` counts from 1."""

    line: int
    reason: str


class FileCheck(msgspec.Struct, frozen=True):
    """One file of a capture. `truncated` tells of a last line cut short, `closed` of a recorder that finished normally."""

    file: str
    version: int
    recorder: str
    program: str
    lines: int
    requests: int
    open_requests: int
    queries: int
    truncated: bool
    closed: bool
    bad_lines: tuple[BadLine, ...]
    notes: tuple[str, ...]
    lost: tuple[LostInput, ...] = ()
    incomplete: bool = False


class CheckDocument(Document, frozen=True, kw_only=True):
    """`askless capture check`."""

    capture: str
    files: tuple[FileCheck, ...]
    sound: bool


class PlanNode(msgspec.Struct, frozen=True):
    """A node of a plan tree, with what was observed on it.

    `rows` is the table's size, where known. `estimated_rows` and `actual_rows` are per loop; `own_ms` is the time in the
    node itself over all loops, `share` its part of the plan's time. `cost` is the planner's own unit, which is no time.
    `alias` is what the statement calls the table, where that is another name.
    """

    kind: str
    detail: str
    table: str
    index: str
    rows: int | None
    observations: tuple[str, ...]
    children: tuple[PlanNode, ...]
    estimated_rows: float | None = None
    actual_rows: float | None = None
    loops: int | None = None
    own_ms: float | None = None
    share: float | None = None
    cost: float | None = None
    condition: str = ""
    alias: str = ""


class IndexRow(msgspec.Struct, frozen=True):
    """An index to try.

    `rows_before` and `rows_after` are about how many rows of the table the statement touches; `guessed` where nobody
    measured how many rows its conditions keep. `partial` is another form of it, for the rows of a constant condition.
    """

    ddl: str
    table: str
    columns: tuple[str, ...]
    why: str
    size_bytes: int
    writes: int
    redundant: tuple[str, ...]
    verify: tuple[str, ...]
    partial: str = ""
    rows_before: float | None = None
    rows_after: float | None = None
    guessed: bool = False


class PlanRow(msgspec.Struct, frozen=True):
    """One statement and its plan. `total_ms` is its time over the capture.

    `generic_plan` is what a prepared statement gets once the server has stopped to look at the values, where it differs.
    `planning_ms` is what planning takes each time that a text comes again; None where the server does not tell.
    """

    sql: str
    shape: str
    routes: tuple[str, ...]
    queries: int
    total_ms: float
    plan: tuple[PlanNode, ...]
    indexes: tuple[IndexRow, ...]
    error: str = ""
    generic_plan: tuple[PlanNode, ...] = ()
    remark: str = ""
    planning_ms: float | None = None


class PlanDocument(Document, frozen=True, kw_only=True):
    """`askless plan`. `schema_known` tells whether the tables were looked at: without them no index is advised."""

    system: str
    statements: tuple[PlanRow, ...]
    schema_known: bool = True


class WorkBeforeAfter(Fields, frozen=True):
    """What the server touched for a statement, in the unit that `work_unit` names."""

    before: int = 0
    after: int = 0


class TrialStatement(msgspec.Struct, frozen=True):
    """One statement's trial. `ratio` is median before over median after, with a 99 % interval.

    `work` counts what the server touched, before and after, in its own unit `work_unit`; '' where it can't be counted.
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
    """`askless trial --index`. `where` tells where the index was tried, `caution` what may have kept it from being used.

    For `locked_ms` nobody else could write to the table; `longest_wait_ms` is the longest time that somebody waited for that.
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
    """One of two statements, over all sets of values together. `median_ms` is None where nothing was timed."""

    sql: str
    median_ms: float | None
    rows: int
    bytes: int
    plan: tuple[PlanNode, ...]
    work: int


class RewriteDocument(Document, frozen=True, kw_only=True):
    """`askless trial --before --after`. `missing_rows` and `extra_rows` show some rows where values were asked for.

    `synthetic_rows` is what was planted in copies of the tables without making a difference, in words.
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
    """One way to get a finding's rows. `median_ms` as measured here, `with_latency_ms` with the added round-trip time."""

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


class FindingTrialDocument(Document, frozen=True, kw_only=True):
    """`askless trial --finding`. `network_latency_ms` is what was added to each query in the `away` figures."""

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
    """A part of a statement. `ratio` is the time of the whole over the time without the part; `cost_ms` their difference."""

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


class ServedRow(msgspec.Struct, frozen=True):
    """A shape that an index serves, with its time over the capture and about how many rows of the table it touches."""

    shape: str
    sql: str
    routes: tuple[str, ...]
    queries: int
    total_ms: float
    rows_before: float
    rows_after: float


class AdvisedIndex(msgspec.Struct, frozen=True):
    """An index of the advised set. `writes` are those of the capture that would each keep it up."""

    ddl: str
    table: str
    columns: tuple[str, ...]
    why: str
    size_bytes: int
    writes: int
    redundant: tuple[str, ...]
    partial: str
    guessed: bool
    serves: tuple[ServedRow, ...]


class RedundantIndex(msgspec.Struct, frozen=True):
    """An index that another one serves as well: an existing one, or an advised one."""

    table: str
    index: str
    by: str
    ddl: str


class BareForeignKey(msgspec.Struct, frozen=True):
    """A foreign key without an index. `shapes` of the capture look up or join by it."""

    table: str
    columns: tuple[str, ...]
    target: str
    rows: int | None
    ddl: str
    shapes: tuple[str, ...]


class TablesDocument(Document, frozen=True, kw_only=True):
    """`askless tables`. What other commands take as --schema: they read `system` and `tables`."""

    system: str
    tables: tuple[Table, ...]
    bare_keys: tuple[BareForeignKey, ...] = ()
    redundant: tuple[RedundantIndex, ...] = ()


class IndexReason(msgspec.Struct, frozen=True):
    """An index that the proof took out of the advised set, or that it keeps from being dropped, and why."""

    ddl: str
    why: str


class IndexSetTrialResult(msgspec.Struct, frozen=True):
    """What the planner said of the set on copies: what its statements cost without it and with it, in `unit`, which is no time.

    `statements` were asked, `skipped` could not be. `excluded` are indexes that were advised and are not needed, `needed`
    indexes that looked redundant and are not, `harming` those of the set with which the planner does worse for a statement.
    """

    where: str
    unit: str
    statements: int
    skipped: int
    before: float
    after: float
    excluded: tuple[IndexReason, ...]
    needed: tuple[IndexReason, ...]
    harming: tuple[IndexReason, ...]


class IndexesDocument(Document, frozen=True, kw_only=True):
    """`askless indexes`. `unread` counts shapes that could not be read, or whose tables are not in the schema.

    `unjudged_indexes` counts indexes that look redundant on tables that no query of the capture asks: they are not judged.
    """

    capture: str
    system: str
    shapes: int
    unread: int
    indexes: tuple[AdvisedIndex, ...]
    redundant: tuple[RedundantIndex, ...]
    foreign_keys: tuple[BareForeignKey, ...]
    measured: bool
    unjudged_indexes: int = 0
    set_trial: IndexSetTrialResult | None = None


class PatternRow(msgspec.Struct, frozen=True):
    """A pattern. `severity` is what it mostly comes to; `needs_use`: told only where `--track-use` was on."""

    name: str
    title: str
    flagged: str
    clean: str
    severity: str
    needs_use: bool


class PatternsDocument(Document, frozen=True, kw_only=True):
    """`askless patterns`. `page` is what is told of one pattern at length, as Markdown; '' where all are listed."""

    patterns: tuple[PatternRow, ...]
    page: str = ""


class ReportDocument(Document, frozen=True, kw_only=True):
    """`askless report`: all that is told of a capture, in the order in which somebody reads it.

    `timelines` are the slowest request of each route; `plans` and `indexes` are there where a database was asked, `comparison`
    where there is a capture from before. `omitted` says what there is more of than is told.
    """

    capture: str
    requests: RequestsDocument
    findings: FindingsDocument
    timelines: tuple[TimelineDocument, ...]
    growth: GrowthDocument
    plans: PlanDocument | None = None
    indexes: IndexesDocument | None = None
    comparison: CompareDocument | None = None
    omitted: tuple[str, ...] = ()


DOCUMENTS: dict[str, type[Document]] = {
    "requests": RequestsDocument,
    "requests-each": EachDocument,
    "timeline": TimelineDocument,
    "findings": FindingsDocument,
    "check": CheckDocument,
    "plan": PlanDocument,
    "tables": TablesDocument,
    "trial": TrialDocument,
    "trial-rewrite": RewriteDocument,
    "trial-finding": FindingTrialDocument,
    "weigh": WeighDocument,
    "indexes": IndexesDocument,
    "compare": CompareDocument,
    "patterns": PatternsDocument,
    "gate": GateDocument,
    "report": ReportDocument,
    "growth": GrowthDocument,
    "growth-over-time": TrendDocument,
}


def name_of(document: Document) -> str:
    """What the registry calls a document."""
    return next(name for name, kind in DOCUMENTS.items() if type(document) is kind)


def version_of(name: str) -> int:
    """The version of a document's form. Raises KeyError for a name that is none."""
    return next(int(field.default) for field in msgspec.structs.fields(DOCUMENTS[name]) if field.name == "version")


def json_schema(name: str) -> dict[str, Any]:
    """The JSON Schema of a command's document. Raises KeyError for a name that is none."""
    schema = msgspec.json.schema(DOCUMENTS[name])
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": f"askless {name}, version {version_of(name)}",
        **schema,
    }
