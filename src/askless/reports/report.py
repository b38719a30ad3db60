"""All that is reported of a capture, in one document and one reading; a capture that grows is read
on from where it was.
"""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

import msgspec

from askless.capture.following import Follower
from askless.capture.lines import files_of
from askless.capture.reading import FileReport, read
from askless.core import patterns
from askless.core.aggregation.aggregator import Aggregator
from askless.core.aggregation.summary import Summary
from askless.core.errors import AskLessError
from askless.core.formatting import plural
from askless.core.growth.by_rows import Sizes
from askless.core.progress import Progress, quiet
from askless.core.records.model import Request
from askless.project.file import Project, here
from askless.reports import (
    documents,
    findings,
    growth,
    plan,
    requests,
    statement_selection,
    timeline,
)
from askless.reports.compare import compare
from askless.reports.indexes import indexes
from askless.reports.loading import notes_of, schema_of

TYPE_CHECKING = False
if TYPE_CHECKING:
    from askless.database.servers import Limits

PLANS_MOST = 10  # statements that are explained, the dearest of the capture
_TELL_EVERY = 2_000  # requests


class ReportOptions(msgspec.Struct, frozen=True):
    """What a report takes in next to the capture: a database for plans and indexes, a saved schema,
    a capture from before.
    """

    database: str | None = None
    schema: Path | None = None
    before: Path | None = None
    values: bool = False
    network_latency_ms: float = 0.0


class ReportParts:
    """Takes the requests of a capture as they come, and says what they add up to so far."""

    def __init__(self, capture: Path, wish: ReportOptions, project: Project | None = None) -> None:
        self.capture = capture
        self.wish = wish
        self.project = here() if project is None else project
        self._gatherer = Aggregator(
            list(patterns.load()), self.project.settings(wish.values, wish.network_latency_ms)
        )
        self._sizes = Sizes()
        self._slowest: dict[str, tuple[int, Request]] = {}
        self._schema = schema_of(wish.database, wish.schema)
        self.count = 0

    def add(self, arriving: Iterable[Request]) -> None:
        """Count requests in, under the project's own names for routes and noise."""
        for request in self.project.terms().applied(arriving):
            self.count += 1
            self._gatherer.add(request)
            self._sizes.add(request)
            if request.warm_up or not len(request):
                continue
            spent_ns = sum(request.durations_ns)
            slowest = self._slowest.get(request.route)
            if slowest is None or spent_ns > slowest[0]:
                self._slowest[request.route] = spent_ns, request

    def summary(self) -> Summary:
        """What the requests add up to."""
        return self._gatherer.finish()

    def document(self, summary: Summary, notes: tuple[str, ...] = ()) -> documents.ReportDocument:
        """What is known without a database, and without a capture from before."""
        wish, path = self.wish, self.capture
        judged = findings.judged_from(summary, (), self._schema)
        routes = requests.document_of(path, summary)
        slowest = [
            self._slowest[row.route][1] for row in routes.routes if row.route in self._slowest
        ]
        return documents.ReportDocument(
            format="askless report",
            capture=str(path),
            requests=routes,
            findings=findings.document_of(path, judged, network_latency_ms=wish.network_latency_ms),
            timelines=tuple(
                timeline.document_of(path, request, values=wish.values) for request in slowest
            ),
            growth=growth.document_of(path, self._sizes.growth()),
            notes=notes,
        )


def report(
    capture: Path, wish: ReportOptions, limits: Limits | None = None, progress: Progress = quiet
) -> documents.ReportDocument:
    """The whole report. What a database can't tell is a note, and the rest is reported all the
    same.

    Raises AskLessError: see the reading of captures, project-file-bad, and what a database says
    that can't be asked at all.
    """
    files: list[FileReport] = []
    gathered = ReportParts(capture, wish)
    gathered.add(_with_progress(read(capture, files), progress))
    progress("looking for patterns")
    summary = gathered.summary()
    document = gathered.document(summary, notes_of(files))
    document = _asked(capture, summary, wish, limits, progress).put_into(document)
    if wish.before is not None:
        progress(f"comparing with {wish.before}")
        document = msgspec.structs.replace(document, comparison=compare(wish.before, capture))
    return document


class GrowingReport:
    """The report of a capture that grows: what is new is read, never what was read before.

    Plans and indexes are those of the beginning. Raises AskLessError: see `report`.
    """

    def __init__(
        self,
        capture: Path,
        wish: ReportOptions,
        limits: Limits | None = None,
        progress: Progress = quiet,
    ) -> None:
        files_of(capture)
        self._gathered = ReportParts(capture, wish)
        self._follower = Follower(capture, strict=True)
        self._wish = wish
        while self.look():
            progress(f"read {plural(self._gathered.count, 'request')}")
        self._asked = _asked(capture, self._gathered.summary(), wish, limits, progress)

    def look(self) -> bool:
        """Whether anything came since the last look."""
        before = self._gathered.count
        self._gathered.add(self._follower.new())
        return self._gathered.count > before

    def document(self) -> documents.ReportDocument:
        """What is known now."""
        document = self._asked.put_into(self._gathered.document(self._gathered.summary()))
        if self._wish.before is not None:
            document = msgspec.structs.replace(
                document, comparison=compare(self._wish.before, self._gathered.capture)
            )
        return document


def _with_progress(arriving: Iterable[Request], progress: Progress) -> Iterable[Request]:
    for count, request in enumerate(arriving, 1):
        if count % _TELL_EVERY == 0:
            progress(f"read {plural(count, 'request')}")
        yield request


class _Asked(msgspec.Struct, frozen=True):
    """What a database said of the statements of a capture; nothing if none was asked."""

    plans: documents.PlanDocument | None = None
    indexes: documents.IndexesDocument | None = None
    notes: tuple[str, ...] = ()

    def put_into(self, document: documents.ReportDocument) -> documents.ReportDocument:
        """The report with it."""
        notes = (*document.notes, *self.notes)
        return msgspec.structs.replace(
            document, plans=self.plans, indexes=self.indexes, notes=notes
        )


def _asked(
    path: Path, summary: Summary, wish: ReportOptions, limits: Limits | None, progress: Progress
) -> _Asked:
    """Plans and indexes; what can't be said is a note."""
    if wish.database is None:
        return _Asked()
    progress("reading plans from the database")
    plans = advised = None
    notes: tuple[str, ...] = ()
    try:
        workload = statement_selection.of_summary(path, summary, top=PLANS_MOST)
        plans = plan.live(wish.database, workload, plan.PlanOptions(values=wish.values), limits)
        progress("choosing indexes")
        whole = statement_selection.of_summary(path, summary)
        advised = indexes(path, wish.database, None, wish.values, limits, workload=whole)
    except AskLessError as error:
        if error.slug not in ("nothing-to-explain", "cant-explain", "other-schema"):
            raise
        lacking = "indexes" if plans is not None else "plans and no indexes"
        notes = (f"{error.message}: the report has no {lacking}",)
    return _Asked(plans, advised, notes)
