"""A file that a source reads, uncompressed where its first bytes say that it is gzip's."""

from __future__ import annotations

import gzip
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from io import BufferedReader
from pathlib import Path
from typing import cast

from askless.core.errors import AskLessError

_GZIP = b"\x1f\x8b"


@contextmanager
def unpacked(path: Path, missing: str, unreadable: str) -> Iterator[BufferedReader]:
    """A file to read, within this block. Raises AskLessError of these slugs: it can't be opened or
    read, or uncompressed.
    """
    try:
        with path.open("rb") as raw:
            # A GzipFile has all of a BufferedReader that is used of one.
            yield (
                cast(BufferedReader, gzip.GzipFile(fileobj=raw))
                if raw.peek(2)[:2] == _GZIP
                else raw
            )
    except (gzip.BadGzipFile, EOFError, zlib.error) as error:
        raise AskLessError(
            unreadable,
            f"{path} could not be decompressed completely: {error}",
            "the part before that was read",
        ) from None
    except OSError as error:
        raise AskLessError(
            missing, f"can't read {path}: {error.strerror or error}", "check the path"
        ) from None
