"""What `--json` prints: one document a command, documented by the JSON Schema made from these
types.

Every document names its format and version. Fields are only added within a version.
"""

from __future__ import annotations

from typing import Any

import msgspec

from askless.core.aggregation.route_rows import RouteRow
from askless.core.findings.finding import Edit, Finding, SourceLine
from askless.core.records.sampling import Estimate
from askless.core.records.schema import Table
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
    UncoveredFinding as UncoveredFinding,
)
from askless.reports.document import BeforeAfter as BeforeAfter, Document as Document, Fields
from askless.reports.edit_trial_documents import (
    EditTrialDocument as EditTrialDocument,
    TriedEdit as TriedEdit,
    TriedPage as TriedPage,
)
from askless.reports.key_descriptions import description_of
from askless.reports.plan_documents import (
    IndexRow as IndexRow,
    PlanDocument as PlanDocument,
    PlanNode as PlanNode,
    PlanRow as PlanRow,
)
from askless.reports.trial_documents import (
    ClauseCostRow as ClauseCostRow,
    FindingTrialDocument as FindingTrialDocument,
    RewriteDocument as RewriteDocument,
    TrialAlternative as TrialAlternative,
    TrialDocument as TrialDocument,
    TrialSide as TrialSide,
    TrialStatement as TrialStatement,
    WeighDocument as WeighDocument,
    WorkBeforeAfter as WorkBeforeAfter,
)


class RequestsDocument(Document, frozen=True, kw_only=True):
    """`askless requests`. What begins with `all` counts those requests, too, that were omitted: see
    `RouteRow`.
    """

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
    """A query of a request, or a run of one shape folded: `count` queries between `start_ms` and
    `end_ms`.

    `duration_ms` is their time together; `parameters` stays empty unless values were asked for.
    `executions` are the folded queries' own starts and durations, those of the first 400.
    `rows_examined` are the rows that the server read for them, if it reported that.
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
    """`askless findings`. `edits` say which findings one change fixes, and what the page asks then.

    `damage` says what of the capture can't be read or was lost; '' where it is sound. `hidden`
    counts findings that filters omitted; `accepted` names those that the project accepts.
    `network_latency_ms` is the way to the database that was added to each query.
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
    """One file of a capture. `truncated` says of a last line cut short, `closed` of a recorder that
    finished normally.
    """

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


class PatchedEdit(Fields, frozen=True, kw_only=True):
    """An edit, and whether it is in the patch; `reason` says why it is not."""

    findings: tuple[str, ...]
    title: str
    at: SourceLine | None
    code: str
    patched: bool
    reason: str


class PatchDocument(Document, frozen=True, kw_only=True):
    """`askless findings --patch`. `patch` is a unified diff, with names of files from the folder
    `root`.
    """

    capture: str
    root: str
    patch: str
    edits: tuple[PatchedEdit, ...]


class CheckDocument(Document, frozen=True, kw_only=True):
    """`askless capture check`."""

    capture: str
    files: tuple[FileCheck, ...]
    sound: bool


class ServedRow(msgspec.Struct, frozen=True):
    """A shape that an index serves, with its time over the capture and about how many rows of the
    table it touches.
    """

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
    """An index that the proof took out of the advised set, or that it keeps from being dropped, and
    why.
    """

    ddl: str
    why: str


class IndexSetTrialResult(msgspec.Struct, frozen=True):
    """What the planner said of the set on copies: what its statements cost without it and with it,
    in `unit`, which is not a time.

    `statements` were asked, `skipped` could not be. `excluded` are indexes that were advised and
    are not needed, `needed` indexes that looked redundant and are not, `harming` those of the set
    with which the planner does worse for a statement.
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
    """`askless indexes`. `unread` counts shapes that could not be read, or whose tables are not in
    the schema.

    `unjudged_indexes` counts indexes that look redundant on tables that no query of the capture
    asks: they are not judged.
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
    """A pattern. `severity` is the usual one; `needs_use`: reported only if `--track-use` was
    on.
    """

    name: str
    title: str
    flagged: str
    clean: str
    severity: str
    needs_use: bool


class PatternsDocument(Document, frozen=True, kw_only=True):
    """`askless patterns`. `page` is what is reported of one pattern at length, as Markdown; ''
    where all are listed.
    """

    patterns: tuple[PatternRow, ...]
    page: str = ""


class ReportDocument(Document, frozen=True, kw_only=True):
    """`askless report`: all that is reported of a capture, in the order in which someone reads it.

    `timelines` are the slowest request of each route; `plans` and `indexes` are there where a
    database was asked, `comparison` where there is a capture from before. `omitted` says what there
    is more of than is reported.
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
    "patch": PatchDocument,
    "check": CheckDocument,
    "plan": PlanDocument,
    "tables": TablesDocument,
    "trial": TrialDocument,
    "trial-rewrite": RewriteDocument,
    "trial-finding": FindingTrialDocument,
    "trial-edits": EditTrialDocument,
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
    return next(
        int(field.default)
        for field in msgspec.structs.fields(DOCUMENTS[name])
        if field.name == "version"
    )


def json_schema(name: str) -> dict[str, Any]:
    """The JSON Schema of a command's document. Raises KeyError for a name that is none."""
    schema = msgspec.json.schema(DOCUMENTS[name])
    for kind, definition in schema["$defs"].items():
        for key, value in definition.get("properties", {}).items():
            # Beside a reference, a description belongs to the property, not to the type that it
            # refers to.
            definition["properties"][key] = {"description": description_of(kind, key), **value}
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": f"askless {name}, version {version_of(name)}",
        **schema,
    }
