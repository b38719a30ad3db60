"""The folder that a capture goes into."""

from __future__ import annotations

import os
import stat
import tempfile
from pathlib import Path

from askless.capture.lines import SUFFIXES
from askless.core.errors import AskLessError


def prepare_folder(folder: Path) -> Path:
    """Create the folder of a new capture. Raises AskLessError: folder-unwritable, folder-shared,
    folder-in-use.
    """
    try:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        # A name that no one can have put a link at, and no more than a block, which shows whether
        # the disk has room.
        with tempfile.NamedTemporaryFile(dir=folder, prefix=".askless-") as probe:
            probe.write(b"x" * 4096)
        if _is_shared(folder):
            raise AskLessError(
                "folder-shared",
                f"{folder} is writable by others, who could change the capture or add files to it",
                f"name a new folder with -o, or run: chmod go-w {folder}",
            )
    except OSError as error:
        raise AskLessError(
            "folder-unwritable",
            f"can't write into {folder}: {error.strerror}",
            "name another folder with -o",
        ) from None
    if any(entry.name.endswith(SUFFIXES) for entry in folder.iterdir()):
        raise AskLessError(
            "folder-in-use",
            f"{folder} already contains a capture",
            "name a new folder with -o, or delete the old capture",
        )
    return folder.resolve()


def _is_shared(folder: Path) -> bool:
    """Whether others than we may write into a folder; a group that we are the only one of by custom
    is none of them.
    """
    status = folder.stat()
    return bool(
        status.st_mode & stat.S_IWOTH
        or (status.st_mode & stat.S_IWGRP and status.st_gid != os.getegid())
        or status.st_uid not in (os.geteuid(), 0)
    )
