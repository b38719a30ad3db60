"""What a capture that is still being written adds up to: what is new is read, never what was read
before.
"""

from __future__ import annotations

from pathlib import Path

from askless.capture.following import Follower
from askless.capture.lines import files_of
from askless.core import patterns
from askless.core.aggregation.aggregator import Aggregator
from askless.core.records.model import Request
from askless.core.records.schema import Schema
from askless.project.file import here
from askless.reports import documents, findings, requests
from askless.reports.loading import notes_of


class GrowingCapture:
    """Follows a capture. `values` shows literals; `network_latency_ms` is an assumed way to the
    database.

    Raises AskLessError: project-file-bad and, if it is `strict`, capture-missing, capture-empty,
    and what is wrong with a file that is read.
    """

    def __init__(
        self,
        capture: Path,
        look: bool = True,
        values: bool = False,
        network_latency_ms: float = 0.0,
        schema: Schema | None = None,
        strict: bool = True,
    ) -> None:
        if strict:
            files_of(capture)
        self._capture = capture
        self._project = here()
        self._schema = schema
        settings = self._project.settings(values, network_latency_ms)
        self._network_latency_ms = network_latency_ms
        self._terms = self._project.terms()
        self._gatherer = Aggregator(list(patterns.load()) if look else [], settings)
        self._follower = Follower(capture, strict)

    def new(self) -> list[Request]:
        """The requests that have ended since the last look, in the project's own terms."""
        requests = list(self._terms.applied(self._follower.new()))
        for request in requests:
            self._gatherer.add(request)
        return requests

    def look(self) -> bool:
        """Whether anything came since the last look."""
        return bool(self.new())

    @property
    def _notes(self) -> tuple[str, ...]:
        return notes_of(self._follower.reports)

    def findings(self, choice: findings.Choice) -> documents.FindingsDocument:
        """The findings so far."""
        judged = findings.judged_from(self._gatherer.finish(), self._notes, self._schema)
        return findings.document_of(
            self._capture, judged, choice, network_latency_ms=self._network_latency_ms
        )

    def routes(self, wanted: str = "") -> documents.RequestsDocument:
        """The routes so far."""
        return requests.document_of(self._capture, self._gatherer.finish(), self._notes, wanted)
