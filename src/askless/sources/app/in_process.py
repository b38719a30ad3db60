"""Records this very process, and gives its requests as they end. Nothing is written to disk."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from importlib import import_module
from pathlib import Path
from typing import Any

from askless.capture.events import Capture
from askless.capture.reading import Feed
from askless.core.records.model import Request

INJECT = Path(__file__).resolve().parents[2] / "probe" / "inject"
_HEADER = '{"event":"capture"'
# requests kept; a test run that ends more of them in one block is not a test run
ENDS_MOST = 100_000


class InProcessRecorder:
    """The recorder of this process. `requests` are those that have ended, in order."""

    def __init__(self, strict: dict[str, Any] | None = None, keep: bool = False) -> None:
        """With `keep`, `files` are the lines of the capture files that would be written."""
        self.requests: list[Request] = []
        self.files: list[list[str]] = []
        self.damage = ""  # why a line of the recorder's could not be read
        self._keep = keep
        self._feed = Feed()
        self._load()
        self.recorder: Any = import_module("askless_probe.recorder")
        running = self.recorder.active
        if not running:
            import_module("askless_probe.bootstrap").configure({})
            import_module("askless_probe.lifecycle").install_at_fork()
            import_module("askless_probe.imports").install()
        else:  # under `askless capture app`: what was written so far stays, all texts are reported again
            self.recorder.flush_all(False)
            self.recorder.restart_writer()
        # Anyone who listened before goes on hearing: a block may stand inside of one.
        self._before = self.recorder.writer.tap
        self.recorder.writer.tap = self._take
        if strict is not None:
            import_module("askless_probe.strict").configure(strict)

    def _load(self) -> None:
        """Import the recorder's package, which lies outside of ours so that it can be injected
        elsewhere.
        """
        if "askless_probe" not in sys.modules:
            sys.path.insert(0, str(INJECT))
            try:
                import_module("askless_probe")
            finally:
                sys.path.remove(str(INJECT))

    def _take(self, lines: list[str]) -> None:
        if self._before is not None:
            self._before(lines)
        for line in lines:
            if line.startswith(_HEADER):
                self._begin_file()
            if self._keep:
                self.files[-1].append(line)
            self._feed.report.lines += 1
            ended = self._feed.take(line.encode("ascii"))
            if self._feed.report.bad_lines:
                self.damage = self.damage or self._feed.report.bad_lines[0][1]
            if ended is not None and len(self.requests) < ENDS_MOST:
                self.requests.append(ended)

    @property
    def header(self) -> Capture | None:
        """What the recorder says of itself and its clock."""
        return self._feed.report.header

    def _begin_file(self) -> None:
        """Someone else began to listen, and everything is reported again: what is open goes on in
        another file.
        """
        self.requests += [request for request in self._feed.assembly.left_open() if len(request)]
        self._feed = Feed()
        self.files.append([])

    def begin(self, name: str) -> Callable[[], list[Request]]:
        """Open a block. The function that is returned ends it and gives the requests that ended in
        it.
        """
        opened = self.recorder.begin("block", name)
        first = len(self.requests)

        def end() -> list[Request]:
            for request in list(self.recorder.open_requests.values()):
                # the application has returned; a test client left the response unread
                if request.finish is not None:
                    request.finish()
            self.recorder.end(*opened)
            return self.requests[first:]

        return end

    def close(self) -> None:
        """Listen no longer; what is recorded after this is not kept."""
        self.recorder.flush_all(False)
        self.recorder.writer.tap = self._before

    def forget(self) -> None:
        """Let go of the requests that were kept; no block may be open."""
        self.requests.clear()


def own_queries(requests: list[Request]) -> Iterator[tuple[Request, int]]:
    """The queries of some requests that the application's author wrote."""
    for request in requests:
        for i in range(len(request)):
            if not request.statement(i).shape.noise:
                yield request, i
