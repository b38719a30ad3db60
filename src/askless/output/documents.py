"""What `--json` prints: one document a command, documented by the JSON Schema made from these types.

Every document names its format and version. Fields are only added within a version.
"""

from __future__ import annotations

from typing import Any

import msgspec

from askless.core.findings import Finding, Line
from askless.core.tables import RouteRow


class Document(msgspec.Struct, frozen=True, kw_only=True):
    """What all documents share."""

    format: str
    version: int = 1


class RequestsDocument(Document, frozen=True, kw_only=True):
    """`askless requests`."""

    capture: str
    routes: tuple[RouteRow, ...]
    requests: int
    queries: int
    noise: int
    notes: tuple[str, ...] = ()


class RequestRow(msgspec.Struct, frozen=True):
    """One request, as `askless requests --each` lists it. `number` is what `askless timeline` takes.

    `path` stays empty unless values were asked for.
    """

    number: int
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


class TimelineRow(msgspec.Struct, frozen=True):
    """A query of a request, or a run of one shape folded: `count` queries between `start_ms` and `end_ms`.

    `duration_ms` is their time together; `parameters` stays empty unless values were asked for.
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
    line: Line | None
    error: str = ""
    load: str = ""
    parameters: str = ""


class TimelineDocument(Document, frozen=True, kw_only=True):
    """`askless timeline`. `path` stays empty unless values were asked for."""

    capture: str
    number: int
    route: str
    path: str
    status: int
    request_ms: float
    database_ms: float
    queries: int
    noise: int
    rows: tuple[TimelineRow, ...]


class FindingsDocument(Document, frozen=True, kw_only=True):
    """`askless findings`. `hidden` counts findings that filters left out."""

    capture: str
    findings: tuple[Finding, ...]
    requests: int
    queries: int
    hidden: int = 0
    notes: tuple[str, ...] = ()


class FileCheck(msgspec.Struct, frozen=True):
    """One file of a capture. `torn` tells of a last line cut short, `closed` of a recorder that ended in good order."""

    file: str
    version: int
    recorder: str
    program: str
    lines: int
    requests: int
    open_requests: int
    queries: int
    torn: bool
    closed: bool
    bad_lines: tuple[tuple[int, str], ...]
    notes: tuple[str, ...]


class CheckDocument(Document, frozen=True, kw_only=True):
    """`askless capture check`."""

    capture: str
    files: tuple[FileCheck, ...]
    sound: bool


class PlanNode(msgspec.Struct, frozen=True):
    """A node of a plan tree, with what was observed on it.

    `rows` is the table's size, where known. `estimated_rows` and `actual_rows` are per loop; `own_ms` is the time in the
    node itself over all loops, `share` its part of the plan's time. `cost` is the planner's own unit, which is no time.
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


class IndexRow(msgspec.Struct, frozen=True):
    """An index to try."""

    ddl: str
    table: str
    columns: tuple[str, ...]
    why: str
    size_bytes: int
    writes: int
    redundant: tuple[str, ...]
    check: tuple[str, ...]


class PlanRow(msgspec.Struct, frozen=True):
    """One statement and its plan. `total_ms` is its time over the capture."""

    sql: str
    shape: str
    routes: tuple[str, ...]
    queries: int
    total_ms: float
    plan: tuple[PlanNode, ...]
    indexes: tuple[IndexRow, ...]
    error: str = ""


class PlanDocument(Document, frozen=True, kw_only=True):
    """`askless plan`. `schema_known` tells whether the tables were looked at: without them no index is advised."""

    system: str
    statements: tuple[PlanRow, ...]
    schema_known: bool = True


class TrialStatement(msgspec.Struct, frozen=True):
    """One statement's trial. `ratio` is median before over median after, with a 95 % interval."""

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
    verdict: str


class TrialDocument(Document, frozen=True, kw_only=True):
    """`askless trial`."""

    system: str
    index: str
    build_ms: float
    size_bytes: int
    statements: tuple[TrialStatement, ...]


class Spread(msgspec.Struct, frozen=True):
    """A median with its quartiles, in milliseconds."""

    median: float
    low: float
    high: float
    count: int


class CompareRow(msgspec.Struct, frozen=True):
    """One route before and after; None on the side where it was not asked. Counts are means per request."""

    route: str
    queries: tuple[float | None, float | None]
    rows: tuple[float | None, float | None]
    bytes: tuple[float | None, float | None]
    time: tuple[Spread | None, Spread | None]
    ratio: tuple[float, float, float] | None
    verdict: str


class CompareDocument(Document, frozen=True, kw_only=True):
    """`askless compare`. `ratio` is time before over time after: value, low, high of a 95 % interval.

    `drift` is the largest factor by which a route that asks the same on both sides moved; None without such a route.
    """

    before: str
    after: str
    routes: tuple[CompareRow, ...]
    drift: float | None
    gone: tuple[Finding, ...]
    new: tuple[Finding, ...]
    left: tuple[Finding, ...]


DOCUMENTS: dict[str, type[Document]] = {
    "requests": RequestsDocument,
    "requests-each": EachDocument,
    "timeline": TimelineDocument,
    "findings": FindingsDocument,
    "check": CheckDocument,
    "plan": PlanDocument,
    "trial": TrialDocument,
    "compare": CompareDocument,
}


def encode(document: Document) -> str:
    """A document as indented JSON."""
    return msgspec.json.format(msgspec.json.encode(document), indent=2).decode()


def json_schema(name: str) -> dict[str, Any]:
    """The JSON Schema of a command's document. Raises KeyError for a name that is none."""
    schema = msgspec.json.schema(DOCUMENTS[name])
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": f"askless {name}, version 1", **schema}
