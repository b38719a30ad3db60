"""A capture, or what was recorded in this process, as typed rows and documents."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import partial
from pathlib import Path
from typing import cast

from askless.api.recovery import complete
from askless.api.tables import Findings, Plans, Table
from askless.capture.lines import files_of
from askless.capture.reading import FileReport
from askless.capture.remote import place
from askless.core import patterns as every_pattern
from askless.core.errors import AskLessError
from askless.core.progress import Progress, quiet
from askless.reports import columns, documents
from askless.reports.columns import (
    CallSiteRecord,
    QueryRecord,
    RequestRecord,
    ShapeRecord,
    TimedRequest,
)

TYPE_CHECKING = False
if TYPE_CHECKING:
    from askless.core.records.schema import Schema
    from askless.database.servers import Limits
    from askless.reports.findings import Choice


class Traffic:
    """Requests with their queries. `values`: literals, parameters and paths are shown; they may be
    private.
    """

    def __init__(self, values: bool = False) -> None:
        self.values = values

    def _arrived(self) -> Iterable[TimedRequest]:
        raise NotImplementedError

    @property
    def requests(self) -> Table[RequestRecord]:
        """The requests, in the order of their ends."""
        return Table(
            lambda: (columns.request_record(one, self.values) for one in self._arrived()),
            RequestRecord,
        )

    @property
    def queries(self) -> Table[QueryRecord]:
        """The queries, request by request, noise marked as such."""
        return Table(self._queries, QueryRecord)

    @property
    def shapes(self) -> Table[ShapeRecord]:
        """The shapes, the one that takes most time first."""
        return Table(lambda: self._totals().shapes(), ShapeRecord)

    @property
    def call_sites(self) -> Table[CallSiteRecord]:
        """The lines of code that ask, the one that takes most time first."""
        return Table(lambda: self._totals().places(), CallSiteRecord)

    def _queries(self) -> Iterator[QueryRecord]:
        for one in self._arrived():
            yield from columns.query_records(one.request, self.values)

    def _totals(self) -> columns.Totals:
        totals = columns.Totals(self.values)
        for one in self._arrived():
            totals.add(one.request)
        return totals

    def findings(
        self,
        *,
        route: str = "",
        patterns: Sequence[str] = (),
        with_accepted: bool = False,
        db: str | None = None,
        schema: str | os.PathLike[str] | None = None,
        network_latency_ms: float = 0.0,
    ) -> Findings:
        """Findings, the largest savings first.

        Raises AskLessError: no-pattern, project-file-bad, and what a database says.

        Only on routes that contain `route`, and of these `patterns` (all if none is named). `db` is
        the URL of a database and `schema` a file of `askless tables`: with either, keys and sizes
        of tables are known. `network_latency_ms` is added to each query.
        """
        from askless.reports.findings import Choice
        from askless.reports.loading import schema_of

        for name in patterns:
            if name not in every_pattern.REGISTRY:
                raise AskLessError(
                    "no-pattern", f"there is no pattern {name!r}", every_pattern.instead_of(name)
                )
        choice = Choice(route, tuple(patterns), with_accepted)
        known = schema_of(db, Path(schema) if schema is not None else None)
        return Findings(self._report(choice, known, network_latency_ms))

    @property
    def _report(self) -> Callable[[Choice, Schema | None, float], documents.FindingsDocument]:
        """What makes the document of findings."""
        raise NotImplementedError


class Capture(Traffic):
    """A capture on disk. What it says is read when it is asked for, as a stream."""

    def __init__(self, path: Path, values: bool = False) -> None:
        """Raises AskLessError: capture-missing, capture-empty."""
        super().__init__(values)
        files_of(path)
        self.path = path

    def __repr__(self) -> str:
        return f"<askless capture {self.path}>"

    @property
    def notes(self) -> tuple[str, ...]:
        """What was odd about the capture: torn lines, what the recorder could not see. Reads all of
        it.
        """
        from askless.reports.loading import notes_of

        files: list[FileReport] = []
        for _ in columns.arrived(self.path, files):
            pass
        return notes_of(files)

    def _arrived(self) -> Iterable[TimedRequest]:
        return columns.arrived(self.path)

    @property
    def _report(self) -> Callable[[Choice, Schema | None, float], documents.FindingsDocument]:
        from askless.reports.findings import findings

        return partial(findings, self.path, values=self.values)

    def routes(self, route: str = "") -> documents.RequestsDocument:
        """How much the requests of each route ask, as `askless requests` prints it."""
        from askless.reports.requests import by_route

        return by_route(self.path, route)

    def each(self, route: str = "") -> documents.EachDocument:
        """The requests one by one, as `askless requests --each` prints them."""
        from askless.reports.requests import each

        return each(self.path, route, self.values)

    def timeline(
        self, request: str = "", route: str = "", unfolded: bool = False
    ) -> documents.TimelineDocument:
        """The queries of a request in order, as `askless timeline` prints them; '' for the slowest
        of the routes.

        Raises AskLessError no-request.
        """
        from askless.reports.timeline import timeline

        return timeline(self.path, request, route, self.values, unfolded)

    def growth(self, route: str = "") -> documents.GrowthDocument:
        """How what routes ask grows with their rows, as `askless growth` prints it."""
        from askless.reports.growth import growth

        return growth(self.path, route)

    def over_time(self, route: str = "") -> documents.TrendDocument:
        """The statements that take most time, early and late, as `askless growth --over-time`
        prints it.
        """
        from askless.reports.growth import over_time

        return over_time(self.path, route, self.values)

    def plans(
        self,
        db: str,
        *,
        top: int | None = 5,
        shape: str = "",
        route: str = "",
        analyze: bool = False,
        limits: Limits | None = None,
        schema: Schema | None = None,
    ) -> Plans:
        """The plans of the statements that take most time (on routes that contain a text), from a
        database. Only read: see `askless plan --help`.

        Raises AskLessError: nothing-to-explain, cant-explain, and what the database says.
        """
        from askless.reports import plan, statement_selection

        wish = plan.PlanOptions(analyze, self.values, schema)
        workload = statement_selection.of_capture(self.path, top, shape, route)
        return Plans(plan.live(db, workload, wish, limits))

    def indexes(
        self,
        db: str | None = None,
        *,
        schema: Schema | None = None,
        limits: Limits | None = None,
        proving: Progress | None = None,
    ) -> documents.IndexesDocument:
        """One set of indexes for all that the capture asks, as `askless indexes` prints it."""
        from askless.reports.indexes import indexes

        return indexes(self.path, db, schema, self.values, limits, proving)

    def compare(self, after: Capture) -> documents.CompareDocument:
        """This capture before a change and another after it, as `askless compare` prints them."""
        from askless.reports.compare import compare

        return compare(self.path, after.path)

    def report(
        self,
        *,
        db: str | None = None,
        schema: str | os.PathLike[str] | None = None,
        before: Capture | None = None,
        network_latency_ms: float = 0.0,
        limits: Limits | None = None,
        progress: Progress = quiet,
    ) -> documents.ReportDocument:
        """All that is reported of the capture, as `askless report` writes it."""
        from askless.reports.report import ReportOptions, report

        wish = ReportOptions(
            db,
            Path(schema) if schema is not None else None,
            before.path if before else None,
            self.values,
            network_latency_ms,
        )
        return report(self.path, wish, limits, progress)

    def to_parquet(
        self, folder: str | os.PathLike[str], progress: Progress = quiet
    ) -> dict[str, int]:
        """Write requests, queries, shapes and call sites as Parquet files into a folder; how many
        rows of each.

        Raises AskLessError: columns-extra-missing, file-unwritable.
        """
        from askless.api.exporting import parquet

        return parquet(self.path, Path(folder), self.values, progress)

    def to_otlp(self, target: str | os.PathLike[str], progress: Progress = quiet) -> int:
        """Write the requests as spans of OpenTelemetry, findings as events: a file of JSON lines,
        or an endpoint's URL.

        How many requests. Raises AskLessError: file-unwritable, endpoint-refused.
        """
        from askless.api.exporting import otlp

        return otlp(self.path, str(target), self.values, progress)

    def gate(
        self,
        baseline: Capture | None = None,
        allow_missing: bool = False,
        allow_damaged: bool = False,
    ) -> documents.GateDocument:
        """The capture judged by the project's budgets, and by one from before, as `askless gate`
        prints it.

        Raises AskLessError: no-budgets, other-application, project-file-bad, and capture-damaged
        unless that is allowed.
        """
        from askless.reports.gate import gate

        return gate(
            self.path, baseline.path if baseline is not None else None, allow_missing, allow_damaged
        )


def read(path: str | os.PathLike[str], *, values: bool = False) -> Capture:
    """A capture: a file, or a folder of files. Raises AskLessError: capture-missing, capture-empty,
    later what is wrong with it.

    `values`: show literals, parameters and paths, which may be private.
    """
    target = place(path) if isinstance(path, str) else cast(Path, path)
    complete(target)
    return Capture(target, values)
