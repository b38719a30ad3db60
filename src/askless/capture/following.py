"""Reads a capture that is still being written: what is new since the last look."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from askless.capture.lines import LINE_MOST_BYTES, SUFFIXES
from askless.capture.reading import Feed, FileReport, Reader
from askless.core.errors import AskLessError
from askless.core.records.model import Request

_SUFFIX = ".jsonl"
_LOOK_BYTES = 4 * 1024**2  # of one file that are read in one look


class _File:
    def __init__(self, path: Path) -> None:
        self.feed = Feed(path)
        self.report = self.feed.report
        self.position = 0
        self.torn = b""  # the beginning of a line whose end is not written yet
        self.given_up = False

    def close(self) -> None:
        """Nothing more is read: what its queries referred to is released."""
        self.given_up = True
        self.feed, self.torn = Feed(self.report.path), b""


class Follower:
    """Follows a file, or the files of a folder, those as well that appear later.

    What can't be read is left to the reports, unless it is `strict`.
    """

    def __init__(self, capture: Path, strict: bool = False) -> None:
        self.capture = capture
        self.strict = strict
        self._files: dict[Path, _File] = {}

    @property
    def reports(self) -> list[FileReport]:
        """What each file has told so far."""
        return [file.report for file in self._files.values()]

    def new(self) -> Iterator[Request]:
        """The requests that have ended since the last call. Raises AskLessError if it is strict:
        see `read`.
        """
        for path in self._paths():
            file = self._files.get(path)
            if file is None:
                file = self._files[path] = _File(path)
            if file.given_up:
                continue
            try:
                yield from self._read(path, file)
            except AskLessError:
                file.close()
                if self.strict:
                    raise
            if file.report.closed:
                file.close()

    def _paths(self) -> list[Path]:
        if not self.capture.is_dir():
            return [self.capture]
        return sorted(path for path in self.capture.iterdir() if path.name.endswith(SUFFIXES))

    def _read(self, path: Path, file: _File) -> Iterator[Request]:
        # compressed: it does not grow any more
        if not path.name.endswith(_SUFFIX) and path.name.endswith(SUFFIXES):
            file.given_up = True
            yield from Reader(path)
            return
        try:
            with path.open("rb") as stream:
                stream.seek(file.position)
                data = stream.read(_LOOK_BYTES)
        except OSError:
            return
        file.position += len(data)
        *lines, file.torn = (file.torn + data).split(b"\n")
        for line in lines:
            request = file.feed.take(line) if line else None
            if request is not None:
                yield request
        file.given_up = file.given_up or len(file.torn) > LINE_MOST_BYTES
