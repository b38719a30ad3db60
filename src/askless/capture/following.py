"""Reads a capture that is still being written: what is new since the last look."""

from __future__ import annotations

from pathlib import Path

from askless.capture.lines import LINE_MOST_BYTES
from askless.capture.reading import Feed
from askless.core.errors import AskLessError
from askless.core.model import Request

_SUFFIX = ".jsonl"
_LOOK_BYTES = 4 * 1024**2  # of one file that are read in one look


class _File:
    def __init__(self, path: Path) -> None:
        self.feed = Feed(path)
        self.position = 0
        self.torn = b""  # the beginning of a line whose end is not written yet
        self.given_up = False


class Follower:
    """Follows the files of a folder, those as well that appear later; what can't be read is left to the reports."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._files: dict[Path, _File] = {}

    def new(self) -> list[Request]:
        """The requests that have ended since the last call."""
        found: list[Request] = []
        for path in sorted(self.folder.glob(f"*{_SUFFIX}")):
            file = self._files.get(path)
            if file is None:
                file = self._files[path] = _File(path)
            if not file.given_up:
                found += self._read(path, file)
        return found

    def _read(self, path: Path, file: _File) -> list[Request]:
        try:
            with path.open("rb") as stream:
                stream.seek(file.position)
                data = stream.read(_LOOK_BYTES)
        except OSError:
            return []
        file.position += len(data)
        *lines, file.torn = (file.torn + data).split(b"\n")
        found: list[Request] = []
        try:
            for line in lines:
                request = file.feed.take(line) if line else None
                if request is not None:
                    found.append(request)
        except AskLessError:
            file.given_up = True
        file.given_up = file.given_up or len(file.torn) > LINE_MOST_BYTES
        return found
