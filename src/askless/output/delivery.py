"""The one place that opens, encodes and cleans up: documents onto standard output, or into
files.
"""

from __future__ import annotations

import contextlib
import os
import sys
import tempfile
from collections.abc import Collection, Iterator
from pathlib import Path
from typing import BinaryIO

from askless.core.errors import AskLessError
from askless.output.formats import View, check_fits, format_for, format_of
from askless.output.paging import paged
from askless.reports.documents import Document, name_of


def to_stdout(document: Document, format_name: str = "terminal", view: View | None = None) -> None:
    """Write a document onto standard output. Raises AskLessError no-format."""
    result = format_of(format_name)
    check_fits(format_name, document)
    content = result.render(document, view or View())
    sys.stdout.flush()
    if format_name == "terminal" and paged(content):
        return
    raw = getattr(sys.stdout, "buffer", None)
    if raw is None:  # a notebook's or a test's own stream
        sys.stdout.write(content.decode("utf-8"))
    elif (sys.stdout.encoding or "utf-8").lower().replace("-", "") == "utf8":
        raw.write(content)
    else:
        raw.write(content.decode("utf-8").encode(sys.stdout.encoding, "replace"))
    sys.stdout.flush()


def check_target(path: Path, document: str, among: Collection[str] = ()) -> None:
    """Raises AskLessError if a document of this name could not be written into a file: better
    before long work.
    """
    format_for(path, document, among).check()
    _check_folder(path)


def _check_folder(path: Path) -> None:
    if not path.parent.is_dir():
        raise AskLessError("no-folder", f"there is no folder {path.parent}", "create it first")


def to_file(document: Document, path: Path, view: View | None = None) -> None:
    """Write a document into a file that only its owner can read; the file is whole, or as it was
    before.

    Raises AskLessError: no-format, no-folder, file-unwritable.
    """
    name = name_of(document)
    check_target(path, name)
    content = format_for(path, name).render(document, view or View())
    with whole_file(path) as file:
        file.write(content)


def bytes_to_file(content: bytes, path: Path) -> None:
    """Write bytes into a file that only its owner can read. Raises AskLessError: no-folder,
    file-unwritable.
    """
    _check_folder(path)
    with whole_file(path) as file:
        file.write(content)


@contextlib.contextmanager
def whole_file(path: Path) -> Iterator[BinaryIO]:
    """A file that only its owner can read: it is in its place once the block has ended well, and
    else as it was before.

    Raises AskLessError file-unwritable.
    """
    try:
        handle, partial = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent)  # mode 0600
        try:
            with os.fdopen(handle, "wb") as file:
                yield file
            Path(partial).replace(path)
        except BaseException:
            with contextlib.suppress(OSError):
                Path(partial).unlink()
            raise
    except OSError as error:
        raise AskLessError(
            "file-unwritable",
            f"can't write {path}: {error.strerror}",
            "name another file, or free disk space",
        ) from None
