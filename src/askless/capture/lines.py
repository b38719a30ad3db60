"""The bytes of a capture file, line by line: compressed or not, torn or whole. What a line says is
not looked at here.
"""

from __future__ import annotations

import gzip
import io
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from functools import partial
from math import inf
from pathlib import Path
from typing import IO, Any

from askless.capture.remote import is_remote, reached
from askless.core.errors import AskLessError

SUFFIXES = (".jsonl", ".jsonl.gz", ".jsonl.zst")
LINE_MOST_BYTES = 64 * 1024**2
_REMOTE_BYTES = 1024**2  # that are asked for at a time, of a store


class TornInput(Exception):
    """The stream ends before its last line does, or can't be uncompressed any further."""


def files_of(path: Path) -> list[Path]:
    """The files of a capture: the file itself, or the capture files of a folder, by name.

    Raises AskLessError `capture-missing` or `capture-empty`.
    """
    with reached(path):
        return _files_of(path)


def _files_of(path: Path) -> list[Path]:
    if not path.exists():
        raise AskLessError(
            "capture-missing",
            f"there is no capture at {path}",
            "check the path, or record one: askless capture app -o DIR -- PROGRAM",
        )
    if not path.is_dir():
        return [path]
    results = sorted(
        file for file in path.iterdir() if file.name.endswith(SUFFIXES) and file.is_file()
    )
    if not results:
        raise AskLessError(
            "capture-empty",
            f"the folder {path} contains no capture file (*.jsonl, *.jsonl.gz, *.jsonl.zst)",
            "record one into it: askless capture app -o " + str(path) + " -- PROGRAM",
        )
    return results


def unreadable(path: Path, error: OSError) -> AskLessError:
    """What to say of a file that can't be read."""
    gone = isinstance(error, FileNotFoundError)
    remedy = (
        "a recorder with --max-size deletes the oldest files: run the command again"
        if gone
        else "check its permissions"
    )
    return AskLessError(
        "capture-unreadable", f"can't read {path}: {error.strerror or error}", remedy
    )


@contextmanager
def opened(path: Path) -> Iterator[IO[bytes]]:
    """A capture file, uncompressed as it is read. Raises AskLessError: capture-unreadable,
    zst-missing.
    """
    try:
        with reached(path):
            raw = path.open("rb")
    except OSError as error:
        raise unreadable(path, error) from None
    with raw:
        if path.name.endswith(".gz"):
            yield io.BufferedReader(gzip.GzipFile(fileobj=raw))
        elif path.name.endswith(".zst"):
            yield io.BufferedReader(_zstandard(path).stream_reader(raw))
        elif is_remote(path):  # whose own lines know no limit
            yield io.BufferedReader(raw, _REMOTE_BYTES)
        else:
            yield raw


def _zstandard(path: Path) -> Any:
    try:
        import zstandard
    except ImportError:
        raise AskLessError(
            "zst-missing",
            f"{path} is compressed with zstd",
            "install the extra: pip install 'ask-less[zst]'",
        ) from None
    return zstandard.ZstdDecompressor()


def lines_of(stream: IO[bytes], most_bytes: float = inf) -> Iterator[bytes]:
    """The lines, each with its newline, until so many bytes were read; one that is longer than any
    recorder writes comes cut, without its newline.

    Raises Torn if the stream can't be read any further.
    """
    read = partial(stream.readline, LINE_MOST_BYTES)
    try:
        for line in iter(read, b""):
            yield line
            most_bytes -= len(line)
            if most_bytes <= 0:
                return
            if len(line) == LINE_MOST_BYTES and line[-1] != 10:
                while (rest := read()) and rest[-1] != 10:
                    pass
    except (OSError, EOFError, zlib.error) as error:
        raise TornInput(str(error)) from None
    except Exception as error:
        if type(error).__name__ != "ZstdError":
            raise
        raise TornInput(str(error)) from None
