"""Captures elsewhere: object stores, network folders, whatever fsspec has a protocol for, as
paths.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import cast

from askless.core.errors import AskLessError


def place_of(url: str) -> Path:
    """The place of a URL, which is read as a path is. Raises AskLessError: remote-extra-missing,
    bad-url.
    """
    try:
        from upath import UPath
    except ImportError:
        raise AskLessError(
            "remote-extra-missing",
            f"{url} is read by fsspec, which is not installed",
            "pip install 'ask-less[remote]'",
        ) from None
    try:
        return cast(Path, UPath(url))
    except (ImportError, ValueError, OSError) as error:
        raise AskLessError(
            "bad-url",
            f"{url} can't be read: {error}",
            "install the package for its protocol, e.g.: pip install s3fs",
        ) from None


def is_remote(path: Path) -> bool:
    """Whether a place is none of this machine's file system."""
    return not isinstance(path, Path)


@contextmanager
def reached(path: Path) -> Iterator[None]:
    """What a store answers is said in our words: each has errors of its own. Raises AskLessError
    capture-unreadable.
    """
    try:
        yield
    except AskLessError:
        raise
    except Exception as error:
        if not is_remote(path):
            raise
        text = " ".join(str(error).split())[:300]
        raise AskLessError(
            "capture-unreadable",
            f"can't read {path}: {type(error).__name__}: {text}",
            "check the URL and your access rights",
        ) from None


def place(text: str) -> Path:
    """A path, or the place of a URL, as `str` of one says it."""
    return place_of(text) if "://" in text else Path(text)
