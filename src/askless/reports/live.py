"""What is seen of a capture while it is being made: requests as they end, and what is found in them
so far.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path

import msgspec

from askless.core.findings.finding import Finding
from askless.reports.documents import RequestRow
from askless.reports.findings import Choice
from askless.reports.growing_capture import GrowingCapture
from askless.reports.requests import row_of

_REST = 9  # judging takes a tenth of the time at most


class Look(msgspec.Struct, frozen=True):
    """What is new since the last look: requests in the order of their ends, and findings that were
    not there before.
    """

    requests: tuple[RequestRow, ...]
    findings: tuple[Finding, ...]


class Live:
    """Looks at a growing capture again and again. Raises AskLessError: project-file-bad."""

    def __init__(self, folder: Path, now: Callable[[], float] = time.monotonic) -> None:
        self._capture = GrowingCapture(folder, strict=False)
        self._known: set[str] = set()
        self._now = now
        self._judge_at_s = 0.0
        self._waiting = False  # whether requests have come since it was judged

    def look(self, last: bool = False) -> Look:
        """What is new; findings are looked for now and then, and at the `last` look."""
        requests = self._capture.new()
        self._waiting = self._waiting or bool(requests)
        findings: list[Finding] = []
        if self._waiting and (last or self._now() >= self._judge_at_s):
            began_s = self._now()
            judged = self._capture.findings(Choice()).findings
            findings = [finding for finding in judged if finding.key not in self._known]
            self._known.update(finding.key for finding in findings)
            self._waiting = False
            self._judge_at_s = self._now() + (self._now() - began_s) * _REST
        return Look(tuple(row_of(request, False) for request in requests), tuple(findings))
