"""The folder that a capture goes into."""

from __future__ import annotations

from pathlib import Path

from askless.capture.lines import SUFFIXES
from askless.core.errors import AskLessError


def prepare_folder(folder: Path) -> Path:
    """Create the folder of a new capture. Raises AskLessError: folder-unwritable, folder-in-use."""
    try:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        probe = folder / ".askless-write-test"
        probe.write_bytes(b"x" * 4096)
        probe.unlink()
    except OSError as error:
        raise AskLessError(
            "folder-unwritable", f"can't write into {folder}: {error.strerror}", "name another folder with -o"
        ) from None
    if any(entry.name.endswith(SUFFIXES) for entry in folder.iterdir()):
        raise AskLessError(
            "folder-in-use", f"{folder} holds a capture already", "name a new folder with -o, or delete the old capture"
        )
    return folder.resolve()
