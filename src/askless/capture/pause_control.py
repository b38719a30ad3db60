"""The file by which a recording is paused and resumed: recorders look at it, once a second at most,
as requests begin.
"""

from __future__ import annotations

import os
import tempfile
from pathlib import Path

from askless.core.errors import AskLessError

NAME = "control"  # as the recorder has it: probe/inject/askless_probe/sampling.py
PAUSE = "pause"


def tell(folder: Path, word: str) -> None:
    """Write a word for the recorders of a folder. Raises AskLessError: capture-missing,
    capture-unwritable.
    """
    if not folder.is_dir():
        raise AskLessError(
            "capture-missing",
            f"{folder} is not a capture folder",
            "use the folder given to askless capture -o",
        )
    try:
        handle, partial = tempfile.mkstemp(prefix=f".{NAME}.", dir=folder)  # no link is followed
        with os.fdopen(handle, "w") as stream:
            stream.write(word + "\n")
        Path(partial).replace(folder / NAME)
    except OSError as error:
        raise AskLessError(
            "capture-unwritable", f"can't write into {folder}: {error.strerror}", "check the folder"
        ) from None


def is_paused(folder: Path) -> bool:
    """Whether the control file says so."""
    try:
        return (folder / NAME).read_text().strip() == PAUSE
    except OSError:
        return False
