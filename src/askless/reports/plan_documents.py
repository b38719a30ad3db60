"""The documents of plans, and of the indexes that would help a statement."""

from __future__ import annotations

import msgspec

from askless.reports.document import Document


class PlanNode(msgspec.Struct, frozen=True):
    """A node of a plan tree, with what was observed on it.

    `rows` is the table's size, where known. `estimated_rows` and `actual_rows` are per loop;
    `own_ms` is the time in the node itself over all loops, `share` its part of the plan's time.
    `cost` is the planner's own unit, which is not a time. `alias` is what the statement calls the
    table, if that is another name.
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

    `rows_before` and `rows_after` are about how many rows of the table the statement touches;
    `guessed` where no one measured how many rows its conditions keep. `partial` is another form of
    it, for the rows of a constant condition.
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

    `generic_plan` is what a prepared statement gets once the server has stopped to look at the
    values, if it differs. `planning_ms` is what planning takes each time that a text comes again;
    None if the server does not tell.
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
    """`askless plan`. `schema_known` says whether the tables were looked at: without them no index
    is advised. The statements are some of so many `shapes` of the capture, or of the routes that
    were named, and take `time_share` of their time; 0 where there is no such choice.
    """

    system: str
    statements: tuple[PlanRow, ...]
    schema_known: bool = True
    shapes: int = 0
    time_share: float = 0.0
