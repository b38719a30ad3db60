"""What `askless trial --edit` prints as JSON."""

from __future__ import annotations

import msgspec

from askless.core.findings.finding import SourceLine
from askless.core.statistics import Ratio
from askless.core.trials.pages import PageDifference
from askless.reports.comparison_documents import CompareRow
from askless.reports.document import BeforeAfter, Document, Fields


class TriedEdit(Fields, frozen=True, kw_only=True):
    """An edit, and whether it is proven; `reason` says why it is not. `queries` are those of its
    route per request, before and after as measured; `queries_after` is what was predicted.
    """

    findings: tuple[str, ...]
    title: str
    at: SourceLine | None
    code: str
    route: str
    proven: bool
    reason: str
    queries: BeforeAfter
    queries_after: float
    difference: PageDifference | None


class TriedPage(msgspec.Struct, frozen=True):
    """A page with all proven edits. `set_apart` counts the places that differ between answers of
    the unchanged program, and are not compared. Times are medians as the visitor saw them; `ratio`
    is before over after with its interval, from rounds of separate processes.
    """

    url: str
    status: int
    visits: int
    set_apart: int
    before_ms: float
    after_ms: float
    ratio: Ratio | None


class EditTrialDocument(Document, frozen=True, kw_only=True):
    """`askless trial --edit`. `routes` are before and after with the proven edits, `fixed`,
    `remaining` and `new` the names of findings on the pages that were visited, `patch` the proven
    edits alone as a unified diff.
    """

    capture: str = ""
    rounds: int = 0
    edits: tuple[TriedEdit, ...]
    pages: tuple[TriedPage, ...] = ()
    routes: tuple[CompareRow, ...] = ()
    fixed: tuple[str, ...] = ()
    remaining: tuple[str, ...] = ()
    new: tuple[str, ...] = ()
    patch: str = ""
