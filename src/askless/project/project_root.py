"""Where a project begins: the folder that its files are named from."""

from __future__ import annotations

from pathlib import Path

from askless.project.file import nearest

_MARKS = (".git", "pyproject.toml")


def root(folder: Path | None = None) -> Path:
    """The folder of the project's askless.toml, else the nearest one above that is under version
    control, else this one.
    """
    start = (folder or Path()).resolve()
    named = nearest(start)
    if named is not None:
        return named.parent
    for mark in _MARKS:
        for above in (start, *start.parents):
            if (above / mark).exists():
                return above
    return start
