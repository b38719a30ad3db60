"""Files that are the user's alone: what Ask Less keeps in the home of whoever runs it."""

from __future__ import annotations

import os
from pathlib import Path


def folder(variable: str, otherwise: str) -> Path:
    """Ask Less's folder where an XDG variable says, else below the home. Raises RuntimeError where there is no home."""
    named = os.environ.get(variable)
    return (Path(named) if named else Path.home() / otherwise) / "askless"


def write(file: Path, data: bytes) -> None:
    """Write a file of mode 0600 in one piece, in a folder of mode 0700. Raises OSError."""
    file.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    partial = file.with_name(f"{file.name}.{os.getpid()}")
    with open(os.open(partial, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "wb") as stream:
        stream.write(data)
    partial.replace(file)
