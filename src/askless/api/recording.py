"""Records this process for the length of a block: in a program, a notebook or a test."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

import msgspec

from askless.api.captures import Traffic
from askless.capture.events import Close
from askless.core.errors import AskLessError
from askless.core.records.model import Request
from askless.core.records.schema import Schema
from askless.project.file import Project, here
from askless.reports import documents
from askless.reports.columns import TimedRequest, with_clock
from askless.sources.app.in_process import InProcessRecorder

TYPE_CHECKING = False
if TYPE_CHECKING:
    from askless.reports.findings import Choice


class Recording(Traffic):
    """What was recorded so far: requests that have ended, and once the block has ended, the block
    itself.
    """

    def __init__(self, inside: InProcessRecorder, values: bool = False) -> None:
        super().__init__(values)
        self._inside = inside
        self.path: Path | None = None

    def __repr__(self) -> str:
        return f"<askless recording of {len(self._inside.requests)} requests>"

    def _arrived(self) -> Iterable[TimedRequest]:
        return [with_clock(request, self._inside.header) for request in self._requests(here())]

    def _requests(self, project: Project) -> Iterator[Request]:
        """What was recorded, in the project's own terms."""
        return project.terms().applied(iter(self._inside.requests))

    @property
    def _report(self) -> Callable[[Choice, Schema | None, float], documents.FindingsDocument]:
        return self._findings

    def _findings(
        self, choice: Choice, schema: Schema | None, network_latency_ms: float
    ) -> documents.FindingsDocument:
        from askless.core.analysis.pipeline import summarise
        from askless.reports import findings

        project = here()
        settings = project.settings(self.values, network_latency_ms)
        summary = summarise(self._requests(project), settings)
        judged = findings.judged_from(summary, (), schema)
        return findings.document_of(
            self.path or Path("recording"), judged, choice, None, network_latency_ms
        )


@contextmanager
def record(
    name: str = "recording", *, to: str | os.PathLike[str] | None = None, values: bool = False
) -> Iterator[Recording]:
    """Record what this process asks while the block runs; what runs outside of requests is a
    request called `name`.

    `to` is a folder that the recording is written into, as a capture for the commands; nothing is
    written without. Of a connection that was opened before the first such block, nothing may be
    seen: open it inside. Drivers, frameworks and ORMs stay watched after the block, at some
    microseconds a query; nothing is kept of that.

    Raises AskLessError: file-unwritable.

        >>> import askless, sqlite3
        >>> with askless.record("two vessels") as run:
        ...     db = sqlite3.connect(":memory:")
        ...     for number in (1, 2):
        ...         row = db.execute("SELECT ? AS id", [number]).fetchone()
        >>> [(query.statement, query.rows) for query in run.queries]
        [('SELECT ? AS id', 1), ('SELECT ? AS id', 1)]
    """
    inside = InProcessRecorder(keep=to is not None)
    recording = Recording(inside, values)
    end = inside.begin(name)
    try:
        yield recording
    finally:
        end()
        inside.close()
        if to is not None:
            recording.path = Path(to)
            for number, lines in enumerate(inside.files):
                if any(line.startswith(_QUERIES) for line in lines) or len(inside.files) == 1:
                    _write(Path(to), number, lines)


_QUERIES = '{"event":"queries"'
_LAST = msgspec.json.encode(Close(0, 0)).decode()


def _write(folder: Path, number: int, lines: list[str]) -> None:
    """A capture file of lines as the recorder writes them, which only its owner can read."""
    file = folder / f"{os.getpid()}-{time.time_ns() // 1_000_000}-{number}.askless.jsonl"
    try:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        with open(
            os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "w", encoding="ascii"
        ) as stream:
            stream.write("".join(line + "\n" for line in [*lines, _LAST]))
    except OSError as error:
        raise AskLessError(
            "file-unwritable",
            f"can't write {file}: {error.strerror}",
            "name another folder, or free disk space",
        ) from None
