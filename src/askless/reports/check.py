"""Whether a capture is whole, file by file."""

from __future__ import annotations

from pathlib import Path

from askless.capture import checking
from askless.capture.reading import FileReport
from askless.reports import documents


def check(path: Path) -> documents.CheckDocument:
    """Read every file of a capture to its end. Raises AskLessError if it is not a capture at
    all.
    """
    files = checking.check(path)
    return documents.CheckDocument(
        format="askless check",
        capture=str(path),
        files=tuple(map(_file, files)),
        sound=all(file.is_sound for file in files),
    )


def _file(report: FileReport) -> documents.FileCheck:
    header = report.header
    assert header is not None
    return documents.FileCheck(
        file=str(report.path),
        version=header.version,
        recorder=header.recorder,
        program=header.program,
        lines=report.lines,
        requests=report.requests,
        open_requests=report.open_requests,
        queries=report.queries,
        truncated=report.torn,
        closed=report.closed,
        bad_lines=tuple(documents.BadLine(*one) for one in report.bad_lines),
        incomplete=report.is_cut_short,
        lost=tuple(documents.LostInput(one.count, one.what, one.reason) for one in report.lost),
        notes=tuple(report.notes),
    )
